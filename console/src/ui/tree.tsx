import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { ChevronDown, ChevronRight, FileCog, FileText } from "lucide-react";
import { type KeyboardEvent, useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../api/client";
import { bytes, count, packagePath } from "./format";
import { Button, CopyButton, ErrorNote, Time, useArrivals } from "./parts";

type Entry = Schemas["Entry"];

/** Tree unfolds the folders of a repository, as its package clients see them. */
export function Tree({ repository, ecosystem }: { repository: string; ecosystem: string }) {
  return (
    <div role="tree" aria-label={`Files of ${repository}`} className="relative overflow-x-auto py-1.5 font-mono text-sm" onKeyDown={treeKeys}>
      <Level repository={repository} ecosystem={ecosystem} path="" depth={0} />
    </div>
  );
}

function treeKeys(event: KeyboardEvent<HTMLElement>) {
  const rows = [...event.currentTarget.querySelectorAll<HTMLElement>("[role=treeitem]")];
  const here = document.activeElement as HTMLElement;
  const i = rows.indexOf(here);
  if (i < 0) return;
  const open = here.getAttribute("aria-expanded");
  if (event.key === "ArrowDown") rows[i + 1]?.focus();
  else if (event.key === "ArrowUp") rows[i - 1]?.focus();
  else if (event.key === "ArrowRight" && open === "false") here.click();
  else if (event.key === "ArrowLeft" && open === "true") here.click();
  else return;
  event.preventDefault();
}

type At = { repository: string; ecosystem: string; path: string; depth: number };

function Level({ repository, ecosystem, path, depth }: At) {
  const query = useInfiniteQuery({
    queryKey: ["folder", repository, ecosystem, path],
    queryFn: ({ pageParam }) => api.folder(repository, ecosystem, path, pageParam),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });
  const entries = query.data?.pages.flatMap((page) => page.entries) ?? [];
  const fresh = useArrivals(entries.map((e) => e.name));
  if (query.error) return <div className="p-3 font-sans"><ErrorNote error={query.error} retry={() => void query.refetch()} /></div>;
  if (!query.data) return <p role="treeitem" aria-level={depth + 1} aria-busy="true" className="px-4 py-1 text-soft">…</p>;
  // A path of single folders unfolds by itself.
  const lonely = entries.length === 1 && !entries[0]?.purl;
  return (
    <>
      {entries.map((e) => (
        <Line key={e.name} entry={e} fresh={fresh.has(e.name)} unfold={lonely || (depth > 0 && depth < 3 && !e.purl)} at={{ repository, ecosystem, path: path ? `${path}/${e.name}` : e.name, depth }} />
      ))}
      {query.hasNextPage && (
        <p className="px-4 py-1 font-sans">
          <Button disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>
            Show more of {count(query.data.pages[0]!.total, "entry", "entries")}
          </Button>
        </p>
      )}
    </>
  );
}

function Line({ entry: e, at, fresh, unfold }: { entry: Entry; at: At; fresh: boolean; unfold: boolean }) {
  const [open, setOpen] = useState(unfold);
  const toggle = () => setOpen(!open);
  return (
    <>
      <div
        role="treeitem"
        aria-expanded={e.folder || e.checksums ? open : undefined}
        aria-level={at.depth + 1}
        tabIndex={0}
        onClick={toggle}
        onKeyDown={(k) => k.key === "Enter" && toggle()}
        className={`grid cursor-pointer grid-cols-[minmax(16rem,1fr)_6rem_9rem] min-h-7 items-center gap-3 px-4 py-0.5 hover:bg-wash/60 ${fresh ? "arrived" : ""}`}
      >
        <span className="flex min-w-0 items-center gap-1.5" style={{ paddingLeft: `${at.depth * 1.1}rem` }}>
          {e.folder ? open ? <ChevronDown size={14} className="shrink-0 text-soft" /> : <ChevronRight size={14} className="shrink-0 text-soft" /> : e.document ? <FileCog size={14} className="shrink-0 text-soft" aria-label="made by Crelvo" /> : <FileText size={14} className="shrink-0 text-soft" />}
          <span className="truncate">{e.name}</span>
          {e.purl && <Link to={packagePath(e.purl)} onClick={(c) => c.stopPropagation()} className="inline-flex min-h-6 shrink-0 items-center font-sans text-xs">open page</Link>}
        </span>
        <span className="text-right text-soft tabular-nums">{e.folder && e.size === 0 ? "" : bytes(e.size)}</span>
        <span className="text-right font-sans text-soft">{e.changedAt && <Time at={e.changedAt} />}</span>
      </div>
      {open && e.folder && <Level {...at} depth={at.depth + 1} />}
      {open && !e.folder && e.checksums && <FileDetails entry={e} at={at} />}
    </>
  );
}

function FileDetails({ entry: e, at }: { entry: Entry; at: At }) {
  const address = `/at/${at.repository}/${at.ecosystem}/${at.path}`;
  return (
    <div className="my-1 mr-4 rounded border border-rule bg-paper px-3 py-2 text-xs" style={{ marginLeft: `${at.depth * 1.1 + 2.2}rem` }}>
      <p className="mb-1 font-sans">
        <a href={address}>Download</a>
        {e.document && <span className="ml-3 text-soft">made by Crelvo from its records</span>}
      </p>
      <Checksums sums={e.checksums ?? {}} />
    </div>
  );
}

/** Checksums lists digests, each with a button that copies it. */
export function Checksums({ sums }: { sums: Record<string, string> }) {
  return (
    <dl className="grid grid-cols-[4.5rem_1fr] gap-x-2 font-mono text-xs">
      {["sha256", "sha1", "md5", "sha512"].filter((a) => sums[a]).map((a) => (
        <div key={a} className="contents">
          <dt className="py-0.5 text-soft">{a}</dt>
          <dd className="flex min-w-0 items-center gap-1"><span className="truncate" title={sums[a]}>{sums[a]}</span><CopyButton text={sums[a]!} label={`Copy the ${a}`} /></dd>
        </div>
      ))}
    </dl>
  );
}
