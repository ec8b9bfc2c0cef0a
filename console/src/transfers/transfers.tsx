import { Plus } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesQueries } from "../repositories/calls";
import { bytes, count, sizeOf } from "../ui/format";
import { AreaField, ChoiceField, FormDialog, TextField, TickField } from "../ui/form";
import { Button, Empty, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { transfersCalls, transfersQueries } from "./calls";
import { State, Progress } from "./progress";

type Run = Schemas["TransferRun"];

const columns: Column<Run>[] = [
  {
    head: "Transfer",
    by: (t) => t.id,
    cell: (t) => (
      <>
        <Link to={`/transfers/${t.id}`}>
          {t.from} to {t.to}
        </Link>
        <span className="block text-xs text-soft">{t.only.length > 0 ? t.only.join(", ") : "everything"}</span>
      </>
    ),
  },
  { head: "State", by: (t) => t.state, cell: (t) => <State t={t} /> },
  {
    head: "Came",
    right: true,
    by: (t) => t.came.versions,
    cell: (t) => {
      if (!t.endedAt) return <Progress t={t} />;
      return t.dryRun ? `${t.toCome.versions} to come` : count(t.came.versions, "version");
    },
  },
  { head: "There already", right: true, from: "sm", by: (t) => t.there.versions, cell: (t) => t.there.versions },
  {
    head: "Not",
    right: true,
    by: (t) => t.refused.versions + t.failed.versions,
    cell: (t) => {
      const not = t.refused.versions + t.failed.versions;
      return not > 0 ? <span className="text-glow">{not}</span> : "0";
    },
  },
  {
    head: "Begun",
    by: (t) => t.begunAt,
    cell: (t) => (
      <>
        <Time at={t.begunAt} />
        <span className="block text-xs text-soft">by {t.by}</span>
      </>
    ),
  },
];

export default function TransfersPage() {
  usePageTitle("Transfers");
  const query = useQuery(transfersQueries.transfers());
  const [asking, setAsking] = useState(false);
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/">Repositories</Link> /
      </p>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Transfers</h1>
      <Panel
        title="From one repository to another"
        aside={
          <Button look="strong" onClick={() => setAsking(true)}>
            <Plus size={15} /> New transfer
          </Button>
        }
      >
        <Loaded query={query}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="Nothing was moved yet">
                A transfer takes packages as they are from one repository to another: from an old one, or from a server
                elsewhere that a mirror here mirrors. What lies in a folder goes with crelvo transfer.
              </Empty>
            ) : (
              <Table name="Transfers" rows={all} rowKey={(t) => t.id} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
      {asking && <NewTransfer close={() => setAsking(false)} />}
    </>
  );
}

function NewTransfer({ close }: { close: () => void }) {
  const changed = useChanged();
  const go = useNavigate();
  const repositories = useQuery(repositoriesQueries.repositories());
  const named = (all: Schemas["Repository"][]) => all.map((r): [string, string] => [r.name, r.name]);
  const sources = (repositories.data ?? []).filter((r) => r.kind !== "chain");
  const targets = sources.filter((r) => r.kind === "house");
  const from = sources[0]?.name ?? "";
  if (!repositories.data) return null;
  return (
    <FormDialog
      title="New transfer"
      description="Packages come as they are, with their labels, withdrawals and times. What is there already stays; what cannot come is told, with the reason."
      start={{ from, to: targets.find((r) => r.name !== from)?.name ?? "", only: "", rate: "", dry: true }}
      run={async (f) => {
        const rate = f.rate.trim() ? sizeOf(f.rate) : 0;
        if (Number.isNaN(rate)) throw new Error(`“${f.rate}” is no size; write it as 20 MiB.`);
        const only = f.only.split(/\s+/).filter(Boolean);
        const t = await transfersCalls.begin({ from: f.from, to: f.to, only, dryRun: f.dry, bytesPerSecond: rate });
        await changed({ kind: "transfer" });
        await go(`/transfers/${t.id}`);
      }}
      done={() => undefined}
      close={close}
      submit="Begin"
    >
      {() => (
        <>
          <div className="grid gap-x-4 sm:grid-cols-2">
            <ChoiceField name="from" label="From" options={named(sources)} />
            <ChoiceField name="to" label="To" options={named(targets)} />
          </div>
          <AreaField
            name="only"
            label="Only"
            rows={2}
            hint="Patterns, one a line. Empty: everything that is known there; of a mirror, name what it does not list."
            placeholder="pkg:npm/@skerry/*"
          />
          <TextField
            name="rate"
            label="Fetched a second at most"
            placeholder="20 MiB"
            hint="From a mirror. Empty: no bound."
          />
          <TickField name="dry">Only plan it, and move nothing yet</TickField>
        </>
      )}
    </FormDialog>
  );
}

/** sizes tells how much there is of a transfer in a state. */
export function sizes(c: Schemas["TransferCount"]) {
  return `${count(c.versions, "version")}, ${bytes(c.bytes)}`;
}
