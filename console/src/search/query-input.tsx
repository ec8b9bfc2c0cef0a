import { keepPreviousData } from "@tanstack/react-query";
import { useState, type KeyboardEvent } from "react";
import { searchQueries } from "./calls";
import { TextInput } from "../ui/dialog";
import { useQuery } from "../ui/parts";

/** QueryInput is where a query is typed; it proposes keys and values for the last term. */
export function QueryInput({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const [at, setAt] = useState(-1);
  const [open, setOpen] = useState(false);
  const query = useQuery({
    ...searchQueries.completions(value),
    enabled: value !== "",
    placeholderData: keepPreviousData,
  });
  const all = open && value !== "" ? (query.data ?? []) : [];
  const take = (text: string) => {
    const last = value.search(/[^\s,]*$/);
    onChange(value.slice(0, last) + text + (text.endsWith(":") ? "" : " "));
    setAt(-1);
  };
  const keys = (e: KeyboardEvent) => {
    const chosen = all[at];
    if (e.key === "ArrowDown" && all.length > 0) setAt((at + 1) % all.length);
    else if (e.key === "ArrowUp" && all.length > 0) setAt((at + all.length - 1) % all.length);
    else if ((e.key === "Enter" || e.key === "Tab") && chosen) take(chosen.text);
    else if (e.key === "Escape") setOpen(false);
    else return;
    e.preventDefault();
  };
  return (
    <div className="relative max-w-3xl">
      <TextInput
        autoFocus
        role="combobox"
        aria-label="Search"
        aria-expanded={all.length > 0}
        aria-controls="query-completions"
        aria-activedescendant={at >= 0 ? `completion-${at}` : undefined}
        autoComplete="off"
        spellCheck={false}
        className="font-mono"
        placeholder="berth repo:releases age:>30d"
        value={value}
        onChange={(e) => {
          setOpen(true);
          setAt(-1);
          onChange(e.target.value);
        }}
        onKeyDown={keys}
        onBlur={() => setOpen(false)}
      />
      {all.length > 0 && (
        <ul
          id="query-completions"
          role="listbox"
          className="absolute z-10 mt-1 max-h-72 w-full overflow-y-auto rounded border border-rule bg-sheet py-1 text-sm shadow-lg"
        >
          {all.map((c, i) => (
            <li
              key={c.text}
              id={`completion-${i}`}
              role="option"
              aria-selected={i === at}
              // The field must keep the focus.
              onMouseDown={(e) => {
                e.preventDefault();
                take(c.text);
              }}
              className={`flex cursor-pointer justify-between gap-4 px-3 py-1 ${i === at ? "bg-wash" : "hover:bg-wash/60"}`}
            >
              <span className="font-mono">{c.text}</span>
              <span className="truncate text-soft">{c.means}</span>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
