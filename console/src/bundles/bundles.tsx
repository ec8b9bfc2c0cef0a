import { FileDown, FileUp } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { keysQueries } from "../keys/calls";
import { repositoriesQueries } from "../repositories/calls";
import { bytes, count } from "../ui/format";
import { AreaField, ChoiceField, FormDialog, TickField } from "../ui/form";
import { Button, Empty, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { bundlesCalls, bundlesQueries } from "./calls";
import { LoadBundle } from "./load";

type Bundle = Schemas["Bundle"];

const columns: Column<Bundle>[] = [
  {
    head: "Bundle",
    by: (b) => b.id,
    cell: (b) => (
      <>
        <span className="font-mono text-xs" title={b.id}>
          {b.id.slice(0, 12)}
        </span>
        {b.since && <span className="block text-xs text-soft">goes on from {b.since.slice(0, 12)}</span>}
      </>
    ),
  },
  {
    head: "Was",
    by: (b) => (b.loaded ? "loaded" : "made"),
    cell: (b) => (b.loaded ? `loaded, ${b.came} new` : "made"),
  },
  { head: "Of", cell: (b) => origin(b.origin).join(", ") },
  {
    head: "Holds",
    right: true,
    by: (b) => b.bytes,
    cell: (b) => (
      <>
        {count(b.versions, "version")}
        <span className="block text-xs text-soft">{bytes(b.bytes)}</span>
      </>
    ),
  },
  {
    head: "Signed with",
    from: "sm",
    by: (b) => b.key,
    cell: (b) => (
      <>
        {b.key}
        {b.loaded && <span className="block text-xs text-soft">made by {b.madeBy}</span>}
      </>
    ),
  },
  {
    head: "When",
    by: (b) => b.at,
    cell: (b) => (
      <>
        <Time at={b.at} />
        <span className="block text-xs text-soft">by {b.by}</span>
      </>
    ),
  },
];

/** origin are the repositories of a bundle, and where each went to. */
function origin(of: Record<string, string>) {
  return Object.entries(of)
    .map(([from, to]) => (to && to !== from ? `${from} to ${to}` : from))
    .sort();
}

export default function BundlesPage() {
  usePageTitle("Bundles");
  const query = useQuery(bundlesQueries.bundles());
  const [doing, setDoing] = useState<"make" | "load">();
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/">Repositories</Link> /
      </p>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Bundles</h1>
      <Panel
        title="Made and loaded here"
        aside={
          <span className="flex gap-2">
            <Button onClick={() => setDoing("load")}>
              <FileUp size={15} /> Load a bundle
            </Button>
            <Button look="strong" onClick={() => setDoing("make")}>
              <FileDown size={15} /> Make a bundle
            </Button>
          </span>
        }
      >
        <Loaded query={query}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="Nothing was carried yet">
                A bundle is one signed file of packages, with their labels and what they need, to be carried to where no
                network leads. There it is loaded, all of it or nothing.
              </Empty>
            ) : (
              <Table name="Bundles" rows={all} rowKey={(b) => `${b.id} ${b.at}`} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
      {doing === "make" && <MakeBundle close={() => setDoing(undefined)} />}
      {doing === "load" && <LoadBundle close={() => setDoing(undefined)} />}
    </>
  );
}

function MakeBundle({ close }: { close: () => void }) {
  const changed = useChanged();
  const repositories = useQuery(repositoriesQueries.repositories());
  const keys = useQuery(keysQueries.keys());
  if (!repositories.data || !keys.data) return null;
  const sources = repositories.data.filter((r) => r.kind !== "chain");
  const signing = keys.data.filter((k) => k.signs);
  return (
    <FormDialog
      title="Make a bundle"
      description="It is saved by the browser. Of several repositories, in pieces, or going on from an earlier one, crelvo bundle create makes it."
      start={{ from: sources[0]?.name ?? "", only: "", needs: false, key: signing[0]?.name ?? "" }}
      ready={(f) => f.from !== "" && f.key !== ""}
      run={async (f) => {
        const only = f.only.split(/\s+/).filter(Boolean);
        const made = await bundlesCalls.make({ from: [f.from], only, withNeeds: f.needs, signWith: f.key });
        save(made, `${f.from}-${new Date().toISOString().slice(0, 10)}.tar`);
        await changed({ kind: "bundle" });
      }}
      close={close}
      submit="Make"
    >
      <div className="grid gap-x-4 sm:grid-cols-2">
        <ChoiceField name="from" label="Of" options={sources.map((r) => [r.name, r.name])} />
        <ChoiceField
          name="key"
          label="Signed with"
          hint={
            signing.length === 0 ? "There is no key to sign with: crelvo key add NAME --sign makes one." : undefined
          }
          options={signing.map((k) => [k.name, k.name])}
        />
      </div>
      <AreaField
        name="only"
        label="Only"
        rows={2}
        hint="Patterns, one a line. Empty: everything that is kept there."
        placeholder="pkg:npm/@skerry/*"
      />
      <TickField name="needs">And what they need in turn, as far as it is there</TickField>
    </FormDialog>
  );
}

/** save has the browser save what came. */
function save(what: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(what);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
