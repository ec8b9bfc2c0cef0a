/** bytes writes a size with a binary unit. */
export function bytes(n: number): string {
  if (n < 1024) return `${n} B`;
  let value = n;
  for (const unit of ["KiB", "MiB", "GiB", "TiB"]) {
    value /= 1024;
    if (value < 1024) return `${value.toFixed(1)} ${unit}`;
  }
  return `${value.toFixed(1)} TiB`;
}

export function count(n: number, one: string, many = one + "s"): string {
  return `${n.toLocaleString("en")} ${n === 1 ? one : many}`;
}

const exact = new Intl.DateTimeFormat("en-GB", {
  year: "numeric",
  month: "short",
  day: "numeric",
  hour: "2-digit",
  minute: "2-digit",
  timeZoneName: "short",
});

/** moment writes a time with its zone. */
export function moment(iso: string): string {
  return exact.format(new Date(iso));
}

const relative = new Intl.RelativeTimeFormat("en", { numeric: "auto" });

/** ago writes how long ago a time is. */
export function ago(iso: string, now = Date.now()): string {
  const seconds = Math.round((new Date(iso).getTime() - now) / 1000);
  const size = Math.abs(seconds);
  if (size < 45) return "just now";
  if (size < 3600) return relative.format(Math.round(seconds / 60), "minute");
  if (size < 86400) return relative.format(Math.round(seconds / 3600), "hour");
  if (size < 86400 * 60) return relative.format(Math.round(seconds / 86400), "day");
  return relative.format(Math.round(seconds / 86400 / 30), "month");
}

/** coordinates is a package's name as people of its ecosystem write it. */
export function coordinates(p: { ecosystem: string; namespace: string; name: string }): string {
  if (!p.namespace) return p.name;
  return p.namespace + (p.ecosystem === "maven" ? ":" : "/") + p.name;
}

/** asPurl makes a package URL of what people type: one, or group:name:version. Where
    several ecosystems are possible, Maven alone is written with colons. */
export function asPurl(text: string, only?: string): string {
  const typed = text.trim();
  if (typed === "" || typed.startsWith("pkg:")) return typed;
  const [group, name, version] = typed.split(":");
  const ecosystem = only ?? (name ? "maven" : "npm");
  if (!name) return `pkg:${ecosystem}/${group}`;
  return `pkg:${ecosystem}/${group}/${name}${version ? `@${version}` : ""}`;
}

/** seconds writes a length of time. */
export function seconds(n: number): string {
  if (n < 0.001) return `${(n * 1000).toFixed(2)} ms`;
  if (n < 1) return `${(n * 1000).toFixed(n < 0.01 ? 1 : 0)} ms`;
  if (n < 120) return `${+n.toFixed(1)} s`;
  if (n < 7200) return `${+(n / 60).toFixed(1)} min`;
  return `${+(n / 3600).toFixed(1)} h`;
}

/** lines splits what stands in a text area. */
export function lines(text: string): string[] {
  return text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);
}

/** packagePath is the console's address of a package or version. */
export function packagePath(purl: string): string {
  return "/package/" + purl.replace(/^pkg:/, "");
}

/** buildPath is the console's address of a build, NAME#NUMBER. */
export function buildPath(title: string): string {
  return "/builds/" + title.split("#").map(encodeURIComponent).join("/");
}

/** shortName is the name of a package without its namespace. */
export function shortName(purl: string): string {
  const path = purl.replace(/^pkg:/, "").replace(/@[^/]*$/, "");
  return decodeURIComponent(path.slice(path.lastIndexOf("/") + 1));
}

/** shortVersion is a version for people: a digest is cut, any other is as it is. */
export function shortVersion(version: string): string {
  return version.replace(/^(sha\d+:[0-9a-f]{12})[0-9a-f]{52,}$/, "$1");
}

/** versionOf is the version of a package URL for people: its tag, if it names one. */
export function versionOf(purl: string): string {
  const [path = "", query = ""] = purl.split("?");
  return new URLSearchParams(query).get("tag") ?? shortVersion(path.slice(path.lastIndexOf("@") + 1));
}

/** sizeOf reads a size as people type it, in bytes: 2 GiB, 500M; NaN if it is none. */
export function sizeOf(text: string): number {
  const typed = /^\s*(\d+(?:\.\d+)?)\s*([KMGT]?)(?:i?B)?\s*$/i.exec(text);
  if (!typed) return NaN;
  return Math.round(Number(typed[1]) * 1024 ** " KMGT".indexOf((typed[2] || " ").toUpperCase()));
}

/** save lets a person keep content as a file. */
export function save(content: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
