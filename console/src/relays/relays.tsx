import { Plus } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { bytes, count } from "../ui/format";
import { Button, Empty, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { relaysQueries } from "./calls";
import { RelayForm } from "./form";

type Relay = Schemas["Relay"];

/** RelayState says how far a relay is. */
export function RelayState({ r }: { r: Relay }) {
  return (
    <>
      {r.paused ? (
        <span className="text-soft">paused</span>
      ) : r.failed > 0 ? (
        <span className="text-bad">{count(r.failed, "version")} failed</span>
      ) : r.waiting > 0 ? (
        <span className="text-glow">behind</span>
      ) : (
        <span className="text-good">in step</span>
      )}
      {!r.paused && !r.open && <span className="text-soft">, sends at {r.hours}</span>}
      {r.waiting > 0 && (
        <span className="block text-xs text-soft">
          {count(r.waiting, "version")}, {bytes(r.bytes)}, since {r.oldest && <Time at={r.oldest} />}
        </span>
      )}
    </>
  );
}

const columns: Column<Relay>[] = [
  {
    head: "Relay",
    by: (r) => r.name,
    cell: (r) => (
      <>
        <Link to={`/relays/${r.name}`}>{r.name}</Link>
        <span className="block text-xs text-soft">{r.only.join(", ") || "everything"}</span>
      </>
    ),
  },
  {
    head: "From",
    by: (r) => r.repository,
    cell: (r) => <Link to={`/repositories/${r.repository}`}>{r.repository}</Link>,
  },
  {
    head: "To",
    by: (r) => r.target,
    cell: (r) => (
      <>
        {r.target}
        <span className="block text-xs text-soft">{r.ecosystem}</span>
      </>
    ),
  },
  { head: "Sends", from: "sm", by: (r) => r.holds, cell: (r) => r.holds },
  { head: "State", by: (r) => r.waiting + r.failed, cell: (r) => <RelayState r={r} /> },
  { head: "Sent", right: true, by: (r) => r.sent, cell: (r) => r.sent },
  {
    head: "Last",
    by: (r) => r.lastAt,
    cell: (r) => (r.lastAt ? <Time at={r.lastAt} /> : <span className="text-soft">never</span>),
  },
];

export default function RelaysPage() {
  usePageTitle("Relays");
  const go = useNavigate();
  const query = useQuery(relaysQueries.relays());
  const [adding, setAdding] = useState(false);
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/">Repositories</Link> /
      </p>
      <h1 className="mb-4 text-2xl font-semibold tracking-tight">Relays</h1>
      <Panel
        title="What arrives is sent on"
        aside={
          <span className="flex items-center gap-3">
            <Link to="/targets" className="text-sm">
              Targets
            </Link>
            <Button look="strong" onClick={() => setAdding(true)}>
              <Plus size={15} /> New relay
            </Button>
          </span>
        }
      >
        <Loaded query={query}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="Nothing is sent on by itself">
                A relay sends what arrives in a repository on to another server, at once and always, and keeps a far
                site in step. Targets are on the page <Link to="/targets">Targets</Link>.
              </Empty>
            ) : (
              <Table name="Relays" rows={all} rowKey={(r) => r.name} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
      {adding && <RelayForm close={() => setAdding(false)} saved={(r) => go(`/relays/${r.name}`)} />}
    </>
  );
}
