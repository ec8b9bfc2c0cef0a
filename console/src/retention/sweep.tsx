import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { type ItemState, retentionCalls, retentionQueries } from "./calls";
import { Choice, Dialog } from "../ui/dialog";
import { More } from "../ui/filters";
import { bytes, count, moment, packagePath } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle } from "../ui/parts";
import { SweepMark } from "./plan";
import { type Column, Table } from "../ui/table";
import { Form, TextField } from "../ui/form";

const itemStates: Record<ItemState, [string, string]> = {
  planned: ["text-soft", "planned"],
  removed: ["text-glow", "removed"],
  spared: ["text-deep", "stayed after all"],
  back: ["text-good", "brought back"],
  reclaimed: ["text-soft", "reclaimed"],
};

export default function SweepPage() {
  const { id = "" } = useParams();
  usePageTitle(`Sweep ${id}`);
  const query = useQuery({
    ...retentionQueries.sweep(Number(id)),
    refetchInterval: (q) => (q.state.data?.state === "underway" ? 1000 : false),
  });
  return <Loaded query={query}>{(s) => <Page key={s.id} s={s} />}</Loaded>;
}

function Page({ s }: { s: Schemas["SweepPage"] }) {
  const changed = useChanged();
  const [undoing, setUndoing] = useState<string[] | null>(null);
  const act = useMutation({
    mutationFn: async (what: "stop" | "go") => {
      if (what === "stop") await retentionCalls.stopSweep(s.id);
      else await retentionCalls.runSweep({ policy: s.policy!, goOn: true });
    },
    onSuccess: () => changed({ kind: "sweep" }, { kind: "package" }),
  });
  const left = s.done - s.back - s.reclaimed;
  return (
    <>
      <div className="mb-4">
        <p className="text-sm text-soft">
          <Link to="/retention/sweeps">Sweeps</Link> /
        </p>
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          <h1 className="text-2xl font-semibold tracking-tight">Sweep {s.id}</h1>
          <SweepMark state={s.state} />
          <span className="text-sm text-soft">
            {s.policy ? (
              <>
                by <Link to={`/policies/${s.policy}`}>{s.policy}</Link>
              </>
            ) : (
              "by hand"
            )}{" "}
            in {s.repositories.join(", ")}
          </span>
          {s.may && (
            <span className="ml-auto flex gap-2">
              {s.state === "asking" && (
                <Button look="strong" disabled={act.isPending} onClick={() => act.mutate("go")}>
                  Go on with today's plan
                </Button>
              )}
              {(s.state === "asking" || s.state === "underway") && (
                <Button look="danger" disabled={act.isPending} onClick={() => act.mutate("stop")}>
                  Stop it
                </Button>
              )}
              {left > 0 && <Button onClick={() => setUndoing([])}>Bring all back…</Button>}
            </span>
          )}
        </div>
        {act.error && (
          <div className="mt-2">
            <ErrorNote error={act.error} />
          </div>
        )}
      </div>
      {s.state === "asking" && (
        <p role="alert" className="mb-5 rounded-lg border border-glow/50 bg-glow-wash px-4 py-3 text-sm">
          Nothing was taken yet: {s.why}. Look at what it would take; then let it go on, or stop it.
        </p>
      )}
      {s.state === "underway" && (
        <div role="status" className="mb-5 rounded-lg border border-glow/50 bg-glow-wash px-4 py-3 text-sm">
          <p>
            {s.done + s.spared} of {count(s.versions, "version")}
          </p>
          <progress className="mt-1 w-full accent-(--glow)" value={s.done + s.spared} max={Math.max(s.versions, 1)} />
        </div>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <Items s={s} undo={(purl) => setUndoing([purl])} />
        <Panel>
          <dl className="grid grid-cols-[6rem_1fr] gap-y-1 px-4 py-3 text-sm">
            <dt className="text-soft">Begun</dt>
            <dd>
              by {s.begunBy}, <Time at={s.begunAt} />
              <span className="block text-xs text-soft">{moment(s.begunAt)}</span>
            </dd>
            {s.endedAt && (
              <>
                <dt className="text-soft">Ended</dt>
                <dd>
                  <Time at={s.endedAt} />
                </dd>
              </>
            )}
            <dt className="text-soft">Planned</dt>
            <dd>
              {count(s.versions, "version")}, {bytes(s.bytes)}
            </dd>
            <dt className="text-soft">Frees</dt>
            <dd>
              {bytes(s.freed)}
              <span className="block text-xs text-soft">{s.grace} after each went</span>
            </dd>
            <dt className="text-soft">Removed</dt>
            <dd>{s.done}</dd>
            {s.spared > 0 && (
              <>
                <dt className="text-soft">Stayed</dt>
                <dd>{s.spared} after all</dd>
              </>
            )}
            {s.back > 0 && (
              <>
                <dt className="text-soft">Back</dt>
                <dd>{s.back}</dd>
              </>
            )}
            {s.reclaimed > 0 && (
              <>
                <dt className="text-soft">Reclaimed</dt>
                <dd>{s.reclaimed}</dd>
              </>
            )}
            {s.why && s.state !== "asking" && (
              <>
                <dt className="text-soft">Note</dt>
                <dd>{s.why}</dd>
              </>
            )}
          </dl>
        </Panel>
      </div>
      {undoing && <Undo s={s} purls={undoing} close={() => setUndoing(null)} />}
    </>
  );
}

const itemColumns: Column<Schemas["SweepItem"]>[] = [
  {
    head: "Version",
    by: (i) => i.purl,
    cell: (i) => (
      <>
        <Link to={packagePath(i.purl)}>{decodeURIComponent(i.purl.slice(4))}</Link>
        <span className="block text-xs text-soft">
          {i.upload && <span className="font-mono">{i.upload} </span>}in {i.repository}
        </span>
      </>
    ),
  },
  {
    head: "State",
    by: (i) => i.state,
    cell: (i) => (
      <span className={itemStates[i.state][0]}>
        {itemStates[i.state][1]}
        {i.note && <span className="block text-xs text-soft">{i.note}</span>}
        {i.graceUntil && <span className="block text-xs text-soft">can come back until {moment(i.graceUntil)}</span>}
      </span>
    ),
  },
  {
    head: "Last used",
    by: (i) => i.usedAt,
    cell: (i) => (i.usedAt ? <Time at={i.usedAt} /> : <span className="text-soft">never</span>),
  },
  { head: "Size", right: true, by: (i) => i.bytes, cell: (i) => bytes(i.bytes) },
];

function Items({ s, undo }: { s: Schemas["SweepPage"]; undo: (purl: string) => void }) {
  const [state, setState] = useState("");
  const query = useInfiniteQuery(retentionQueries.items(s.id, (state || undefined) as ItemState | undefined));
  const all = query.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Panel
      title="Versions"
      aside={
        <div className="w-44">
          <Choice
            label="Which versions"
            value={state}
            onChange={setState}
            options={[
              ["", "all"],
              ["removed", "removed"],
              ["spared", "stayed after all"],
              ["back", "brought back"],
              ["reclaimed", "reclaimed"],
              ["planned", "planned"],
            ]}
          />
        </div>
      }
    >
      {query.error ? (
        <div className="p-4">
          <ErrorNote error={query.error} />
        </div>
      ) : query.data && all.length === 0 ? (
        <Empty title={s.versions === 0 ? "It found nothing to take" : "No version fits"} />
      ) : (
        <Table
          name="Versions of a sweep"
          dense
          partly={query.hasNextPage}
          estimate={54}
          rows={all}
          rowKey={(i) => i.position}
          columns={[
            ...itemColumns,
            {
              head: " ",
              right: true,
              cell: (i) =>
                i.state === "removed" &&
                s.may && (
                  <Button
                    look="bare"
                    onClick={() => undo(i.upload ? i.purl.replace(/@[^@]*$/, `@${i.upload}`) : i.purl)}
                  >
                    Bring back
                  </Button>
                ),
            },
          ]}
        />
      )}
      <More query={query}>Show more</More>
    </Panel>
  );
}

function Undo({ s, purls, close }: { s: Schemas["Sweep"]; purls: string[]; close: () => void }) {
  const changed = useChanged();
  const [done, setDone] = useState<Schemas["Undone"]>();
  return (
    <Dialog
      open
      onOpenChange={close}
      title="Bring back"
      description="With labels and history. What comes back stays for the time of grace at least."
    >
      {done ? (
        <>
          <p role="status">Brought back {count(done.back, "version")}.</p>
          {done.not.length > 0 && (
            <ul className="mt-2 list-disc pl-6 text-sm">
              {done.not.map((n) => (
                <li key={n.purl}>
                  {decodeURIComponent(n.purl.slice(4))}: {n.why}
                </li>
              ))}
            </ul>
          )}
          <div className="mt-4">
            <Button look="strong" onClick={close}>
              Close
            </Button>
          </div>
        </>
      ) : (
        <Form
          start={{ pattern: purls[0] ?? "" }}
          run={({ pattern }) => retentionCalls.undoSweep(s.id, pattern.trim() ? [pattern.trim()] : [])}
          done={(undone) => {
            setDone(undone);
            return changed({ kind: "sweep" }, { kind: "package" });
          }}
          submit="Bring back"
        >
          <TextField
            name="pattern"
            label="Which"
            hint="A package URL, with * for any run of characters; empty is everything that it took."
            className="font-mono"
          />
        </Form>
      )}
    </Dialog>
  );
}
