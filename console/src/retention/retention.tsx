import { useMutation, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { retentionCalls, retentionQueries } from "./calls";
import { usedQueries } from "../use/calls";
import { Choice } from "../ui/dialog";
import { bytes, count, moment, packagePath } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, rowKeys, Time, usePageTitle } from "../ui/parts";
import { SweepMark } from "./plan";
import { OneOf } from "../pointing/point";
import { Downloads, fromDay } from "../use/use";

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

const th = "px-4 py-2 font-medium";
const td = "px-4 py-1.5";

function Head({ names, right = [] }: { names: string[]; right?: number[] }) {
  return (
    <thead className="text-xs text-soft">
      <tr className="border-b border-rule">
        {names.map((h, i) => (
          <th key={i} className={`${th} ${right.includes(i) ? "text-right" : ""}`}>
            {h}
          </th>
        ))}
      </tr>
    </thead>
  );
}

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
            <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
              <table className="w-full text-left text-sm" onKeyDown={rowKeys}>
                <Head names={["Policy", "About", "Keeps", "Next run", "Last run"]} />
                <tbody>
                  {all.map((p) => (
                    <tr key={p.name} className="border-b border-rule align-top last:border-0">
                      <td className={td}>
                        <Link data-row to={`/policies/${p.name}`} className="font-medium">
                          {p.name}
                        </Link>
                        <span className="block text-xs text-soft">{p.description}</span>
                      </td>
                      <td className={td}>{p.about.join(", ") || <span className="text-soft">nothing yet</span>}</td>
                      <td className={td}>
                        {p.keep.map((k) => (
                          <span key={k} className="block">
                            {k}
                          </span>
                        ))}
                      </td>
                      <td className={`${td} whitespace-nowrap`}>
                        {p.paused ? (
                          <span className="text-glow">paused</span>
                        ) : p.next[0] ? (
                          <span title={moment(p.next[0])}>{moment(p.next[0])}</span>
                        ) : (
                          <span className="text-soft">by hand</span>
                        )}
                      </td>
                      <td className={`${td} whitespace-nowrap`}>
                        {p.last ? (
                          <>
                            <Link to={`/sweeps/${p.last.id}`}>sweep {p.last.id}</Link>{" "}
                            <SweepMark state={p.last.state} />
                            <span className="block text-xs text-soft">
                              <Time at={p.last.begunAt} />, {count(p.last.done, "version")}
                            </span>
                          </>
                        ) : (
                          <span className="text-soft">never</span>
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
    </Panel>
  );
}

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
            <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
              <table className="w-full text-left text-sm" onKeyDown={rowKeys}>
                <Head
                  names={["Sweep", "", "Policy", "In", "Begun", "By", "Removed", "Back", "Reclaimed", "Size"]}
                  right={[6, 7, 8, 9]}
                />
                <tbody>
                  {all.map((s) => (
                    <tr key={s.id} className="border-b border-rule last:border-0">
                      <td className={td}>
                        <Link data-row to={`/sweeps/${s.id}`} className="font-medium">
                          sweep {s.id}
                        </Link>
                      </td>
                      <td className={td}>
                        <SweepMark state={s.state} />
                      </td>
                      <td className={td}>
                        {s.policy ? (
                          <Link to={`/policies/${s.policy}`}>{s.policy}</Link>
                        ) : (
                          <span className="text-soft">by hand</span>
                        )}
                      </td>
                      <td className={td}>{s.repositories.join(", ")}</td>
                      <td className={td}>
                        <Time at={s.begunAt} />
                      </td>
                      <td className={td}>{s.begunBy}</td>
                      <td className={`${td} text-right tabular-nums`}>{s.done}</td>
                      <td className={`${td} text-right tabular-nums`}>{s.back || ""}</td>
                      <td className={`${td} text-right tabular-nums`}>{s.reclaimed || ""}</td>
                      <td className={`${td} text-right whitespace-nowrap tabular-nums`}>{bytes(s.bytes)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
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
            <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
              <table className="w-full text-left text-sm">
                <Head names={["Version", "In", "Why", "By", "Since", "Until", ""]} />
                <tbody>
                  {all.map((p) => (
                    <tr key={p.repository + p.purl} className="border-b border-rule last:border-0">
                      <td className={td}>
                        <Link to={packagePath(p.purl)}>{decodeURIComponent(p.purl.slice(4))}</Link>
                      </td>
                      <td className={td}>{p.repository}</td>
                      <td className={td}>{p.reason}</td>
                      <td className={td}>{p.by}</td>
                      <td className={td}>{p.at && <Time at={p.at} />}</td>
                      <td className={`${td} whitespace-nowrap`}>{p.until ? moment(p.until) : "for good"}</td>
                      <td className={`${td} text-right`}>
                        <Button look="bare" onClick={() => off.mutate(p)}>
                          Take off
                        </Button>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
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

function SpaceView() {
  const [days, setDays] = useState("90");
  const query = useQuery(usedQueries.space(Number(days)));
  return (
    <Loaded query={query}>
      {(s) => (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
          {(s.files ?? 0) > 0 && (
            <p className="text-sm">
              The store has {bytes(s.bytes ?? 0)} in {count(s.files!, "file")}, each stored once; the disk has room for{" "}
              {bytes(s.free ?? 0)} more.
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
          <Panel title="Where it goes">
            <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
              <table className="w-full text-left text-sm">
                <Head
                  names={[
                    "Repository",
                    "Ecosystem",
                    "Packages",
                    "Versions",
                    "Size",
                    "Of it shared",
                    "Removed, in grace",
                  ]}
                  right={[2, 3, 4, 5, 6]}
                />
                <tbody>
                  {[...s.now]
                    .sort((a, b) => b.bytes - a.bytes)
                    .map((x) => (
                      <tr key={x.repository + x.ecosystem} className="border-b border-rule last:border-0">
                        <td className={td}>
                          <Link to={`/repositories/${x.repository}`}>{x.repository}</Link>
                        </td>
                        <td className={td}>{x.ecosystem}</td>
                        <td className={`${td} text-right tabular-nums`}>{x.packages ?? 0}</td>
                        <td className={`${td} text-right tabular-nums`}>{x.versions}</td>
                        <td className={`${td} text-right whitespace-nowrap tabular-nums`}>{bytes(x.bytes)}</td>
                        <td className={`${td} text-right whitespace-nowrap tabular-nums`}>
                          {x.shared ? bytes(x.shared) : ""}
                        </td>
                        <td className={`${td} text-right whitespace-nowrap tabular-nums`}>
                          {x.grace ? bytes(x.grace) : ""}
                        </td>
                      </tr>
                    ))}
                </tbody>
              </table>
            </div>
          </Panel>
          <Panel title="How old it is">
            <Ages ages={s.ages} />
          </Panel>
          <Freed />
        </div>
      )}
    </Loaded>
  );
}

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
        <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
          <table className="w-full text-left text-sm">
            <Head
              names={["Began", "By", "Versions past their grace", "Newly without a name", "Files freed", "Bytes freed"]}
              right={[2, 3, 4, 5]}
            />
            <tbody>
              {query.data.slice(0, 10).map((r) => (
                <tr key={r.id} className="border-b border-rule last:border-0">
                  <td className={td}>
                    <Time at={r.begunAt} />
                  </td>
                  <td className={td}>
                    {r.begunBy}
                    {r.failure && <span className="block text-xs text-bad">{r.failure}</span>}
                  </td>
                  <td className={`${td} text-right tabular-nums`}>{r.versions}</td>
                  <td className={`${td} text-right tabular-nums`}>{r.marked}</td>
                  <td className={`${td} text-right tabular-nums`}>{r.files}</td>
                  <td className={`${td} text-right whitespace-nowrap tabular-nums`}>{bytes(r.bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Panel>
  );
}

const colours = ["--deep", "--glow", "--good", "--bad", "--soft"];

/** Growth draws what the largest repositories held, day by day. */
function Growth({ days }: { days: Schemas["Space"][] }) {
  const drawn = useMemo(() => {
    const all = [...new Set(days.map((d) => d.when!))].sort();
    const held = new Map<string, Map<string, number>>(); // by repository and ecosystem
    for (const d of days) {
      const key = `${d.repository} ${d.ecosystem}`;
      held.set(key, (held.get(key) ?? new Map()).set(d.when!, d.bytes));
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
function Ages({ ages }: { ages: Schemas["Space"][] }) {
  const months = new Map<string, number>();
  for (const a of ages) months.set(a.when!, (months.get(a.when!) ?? 0) + a.bytes);
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
              <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
                <table className="w-full text-left text-sm" onKeyDown={rowKeys}>
                  <Head
                    names={["Package", "In", "Downloads", "Before", "Users", "Last used", "Versions", "Size"]}
                    right={[2, 3, 4, 6, 7]}
                  />
                  <tbody>
                    {all.map((p) => (
                      <tr key={p.repository + p.purl} className="border-b border-rule last:border-0">
                        <td className={td}>
                          <Link data-row to={packagePath(p.purl)}>
                            {decodeURIComponent(p.purl.slice(4))}
                          </Link>
                        </td>
                        <td className={td}>{p.repository}</td>
                        <td className={`${td} text-right tabular-nums`}>{p.downloads}</td>
                        <td className={`${td} text-right text-soft tabular-nums`}>{p.before}</td>
                        <td className={`${td} text-right tabular-nums`}>{p.users}</td>
                        <td className={td}>
                          {p.usedAt ? <Time at={p.usedAt} /> : <span className="text-soft">never</span>}
                        </td>
                        <td className={`${td} text-right tabular-nums`}>{p.versions}</td>
                        <td className={`${td} text-right whitespace-nowrap tabular-nums`}>{bytes(p.bytes)}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            )
          }
        </Loaded>
      </Panel>
    </div>
  );
}
