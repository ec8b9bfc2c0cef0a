type Theme = "light" | "dark";

const key = "crelvo-theme";

function wanted(): Theme {
  const kept = localStorage.getItem(key);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

/** applyTheme shows the kept theme, or the system's. */
export function applyTheme() {
  document.documentElement.dataset.theme = wanted();
}

export function toggleTheme() {
  localStorage.setItem(key, wanted() === "dark" ? "light" : "dark");
  applyTheme();
}
