import { useQueries, useQueryClient } from "@tanstack/react-query";
import { ChevronDown, ChevronRight, FileCog, FileText } from "lucide-react";
import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { resolvingQueries } from "../resolving/calls";
import { useDrawn } from "./drawn";
import { bytes, count, packagePath } from "./format";
import { Button, CopyButton, ErrorNote, Time } from "./parts";

type Entry = Schemas["Entry"];
type Folder = Schemas["Folder"];

/** Row is a line of the tree as it is unfolded now. */
type Row = { path: string; depth: number } & (
  | { kind: "entry"; entry: Entry; open: boolean; fresh: boolean }
  | { kind: "details"; entry: Entry }
  | { kind: "more"; total: number; busy: boolean }
  | { kind: "busy" }
  | { kind: "error"; error: unknown; retry: () => void }
);

/** unfoldsAlone: of levels that are longer, the folders stay folded until somebody unfolds them. */
const unfoldsAlone = 12;

/** useUnfolded gives the lines of a tree, and loads what is unfolded: each level by pages. */
function useUnfolded(repository: string, isChain: boolean, ecosystem: string) {
  const queries = useQueryClient();
  const [opened, setOpened] = useState<Map<string, boolean>>(new Map());
  const [pages, setPages] = useState<Map<string, number>>(new Map());
  const known = useRef<Set<string>>(new Set()); // pages, and entries
  const page = (path: string, after: string) => resolvingQueries.folder(repository, isChain, ecosystem, path, after);
  const wanted: { path: string; after: string }[] = [];
  const isOpen = (e: Entry, path: string, depth: number, among: number) =>
    opened.get(path) ??
    (Boolean(e.folder) && ((among === 1 && !e.purl) || (depth > 0 && depth < 3 && among <= unfoldsAlone && !e.purl)));
  const inside = (path: string, name: string) => (path ? `${path}/${name}` : name);

  // What is wanted follows from what has come so far.
  const want = (path: string, depth: number) => {
    const entries: Entry[] = [];
    for (let n = 0, after: string | undefined = ""; n < (pages.get(path) ?? 1) && after !== undefined; n++) {
      wanted.push({ path, after });
      const known: Folder | undefined = queries.getQueryData(page(path, after).queryKey);
      entries.push(...(known?.entries ?? []));
      after = known?.next;
    }
    for (const e of entries)
      if (e.folder && isOpen(e, inside(path, e.name), depth, entries.length)) want(inside(path, e.name), depth + 1);
  };
  want("", 0);
  const results = useQueries({
    queries: wanted.map(({ path, after }) => page(path, after)),
  });
  const result = new Map(wanted.map((w, i) => [`${w.path}\n${w.after}`, results[i]!]));

  const rows: Row[] = [];
  const list = (path: string, depth: number) => {
    const entries: Entry[] = [];
    let last: Folder | undefined;
    let busy = false;
    const fresh = new Set<Entry>();
    for (let n = 0, after: string | undefined = ""; n < (pages.get(path) ?? 1) && after !== undefined; n++) {
      const r = result.get(`${path}\n${after}`);
      if (r?.error) rows.push({ kind: "error", path, depth, error: r.error, retry: () => void r.refetch() });
      busy = !r?.data && !r?.error;
      if (!r?.data) break;
      last = r.data;
      // What came with the first look at a page has not arrived just now.
      if (known.current.has(`${path}\n${after}`))
        for (const e of last.entries) if (!known.current.has(inside(path, e.name))) fresh.add(e);
      entries.push(...last.entries);
      after = last.next;
    }
    for (const e of entries) {
      const at = inside(path, e.name);
      const open = isOpen(e, at, depth, entries.length);
      rows.push({ kind: "entry", path: at, depth, entry: e, open, fresh: fresh.has(e) });
      if (open && e.folder) list(at, depth + 1);
      if (open && !e.folder && e.checksums) rows.push({ kind: "details", path: at, depth, entry: e });
    }
    if (last?.next) rows.push({ kind: "more", path, depth, total: last.total, busy });
    else if (busy) rows.push({ kind: "busy", path, depth });
  };
  list("", 0);
  const pagesLoaded = wanted.filter((_, i) => results[i]!.data).map((w) => `${w.path}\n${w.after}`);
  useEffect(() => {
    for (const page of pagesLoaded) {
      if (known.current.has(page)) continue;
      known.current.add(page);
      for (const e of result.get(page)?.data?.entries ?? []) known.current.add(inside(page.split("\n")[0]!, e.name));
    }
  });
  return {
    rows,
    toggle: (path: string, open: boolean) => setOpened((all) => new Map(all).set(path, open)),
    more: (path: string) => setPages((all) => new Map(all).set(path, (all.get(path) ?? 1) + 1)),
  };
}

/** Tree unfolds the folders of a repository, as its package clients see them. */
export function Tree({ repository, isChain, ecosystem }: { repository: string; isChain: boolean; ecosystem: string }) {
  const { rows, toggle, more } = useUnfolded(repository, isChain, ecosystem);
  const frame = useRef<HTMLDivElement>(null);
  const d = useDrawn(rows.length, 28, frame);
  const [at, setAt] = useState(0);
  const [going, setGoing] = useState<number>();
  useEffect(() => {
    if (going === undefined) return;
    const row = frame.current?.querySelector<HTMLElement>(`[data-index="${going}"]`);
    if (!row) return; // it is drawn when the page has scrolled there
    row.focus();
    setGoing(undefined);
  });
  const go = (to: number) => {
    d.scrollTo(to);
    setAt(to);
    setGoing(to);
  };
  const keys = (event: KeyboardEvent<HTMLElement>) => {
    const here = (event.target as HTMLElement).closest<HTMLElement>("[role=treeitem]");
    const i = Number(here?.dataset.index);
    const row = rows[i];
    if (!here || row?.kind !== "entry") return;
    const next = (step: 1 | -1) => {
      for (let n = i + step; n >= 0 && n < rows.length; n += step) if (rows[n]!.kind === "entry") return go(n);
    };
    const folds = Boolean(row.entry.folder || row.entry.checksums);
    if (event.key === "ArrowDown") next(1);
    else if (event.key === "ArrowUp") next(-1);
    else if (event.key === "ArrowRight" && folds && !row.open) toggle(row.path, true);
    else if (event.key === "ArrowLeft" && folds && row.open) toggle(row.path, false);
    else if (event.key === "ArrowLeft") {
      const parent = rows.findLastIndex((r, n) => n < i && r.kind === "entry" && r.depth < row.depth);
      if (parent >= 0) go(parent);
    } else if (event.key === "Home") go(0);
    else if (event.key === "End") go(rows.findLastIndex((r) => r.kind === "entry"));
    else if (event.key === "Enter" && event.target === here) toggle(row.path, !row.open);
    else return;
    event.preventDefault();
  };
  return (
    <div
      role="tree"
      aria-label={`Files of ${repository}`}
      className="relative overflow-x-auto py-1.5 font-mono text-sm"
      onKeyDown={keys}
    >
      <div ref={frame} role="none">
        {d.before > 0 && <div aria-hidden style={{ height: d.before }} />}
        {d.lines.map(({ index, bind }) => {
          const row = rows[index]!;
          switch (row.kind) {
            case "entry":
              return (
                <Line
                  key={row.path}
                  row={row}
                  bind={bind}
                  reached={index === Math.min(at, rows.length - 1)}
                  onReach={() => setAt(index)}
                  onToggle={() => toggle(row.path, !row.open)}
                />
              );
            case "details":
              return (
                <FileDetails
                  key={`${row.path} details`}
                  bind={bind}
                  entry={row.entry}
                  depth={row.depth}
                  address={`/at/${repository}/${ecosystem}/${row.path}`}
                />
              );
            case "more":
              return (
                <p key={`${row.path} more`} {...bind} className="px-4 py-1 font-sans">
                  <Button disabled={row.busy} onClick={() => more(row.path)}>
                    Show more of {count(row.total, "entry", "entries")}
                  </Button>
                </p>
              );
            case "busy":
              return (
                <p
                  key={`${row.path} busy`}
                  {...bind}
                  role="treeitem"
                  aria-level={row.depth + 1}
                  aria-busy="true"
                  className="px-4 py-1 text-soft"
                >
                  …
                </p>
              );
            case "error":
              return (
                <div key={`${row.path} error`} {...bind} className="p-3 font-sans">
                  <ErrorNote error={row.error} retry={row.retry} />
                </div>
              );
          }
        })}
        {d.after > 0 && <div aria-hidden style={{ height: d.after }} />}
      </div>
    </div>
  );
}

function Line({
  row,
  bind,
  reached,
  onReach,
  onToggle,
}: {
  row: Extract<Row, { kind: "entry" }>;
  bind: object;
  reached: boolean;
  onReach: () => void;
  onToggle: () => void;
}) {
  const e = row.entry;
  return (
    <div
      {...bind}
      role="treeitem"
      aria-expanded={e.folder || e.checksums ? row.open : undefined}
      aria-level={row.depth + 1}
      tabIndex={reached ? 0 : -1}
      onFocus={onReach}
      onClick={onToggle}
      className={`grid cursor-pointer grid-cols-[minmax(16rem,1fr)_6rem_9rem] min-h-7 items-center gap-3 px-4 py-0.5 hover:bg-wash/60 ${row.fresh ? "arrived" : ""}`}
    >
      <span className="flex min-w-0 items-center gap-1.5" style={{ paddingLeft: `${row.depth * 1.1}rem` }}>
        {e.folder ? (
          row.open ? (
            <ChevronDown size={14} className="shrink-0 text-soft" />
          ) : (
            <ChevronRight size={14} className="shrink-0 text-soft" />
          )
        ) : e.document ? (
          <FileCog size={14} className="shrink-0 text-soft" aria-label="made by Crelvo" />
        ) : (
          <FileText size={14} className="shrink-0 text-soft" />
        )}
        <span className="truncate">{e.name}</span>
        {e.purl && (
          <Link
            to={packagePath(e.purl)}
            onClick={(c) => c.stopPropagation()}
            className="inline-flex min-h-6 shrink-0 items-center font-sans text-xs"
          >
            open page
          </Link>
        )}
      </span>
      <span className="text-right text-soft tabular-nums">{e.folder && e.size === 0 ? "" : bytes(e.size)}</span>
      <span className="text-right font-sans text-soft">{e.changedAt && <Time at={e.changedAt} />}</span>
    </div>
  );
}

function FileDetails({
  entry: e,
  address,
  depth,
  bind,
}: {
  entry: Entry;
  address: string;
  depth: number;
  bind: object;
}) {
  return (
    <div {...bind} className="py-1 pr-4" style={{ paddingLeft: `${depth * 1.1 + 2.2}rem` }}>
      <div className="rounded border border-rule bg-paper px-3 py-2 text-xs">
        <p className="mb-1 font-sans">
          <a href={address}>Download</a>
          {e.document && <span className="ml-3 text-soft">made by Crelvo from its records</span>}
        </p>
        <Checksums sums={e.checksums ?? {}} />
      </div>
    </div>
  );
}

/** Checksums lists digests, each with a button that copies it. */
export function Checksums({ sums }: { sums: Record<string, string> }) {
  return (
    <dl className="grid grid-cols-[4.5rem_1fr] gap-x-2 font-mono text-xs">
      {["sha256", "sha1", "md5", "sha512"]
        .filter((a) => sums[a])
        .map((a) => (
          <div key={a} className="contents">
            <dt className="py-0.5 text-soft">{a}</dt>
            <dd className="flex min-w-0 items-center gap-1">
              <span className="truncate" title={sums[a]}>
                {sums[a]}
              </span>
              <CopyButton text={sums[a]!} label={`Copy the ${a}`} />
            </dd>
          </div>
        ))}
    </dl>
  );
}
