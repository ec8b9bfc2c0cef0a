import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { Choice } from "../ui/dialog";
import { More } from "../ui/filters";
import { Facts } from "../ui/facts";
import { bytes, moment, packagePath } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { transfersCalls, transfersQueries, type Which } from "./calls";
import { Progress, State } from "./progress";
import { sizes } from "./transfers";

type Run = Schemas["TransferRun"];

const becomes: Record<Schemas["TransferItem"]["state"], [string, string]> = {
  new: ["text-glow", "to come"],
  there: ["text-soft", "there already"],
  refused: ["text-bad", "not taken"],
  came: ["text-good", "came"],
  failed: ["text-bad", "failed"],
};

export default function TransferPage() {
  const { id = "" } = useParams();
  usePageTitle(`Transfer ${id}`);
  const query = useQuery(transfersQueries.transfer(Number(id)));
  return <Loaded query={query}>{(t) => <Page key={t.id} t={t} />}</Loaded>;
}

function Page({ t }: { t: Run }) {
  const changed = useChanged();
  const go = useNavigate();
  const act = useMutation({
    mutationFn: async (what: "stop" | "begin") => {
      if (what === "stop") return transfersCalls.stop(t.id);
      const { from, to, only, since, bytesPerSecond } = t;
      return transfersCalls.begin({ from, to, only, since, bytesPerSecond });
    },
    onSuccess: async (now) => {
      await changed({ kind: "transfer" });
      if (now.id !== t.id) await go(`/transfers/${now.id}`);
    },
  });
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/transfers">Transfers</Link> /
      </p>
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold tracking-tight">
          {t.from} to {t.to}
        </h1>
        <State t={t} />
        <span className="ml-auto">
          {!t.endedAt && (
            <Button look="danger" disabled={act.isPending} onClick={() => act.mutate("stop")}>
              Stop it
            </Button>
          )}
          {t.endedAt && t.toCome.versions > 0 && (
            <Button look="strong" disabled={act.isPending} onClick={() => act.mutate("begin")}>
              {t.dryRun ? "Do it" : "Go on"}
            </Button>
          )}
        </span>
      </div>
      {act.error && (
        <div className="mb-4">
          <ErrorNote error={act.error} />
        </div>
      )}
      {t.why && (
        <p role="alert" className="mb-5 rounded-lg border border-glow/50 bg-glow-wash px-4 py-3 text-sm">
          {t.endedAt ? "It failed" : "It waits, and is tried again every half minute"}: {t.why}.
        </p>
      )}
      {!t.endedAt && (
        <div role="status" className="mb-5 rounded-lg border border-glow/50 bg-glow-wash px-4 py-3 text-sm">
          <Progress t={t} />
        </div>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <Versions t={t} />
        <Facts of={facts(t)} />
      </div>
    </>
  );
}

function facts(t: Run) {
  const of = (name: string, c: Schemas["TransferCount"]) => (c.versions > 0 ? [[name, sizes(c)] as const] : []);
  return [
    ["Only", t.only.join(", ") || "everything"] as const,
    ...(t.since ? [["Since", moment(t.since)] as const] : []),
    [
      "Begun",
      <>
        by {t.by}, <Time at={t.begunAt} />
        <span className="block text-xs text-soft">{moment(t.begunAt)}</span>
      </>,
    ] as const,
    ...(t.endedAt ? [["Ended", <Time at={t.endedAt} />] as const] : []),
    ...of("To come", t.toCome),
    ...of("Came", t.came),
    ...of("There already", t.there),
    ...of("Not taken", t.refused),
    ...of("Failed", t.failed),
    ...(t.fetched > 0 ? [["Fetched", bytes(t.fetched)] as const] : []),
  ];
}

const columns: Column<Schemas["TransferItem"]>[] = [
  {
    head: "Version",
    by: (i) => i.purl,
    cell: (i) => (
      <>
        <Link to={packagePath(i.purl)} className="wrap-anywhere">
          {decodeURIComponent(i.purl.slice(4))}
        </Link>
        {i.upload && <span className="block font-mono text-xs text-soft">{i.upload}</span>}
      </>
    ),
  },
  {
    head: "What becomes of it",
    by: (i) => i.state,
    cell: (i) => (
      <span className={becomes[i.state][0]}>
        {becomes[i.state][1]}
        {i.why && <span className="block text-xs text-soft">{i.why}</span>}
      </span>
    ),
  },
  {
    head: "Size",
    right: true,
    by: (i) => i.bytes,
    cell: (i) => (i.bytes > 0 ? bytes(i.bytes) : <span className="text-soft">not stated</span>),
  },
];

function Versions({ t }: { t: Run }) {
  const outside = t.refused.versions + t.failed.versions > 0;
  const [which, setWhich] = useState<Which>(outside ? "outside" : "");
  const query = useInfiniteQuery(transfersQueries.versions(t.id, which));
  const all = query.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Panel
      title="Versions"
      aside={
        <div className="w-48">
          <Choice
            label="Which versions"
            value={which}
            onChange={(v) => setWhich(v as Which)}
            options={[
              ["", "all"],
              ["outside", "what does not come"],
              ["new", "to come"],
              ["came", "came"],
              ["there", "there already"],
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
        <Empty title={t.packages === 0 ? "There is nothing of that" : "No version fits"} />
      ) : (
        <Table
          name="Versions of a transfer"
          dense
          partly={query.hasNextPage}
          estimate={54}
          rows={all}
          rowKey={(i) => i.n}
          columns={columns}
        />
      )}
      <More query={query}>Show more</More>
    </Panel>
  );
}
