import { keepPreviousData, useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Bookmark, X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { rightsQueries } from "../rights/calls";
import { searchCalls, searchQueries } from "./calls";
import { useInAddress } from "../ui/address";
import { bytes, coordinates, packagePath, shortVersion } from "../ui/format";
import { Button, Empty, ErrorNote, Panel, Time, useArrivals, usePageTitle, useQuery } from "../ui/parts";
import { QueryInput } from "./query-input";
import { type Column, Table } from "../ui/table";
import { FormDialog, TextField, TickField } from "../ui/form";

export function SearchPage() {
  usePageTitle("Packages");
  const [text, ask] = useInAddress("q");
  const query = useSearch(text);
  // Whoever is about to choose a value has made no mistake yet.
  const wrong = query.error && !text.endsWith(":");
  const [saving, setSaving] = useState(false);
  return (
    <Panel
      title={<span className="text-lg">Packages</span>}
      aside={
        text !== "" && (
          <Button onClick={() => setSaving(true)}>
            <Bookmark size={15} /> Save this search
          </Button>
        )
      }
    >
      <div className="grid gap-2 border-b border-rule px-4 py-3">
        <QueryInput value={text} onChange={ask} />
        <Saved onChoose={ask} />
        {wrong && <ErrorNote error={query.error} />}
      </div>
      {!wrong && <Found query={query} />}
      {saving && <SaveSearch text={text} close={() => setSaving(false)} />}
    </Panel>
  );
}

/** page is how many packages are asked for at a time. */
const page = 100;

/** useSearch asks for packages, page by page. */
export function useSearch(text: string, repository = "") {
  return useInfiniteQuery({
    ...searchQueries.search(text, repository, page),
    placeholderData: keepPreviousData,
  });
}

/** Found shows what a search found so far. */
export function Found({ query, within }: { query: ReturnType<typeof useSearch>; within?: boolean }) {
  if (query.error && !query.data)
    return (
      <div className="p-4">
        <ErrorNote error={query.error} retry={() => void query.refetch()} />
      </div>
    );
  if (!query.data)
    return (
      <p className="px-4 py-6 text-sm text-soft" aria-busy="true">
        Loading…
      </p>
    );
  return (
    <>
      <PackageTable all={query.data.pages.flatMap((p) => p.packages)} within={within} partly={query.hasNextPage} />
      {query.hasNextPage && (
        <p className="border-t border-rule p-3 text-center text-sm text-soft">
          <Button disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>
            Show more
          </Button>{" "}
          or add a word to narrow it down
        </p>
      )}
    </>
  );
}

/** Saved lists the saved searches, to be asked again. */
function Saved({ onChoose }: { onChoose: (q: string) => void }) {
  const queries = useQueryClient();
  const me = useQuery(rightsQueries.me());
  const query = useQuery(searchQueries.searches());
  const forget = useMutation({
    mutationFn: searchCalls.forgetSearch,
    onSuccess: () => queries.invalidateQueries(searchQueries.searches()),
  });
  if (!query.data?.length) {
    return (
      <p className="text-xs text-soft">
        Words, patterns such as <code className="font-mono">pkg:npm/@skerry/*</code>, and conditions such as{" "}
        <code className="font-mono">repo:releases age:&gt;30d downloads:0</code>.
      </p>
    );
  }
  return (
    <ul className="flex flex-wrap gap-2 text-sm" aria-label="Saved searches">
      {query.data.map((s) => (
        <li key={s.owner + s.name} className="inline-flex items-center rounded border border-rule">
          <button
            type="button"
            title={`${s.query} (${s.shared ? "shared by" : "only for"} ${s.owner})`}
            onClick={() => onChoose(`@${s.name}`)}
            className="cursor-pointer px-2 py-0.5 text-deep hover:underline"
          >
            @{s.name}
          </button>
          {s.owner === me.data?.name && (
            <button
              type="button"
              aria-label={`Drop the saved search ${s.name}`}
              onClick={() => forget.mutate(s.name)}
              className="cursor-pointer px-1 text-soft hover:text-bad"
            >
              <X size={13} />
            </button>
          )}
        </li>
      ))}
    </ul>
  );
}

function SaveSearch({ text, close }: { text: string; close: () => void }) {
  const queries = useQueryClient();
  return (
    <FormDialog
      title="Save this search"
      description={text}
      start={{ name: "", shared: false }}
      run={({ name, shared }) => searchCalls.saveSearch(name, { query: text, shared })}
      done={() => queries.invalidateQueries(searchQueries.searches())}
      close={close}
      submit="Save it"
    >
      <TextField
        name="name"
        label="Name"
        hint="It is asked for by @ and this name, alone or with more."
        required
        autoFocus
      />
      <TickField name="shared">Share it with everybody who signs in</TickField>
    </FormDialog>
  );
}

const packageColumns: Column<Schemas["PackageLine"]>[] = [
  {
    head: "Package",
    by: coordinates,
    cell: (p) => (
      <>
        <Link data-row to={packagePath(p.purl)} className="text-base font-medium">
          {coordinates(p)}
        </Link>
        <div className="max-w-md truncate text-xs text-soft">{p.description}</div>
      </>
    ),
  },
  {
    head: "Repository",
    by: (p) => p.repository,
    cell: (p) => <Link to={`/repositories/${p.repository}`}>{p.repository}</Link>,
  },
  {
    head: "Newest that fits",
    look: "font-mono whitespace-nowrap",
    by: (p) => p.latest,
    cell: (p) => shortVersion(p.latest),
  },
  {
    head: "Versions",
    right: true,
    from: "md",
    by: (p) => p.versions,
    cell: (p) => p.versions.toLocaleString("en"),
  },
  { head: "Size", right: true, from: "md", by: (p) => p.bytes, cell: (p) => bytes(p.bytes) },
  {
    head: "When, and by whom",
    look: "text-soft",
    from: "sm",
    by: (p) => p.changedAt,
    cell: (p) => (
      <>
        <Time at={p.changedAt} /> by {p.publishedBy}
      </>
    ),
  },
];

function PackageTable({ all, within, partly }: { all: Schemas["PackageLine"][]; within?: boolean; partly: boolean }) {
  const key = (p: Schemas["PackageLine"]) => `${p.repository} ${p.purl} ${p.changedAt}`;
  const fresh = useArrivals(all.map(key));
  if (all.length === 0) {
    return (
      <Empty title="Nothing fits">
        Try fewer or shorter words, or fewer conditions. A group and a name may stand in any order:{" "}
        <em>berth skerry</em>.
      </Empty>
    );
  }
  return (
    <Table
      name={within ? "Packages here" : "Packages"}
      partly={partly}
      estimate={58}
      rows={all}
      rowKey={key}
      look={(p) => (fresh.has(key(p)) ? "arrived" : "")}
      columns={within ? packageColumns.filter((c) => c.head !== "Repository") : packageColumns}
    />
  );
}
