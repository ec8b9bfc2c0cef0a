import { keepPreviousData } from "@tanstack/react-query";
import { Box, Folder } from "lucide-react";
import { useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { repositoriesQueries } from "../repositories/calls";
import { searchQueries } from "./calls";
import { Dialog } from "../ui/dialog";
import { coordinates, packagePath } from "../ui/format";
import { useQuery } from "../ui/parts";

type Target = { key: string; text: string; note: string; to: string; repository: boolean };

/** Palette finds repositories and packages as one types. */
export function Palette({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const repositories = useQuery({ ...repositoriesQueries.repositories(), enabled: open });
  const found = useQuery({
    ...searchQueries.newest(text, 12),
    enabled: open && text.trim() !== "",
    placeholderData: keepPreviousData,
  });
  useEffect(() => setAt(0), [text]);
  useEffect(() => {
    if (open) setText("");
  }, [open]);
  const targets = useMemo(() => {
    const all: Target[] = [];
    for (const r of repositories.data ?? []) {
      if (r.name.includes(text.trim().toLowerCase())) {
        all.push({
          key: "r" + r.name,
          text: r.name,
          note: r.description,
          to: `/repositories/${r.name}`,
          repository: true,
        });
      }
    }
    const seen = new Set<string>();
    for (const p of text.trim() ? (found.data?.packages ?? []) : []) {
      if (seen.has(p.purl)) continue;
      seen.add(p.purl);
      all.push({ key: p.purl, text: coordinates(p), note: p.description, to: packagePath(p.purl), repository: false });
    }
    if (text.trim())
      all.push({
        key: "all",
        text: `All packages with “${text.trim()}”`,
        note: "",
        to: `/search?q=${encodeURIComponent(text.trim())}`,
        repository: false,
      });
    return all;
  }, [repositories.data, found.data, text]);
  const go = (target: Target | undefined) => {
    if (!target) return;
    onOpenChange(false);
    void navigate(target.to);
  };
  return (
    <Dialog
      open={open}
      onOpenChange={onOpenChange}
      title="Find"
      description="Type a part of a repository's or package's name; arrow keys choose, Enter opens."
    >
      <input
        autoFocus
        role="combobox"
        aria-expanded="true"
        aria-controls="palette-list"
        aria-activedescendant={targets[at] && `palette-${at}`}
        aria-label="Search"
        placeholder="berth planner"
        className="mb-2 h-10 w-full rounded border border-rule bg-paper px-3"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(Math.min(at + 1, targets.length - 1));
          else if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
          else if (e.key === "Enter") go(targets[at]);
          else return;
          e.preventDefault();
        }}
      />
      <ul id="palette-list" role="listbox" aria-label="Found">
        {targets.map((t, i) => (
          <li
            key={t.key}
            id={`palette-${i}`}
            role="option"
            aria-selected={i === at}
            className={`flex cursor-pointer items-center gap-2.5 rounded px-2.5 py-1.5 ${i === at ? "bg-wash" : ""}`}
            onMouseMove={() => setAt(i)}
            onClick={() => go(t)}
          >
            {t.repository ? (
              <Folder size={15} className="shrink-0 text-soft" />
            ) : (
              <Box size={15} className="shrink-0 text-soft" />
            )}
            <span className="truncate">{t.text}</span>
            <span className="ml-auto max-w-[45%] truncate text-xs text-soft">{t.note}</span>
          </li>
        ))}
      </ul>
      {targets.length === 0 && <p className="px-2.5 py-2 text-sm text-soft">Nothing has that name.</p>}
    </Dialog>
  );
}
