import { useMutation, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { retentionCalls, retentionQueries } from "./calls";
import { usedQueries } from "../use/calls";
import { Choice } from "../ui/dialog";
import { bytes, count, moment, packagePath } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle } from "../ui/parts";
import { SweepMark } from "./plan";
import { OneOf } from "../pointing/point";
import { Quotas } from "../quotas/quotas";
import { Downloads, fromDay } from "../use/use";
import { type Column, Table } from "../ui/table";

const Chart = lazy(() => import("../ui/chart"));

const tabs: [string, string][] = [
  ["policies", "Policies"],
  ["sweeps", "Sweeps"],
  ["space", "Space"],
  ["use", "Use"],
  ["pins", "Pins"],
];

/** RetentionPage is about what stays, what goes, and what is used. */
export default function RetentionPage() {
  const { shown = "policies" } = useParams();
  const navigate = useNavigate();
  usePageTitle(tabs.find(([key]) => key === shown)?.[1] ?? "Retention");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">Retention</h1>
        <OneOf label="About" value={shown} onChange={(to) => void navigate(`/retention/${to}`)} options={tabs} />
      </div>
      {shown === "policies" && <Policies />}
      {shown === "sweeps" && <Sweeps />}
      {shown === "space" && <SpaceView />}
      {shown === "use" && <UseView />}
      {shown === "pins" && <Pins />}
    </div>
  );
}

const policyColumns: Column<Schemas["Policy"]>[] = [
  {
    head: "Policy",
    by: (p) => p.name,
    cell: (p) => (
      <>
        <Link data-row to={`/policies/${p.name}`} className="font-medium">
          {p.name}
        </Link>
        <span className="block text-xs text-soft">{p.description}</span>
      </>
    ),
  },
  { head: "About", cell: (p) => p.about.join(", ") || <span className="text-soft">nothing yet</span> },
  {
    head: "Keeps",
    cell: (p) =>
      p.keep.map((k) => (
        <span key={k} className="block">
          {k}
        </span>
      )),
  },
  {
    head: "Next run",
    look: "whitespace-nowrap",
    by: (p) => (p.paused ? undefined : p.next[0]),
    cell: (p) =>
      p.paused ? (
        <span className="text-glow">paused</span>
      ) : p.next[0] ? (
        moment(p.next[0])
      ) : (
        <span className="text-soft">by hand</span>
      ),
  },
  {
    head: "Last run",
    look: "whitespace-nowrap",
    by: (p) => p.last?.begunAt,
    cell: (p) =>
      p.last ? (
        <>
          <Link to={`/sweeps/${p.last.id}`}>sweep {p.last.id}</Link> <SweepMark state={p.last.state} />
          <span className="block text-xs text-soft">
            <Time at={p.last.begunAt} />, {count(p.last.done, "version")}
          </span>
        </>
      ) : (
        <span className="text-soft">never</span>
      ),
  },
];

function Policies() {
  const query = useQuery(retentionQueries.policies());
  return (
    <Panel
      title="Retention policies"
      aside={
        <Link
          to="/policies/new"
          className="inline-flex h-8 items-center rounded bg-deep px-3 text-sm font-medium text-deep-ink hover:no-underline hover:opacity-90"
        >
          New policy
        </Link>
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="Nothing is swept yet">
              A policy says what stays and why; the rest goes, and can be brought back for a while.{" "}
              <Link to="/policies/new">Write one</Link> and see what it would do before you save it.
            </Empty>
          ) : (
            <Table name="Policies" rows={all} rowKey={(p) => p.name} columns={policyColumns} />
          )
        }
      </Loaded>
    </Panel>
  );
}

const sweepColumns: Column<Schemas["Sweep"]>[] = [
  {
    head: "Sweep",
    by: (s) => s.id,
    cell: (s) => (
      <Link data-row to={`/sweeps/${s.id}`} className="font-medium">
        sweep {s.id}
      </Link>
    ),
  },
  { head: "State", by: (s) => s.state, cell: (s) => <SweepMark state={s.state} /> },
  {
    head: "Policy",
    by: (s) => s.policy,
    cell: (s) =>
      s.policy ? <Link to={`/policies/${s.policy}`}>{s.policy}</Link> : <span className="text-soft">by hand</span>,
  },
  { head: "In", by: (s) => s.repositories.join(), cell: (s) => s.repositories.join(", ") },
  { head: "Begun", by: (s) => s.begunAt, cell: (s) => <Time at={s.begunAt} /> },
  { head: "By", by: (s) => s.begunBy, cell: (s) => s.begunBy },
  { head: "Removed", right: true, by: (s) => s.done, cell: (s) => s.done },
  { head: "Back", right: true, by: (s) => s.back, cell: (s) => s.back || "" },
  { head: "Reclaimed", right: true, by: (s) => s.reclaimed, cell: (s) => s.reclaimed || "" },
  { head: "Size", right: true, by: (s) => s.bytes, cell: (s) => bytes(s.bytes) },
];

function Sweeps() {
  const query = useQuery(retentionQueries.sweeps());
  return (
    <Panel
      title="Sweeps"
      aside={<span className="text-xs text-soft">what policies took, and what was removed by hand</span>}
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="Nothing was swept yet" />
          ) : (
            <Table name="Sweeps" dense rows={all} rowKey={(s) => s.id} columns={sweepColumns} />
          )
        }
      </Loaded>
    </Panel>
  );
}

function Pins() {
  const query = useQuery(retentionQueries.pins());
  const changed = useChanged();
  const off = useMutation({
    mutationFn: (p: Schemas["Pin"]) => retentionCalls.setPin({ purl: p.purl, repository: p.repository, off: true }),
    onSuccess: () => changed({ kind: "pin" }),
  });
  return (
    <Panel title="Pins" aside={<span className="text-xs text-soft">what people keep, whatever the policies say</span>}>
      {off.error && (
        <div className="p-4">
          <ErrorNote error={off.error} />
        </div>
      )}
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="Nothing is pinned">
              Pin a version on its page, or with{" "}
              <code className="font-mono">crelvo pin PURL --in REPOSITORY --reason TEXT</code>.
            </Empty>
          ) : (
            <Table
              name="Pins"
              dense
              rows={all}
              rowKey={(p) => p.repository + p.purl}
              columns={[
                {
                  head: "Version",
                  by: (p) => p.purl,
                  cell: (p) => <Link to={packagePath(p.purl)}>{decodeURIComponent(p.purl.slice(4))}</Link>,
                },
                { head: "In", by: (p) => p.repository, cell: (p) => p.repository },
                { head: "Why", by: (p) => p.reason, cell: (p) => p.reason },
                { head: "By", by: (p) => p.by, cell: (p) => p.by },
                { head: "Since", by: (p) => p.at, cell: (p) => p.at && <Time at={p.at} /> },
                {
                  head: "Until",
                  look: "whitespace-nowrap",
                  by: (p) => p.until,
                  cell: (p) => (p.until ? moment(p.until) : "for good"),
                },
                {
                  head: " ",
                  right: true,
                  cell: (p) => (
                    <Button look="bare" onClick={() => off.mutate(p)}>
                      Take off
                    </Button>
                  ),
                },
              ]}
            />
          )
        }
      </Loaded>
    </Panel>
  );
}

const spans: [string, string][] = [
  ["30", "30 days"],
  ["90", "90 days"],
  ["365", "a year"],
];

/** largestFirst orders what repositories hold now. */
const largestFirst = (now: Schemas["Space"][]) => [...now].sort((a, b) => b.bytes - a.bytes);

const spaceColumns: Column<Schemas["Space"]>[] = [
  {
    head: "Repository",
    by: (x) => x.repository,
    cell: (x) => <Link to={`/repositories/${x.repository}`}>{x.repository}</Link>,
  },
  { head: "Ecosystem", by: (x) => x.ecosystem, cell: (x) => x.ecosystem },
  { head: "Packages", right: true, by: (x) => x.packages, cell: (x) => x.packages },
  { head: "Versions", right: true, by: (x) => x.versions, cell: (x) => x.versions },
  { head: "Size", right: true, by: (x) => x.bytes, cell: (x) => bytes(x.bytes) },
  { head: "Of it shared", right: true, by: (x) => x.shared, cell: (x) => (x.shared ? bytes(x.shared) : "") },
  { head: "Removed, in grace", right: true, by: (x) => x.grace, cell: (x) => (x.grace ? bytes(x.grace) : "") },
];

function SpaceView() {
  const [days, setDays] = useState("90");
  const query = useQuery(usedQueries.space(Number(days)));
  return (
    <Loaded query={query}>
      {(s) => (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
          {(s.files ?? 0) > 0 && (
            <p className="text-sm">
              The store has {bytes(s.bytes ?? 0)} in {count(s.files!, "file")}, each stored once
              {(s.free ?? 0) > 0 && <>; the disk has room for {bytes(s.free!)} more</>}.{" "}
              <Link to="/stores">Stores</Link> shows where they are.
              {(s.unnamed ?? 0) > 0 && <> Nothing names {bytes(s.unnamed!)}; they are freed tonight.</>}
            </p>
          )}
          <Panel
            title="Growth"
            aside={
              <div className="w-32">
                <Choice label="How far back" value={days} onChange={setDays} options={spans} />
              </div>
            }
          >
            <Growth days={s.days} />
          </Panel>
          <Quotas admin={(s.files ?? 0) > 0} />
          <Panel title="Where it goes">
            <Table
              name="Space"
              dense
              rows={largestFirst(s.now)}
              rowKey={(x) => x.repository + x.ecosystem}
              columns={spaceColumns}
            />
          </Panel>
          <Panel title="How old it is">
            <Ages ages={s.ages} />
          </Panel>
          <Freed />
          <p className="text-xs text-soft">
            These figures were made <Time at={s.asOf} />.
          </p>
        </div>
      )}
    </Loaded>
  );
}

const freedColumns: Column<Schemas["Reclaiming"]>[] = [
  { head: "Began", by: (r) => r.begunAt, cell: (r) => <Time at={r.begunAt} /> },
  {
    head: "By",
    by: (r) => r.begunBy,
    cell: (r) => (
      <>
        {r.begunBy}
        {r.failure && <span className="block text-xs text-bad">{r.failure}</span>}
      </>
    ),
  },
  { head: "Versions past their grace", right: true, by: (r) => r.versions, cell: (r) => r.versions },
  { head: "Newly without a name", right: true, by: (r) => r.marked, cell: (r) => r.marked },
  { head: "Files freed", right: true, by: (r) => r.files, cell: (r) => r.files },
  { head: "Bytes freed", right: true, by: (r) => r.bytes, cell: (r) => bytes(r.bytes) },
];

/** Freed lists the last runs that freed bytes, and lets an admin begin one. */
function Freed() {
  const changed = useChanged();
  const query = useQuery({ ...retentionQueries.reclaimings(), retry: false });
  const run = useMutation({ mutationFn: retentionCalls.reclaim, onSuccess: () => changed({ kind: "sweep" }) });
  if (!query.data) return null; // only admins see it
  return (
    <Panel
      title="Freed"
      aside={
        <Button
          disabled={run.isPending}
          onClick={() => run.mutate()}
          title="Frees the bytes that nothing has used since the last run; it runs by itself every night"
        >
          Free unused bytes
        </Button>
      }
    >
      {run.error && (
        <div className="p-4 pb-2">
          <ErrorNote error={run.error} />
        </div>
      )}
      {query.data.length === 0 ? (
        <p className="px-4 py-3 text-sm text-soft">No run yet. Bytes whose grace is over are freed every night.</p>
      ) : (
        <Table name="Freed" dense rows={query.data.slice(0, 10)} rowKey={(r) => r.id} columns={freedColumns} />
      )}
    </Panel>
  );
}

const colours = ["--deep", "--glow", "--good", "--bad", "--soft"];

/** Growth draws what the largest repositories held, day by day. */
function Growth({ days }: { days: Schemas["SpaceDay"][] }) {
  const drawn = useMemo(() => {
    const all = [...new Set(days.map((d) => d.when))].sort();
    const held = new Map<string, Map<string, number>>(); // by repository and ecosystem
    for (const d of days) {
      const key = `${d.repository} ${d.ecosystem}`;
      held.set(key, (held.get(key) ?? new Map()).set(d.when, d.bytes));
    }
    const sums = new Map<string, number[]>();
    for (const [key, by] of held) {
      const name = key.split(" ")[0]!;
      const sum = sums.get(name) ?? all.map(() => 0);
      let last = 0;
      all.forEach((day, i) => {
        last = by.get(day) ?? last;
        sum[i]! += last;
      });
      sums.set(name, sum);
    }
    const largest = [...sums].sort((a, b) => b[1].at(-1)! - a[1].at(-1)!).slice(0, colours.length);
    return {
      times: all.map((d) => Date.parse(d) / 1000),
      series: largest.map(([label, values], i) => ({ label, color: colours[i]!, values })),
    };
  }, [days]);
  if (drawn.times.length < 2) return <Empty title="Not enough days to draw yet" />;
  return (
    <figure className="px-3 pt-3 pb-2">
      <Suspense fallback={<div className="h-[150px]" aria-busy="true" />}>
        <Chart
          times={drawn.times}
          series={drawn.series}
          unit={bytes}
          label="What the largest repositories held, by day"
          binary
        />
      </Suspense>
      <figcaption className="mt-1 flex flex-wrap gap-x-4 px-1 text-xs text-soft">
        {drawn.series.map((s) => (
          <span key={s.label} className="inline-flex items-center gap-1.5">
            <span aria-hidden className="h-0.5 w-4" style={{ background: `var(${s.color})` }} />
            {s.label}, {bytes(s.values.at(-1)!)}
          </span>
        ))}
      </figcaption>
    </figure>
  );
}

/** Ages shows how many bytes were published in which month. */
function Ages({ ages }: { ages: Schemas["SpaceMonth"][] }) {
  const months = new Map<string, number>();
  for (const a of ages) months.set(a.when, (months.get(a.when) ?? 0) + a.bytes);
  const most = Math.max(1, ...months.values());
  if (months.size === 0) return <Empty title="Nothing is held" />;
  return (
    <ul className="px-4 py-3 text-sm">
      {[...months]
        .sort()
        .reverse()
        .map(([month, n]) => (
          <li key={month} className="grid grid-cols-[5rem_1fr_6rem] items-center gap-3 py-0.5">
            <span className="tabular-nums">{month}</span>
            <span className="h-2.5 rounded-xs bg-deep" style={{ width: `${Math.max((100 * n) / most, 0.5)}%` }} />
            <span className="text-right whitespace-nowrap tabular-nums">{bytes(n)}</span>
          </li>
        ))}
    </ul>
  );
}

const orders: [string, string][] = [
  ["top", "used most"],
  ["rising", "rising"],
  ["falling", "falling"],
  ["unused", "not used"],
];

const usedColumns: Column<Schemas["UsedPackage"]>[] = [
  {
    head: "Package",
    by: (p) => p.purl,
    cell: (p) => (
      <Link data-row to={packagePath(p.purl)}>
        {decodeURIComponent(p.purl.slice(4))}
      </Link>
    ),
  },
  { head: "In", by: (p) => p.repository, cell: (p) => p.repository },
  { head: "Downloads", right: true, by: (p) => p.downloads, cell: (p) => p.downloads },
  { head: "Before", right: true, look: "text-soft", by: (p) => p.before, cell: (p) => p.before },
  { head: "Users", right: true, by: (p) => p.users, cell: (p) => p.users },
  {
    head: "Last used",
    by: (p) => p.usedAt,
    cell: (p) => (p.usedAt ? <Time at={p.usedAt} /> : <span className="text-soft">never</span>),
  },
  { head: "Versions", right: true, by: (p) => p.versions, cell: (p) => p.versions },
  { head: "Size", right: true, by: (p) => p.bytes, cell: (p) => bytes(p.bytes) },
];

function UseView() {
  const [order, setOrder] = useState("top");
  const [days, setDays] = useState("30");
  const query = useQuery(usedQueries.usedPackages(order as "top", fromDay(Number(days))));
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
      <Downloads title="Downloads of everything" days={Number(days)} />
      <Panel
        title="Packages"
        aside={
          <span className="flex flex-wrap gap-2">
            <OneOf label="Order" value={order} onChange={setOrder} options={orders} />
            <span className="w-32">
              <Choice label="How far back" value={days} onChange={setDays} options={spans} />
            </span>
          </span>
        }
      >
        <Loaded query={query}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="No package fits">Choose a longer time, or another order.</Empty>
            ) : (
              <Table
                name="Packages used"
                dense
                rows={all}
                rowKey={(p) => p.repository + p.purl}
                columns={usedColumns}
              />
            )
          }
        </Loaded>
      </Panel>
    </div>
  );
}
