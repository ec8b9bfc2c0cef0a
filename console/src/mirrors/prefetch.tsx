import { useMutation } from "@tanstack/react-query";
import { ChevronDown, ChevronRight, Play } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { mirrorsCalls, mirrorsQueries } from "./calls";
import { repositoriesCalls } from "../repositories/calls";
import { scheduleQueries } from "../schedule/calls";
import { bytes, count, lines, packagePath } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { Form, TextField, TickField, AreaField } from "../ui/form";

/** Prefetch is the rule that fills a mirror ahead of time, and its runs. */
export function Prefetch({ repository: r }: { repository: Schemas["Repository"] }) {
  const changed = useChanged();
  const manage = r.may.includes("manage");
  const rule = r.mirror!.prefetch;
  const runs = useQuery({
    ...mirrorsQueries.prefetchRuns(r.name),
    refetchInterval: (q) => (q.state.data?.[0]?.state === "running" ? 700 : false),
  });
  const start = useMutation({
    mutationFn: () => mirrorsCalls.prefetch(r.name),
    onSettled: () => changed({ kind: "mirror", repository: r.name }),
  });
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[24rem_minmax(0,1fr)]">
      <div className="grid gap-5">
        {rule.follow && <Following name={r.name} />}
        <Rule repository={r} />
      </div>
      <Panel
        title="Runs"
        aside={
          manage &&
          rule.patterns.length > 0 && (
            <Button
              look="strong"
              disabled={start.isPending || runs.data?.[0]?.state === "running"}
              onClick={() => start.mutate()}
            >
              <Play size={14} /> Run now
            </Button>
          )
        }
      >
        {start.error && (
          <div className="p-3">
            <ErrorNote error={start.error} />
          </div>
        )}
        <Loaded query={runs}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="It has not run yet">
                {rule.patterns.length ? "It runs by its schedule, or now." : "Say first what is to be fetched."}
              </Empty>
            ) : (
              <ul>
                {all.map((run, i) => (
                  <Run key={run.id} run={run} first={i === 0} />
                ))}
              </ul>
            )
          }
        </Loaded>
      </Panel>
    </div>
  );
}

function Rule({ repository: r }: { repository: Schemas["Repository"] }) {
  const changed = useChanged();
  const rule = r.mirror!.prefetch;
  const may = r.may.includes("manage");
  return (
    <Panel title="What is fetched ahead">
      <fieldset disabled={!may}>
        <Form
          className="p-4"
          start={{
            patterns: rule.patterns.join("\n"),
            schedule: rule.schedule,
            zone: rule.zone || Intl.DateTimeFormat().resolvedOptions().timeZone,
            newest: String(rule.newest || 1),
            follow: rule.follow,
          }}
          run={({ patterns, schedule, zone, newest, follow }) =>
            repositoriesCalls.editRepository(r.name, {
              mirror: {
                prefetch: {
                  patterns: lines(patterns),
                  schedule: schedule.trim(),
                  zone,
                  newest: Number(newest),
                  follow,
                },
              },
            })
          }
          done={() => changed({ kind: "repository", repository: r.name })}
          submit="Save"
          saves="Saved."
        >
          {({ schedule, zone }) => (
            <>
              <AreaField
                name="patterns"
                label="Patterns"
                hint="One a line. Those with * fit packages that the mirror knows already."
                rows={3}
                placeholder="pkg:maven/org.openshore/*"
              />
              <TextField name="newest" label="How many of the newest versions" type="number" min={1} max={100} />
              <div className="grid grid-cols-2 gap-x-3">
                <TextField
                  name="schedule"
                  label="Schedule"
                  hint="Minute, hour, day, month, weekday; empty is by hand."
                  className="font-mono"
                  placeholder="30 5 * * 1-5"
                />
                <TextField name="zone" label="Time zone" placeholder="Europe/Oslo" />
              </div>
              <TickField name="follow">Follow the changes of the upstream, which is a Crelvo</TickField>
              {schedule.trim() !== "" && <NextTimes schedule={schedule} zone={zone} />}
            </>
          )}
        </Form>
      </fieldset>
    </Panel>
  );
}

/** Following says how far the mirror is with the changes of its upstream. */
function Following({ name }: { name: string }) {
  const state = useQuery(mirrorsQueries.mirror(name, 24));
  const f = state.data?.following;
  return (
    <Panel title="What it follows">
      <div className="p-4 text-sm">
        {!f ? (
          <p className="text-soft">It has not asked its upstream yet.</p>
        ) : (
          <>
            <p>
              {f.failure || f.behind > 0 || !f.doneAt ? (
                <span className={f.failure ? "text-bad" : "text-glow"}>{count(f.behind, "package")} behind</span>
              ) : (
                <span className="text-good">in step</span>
              )}
              <span className="text-soft">
                , in step last {f.doneAt ? <Time at={f.doneAt} /> : "never"}
                {f.askedAt && (
                  <>
                    , asked <Time at={f.askedAt} />
                  </>
                )}
              </span>
            </p>
            {f.failure && <p className="mt-1 text-soft wrap-anywhere">{f.failure}</p>}
          </>
        )}
      </div>
    </Panel>
  );
}

function NextTimes({ schedule, zone }: { schedule: string; zone: string }) {
  const next = useQuery({ ...scheduleQueries.nextTimes(schedule, zone), retry: false });
  return (
    <div className="mb-3 text-sm">
      <p className="mb-1 font-medium">The next five times</p>
      {next.error && <ErrorNote error={next.error} />}
      {next.data && (
        <ul className="text-soft tabular-nums">
          {next.data.next.map((at) => (
            <li key={at}>{local(at)}</li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** local writes a time as it is in the zone that it is given in. */
function local(iso: string): string {
  const [date, time] = iso.split("T");
  const weekday = new Date(`${date}T00:00Z`).toLocaleDateString("en-GB", { weekday: "short", timeZone: "UTC" });
  const zone = /(Z|[+-]\d\d:\d\d)$/.exec(iso)?.[1] ?? "";
  return `${weekday} ${date} ${time!.slice(0, 5)} ${zone === "Z" ? "UTC" : `UTC${zone}`}`;
}

function Run({ run, first }: { run: Schemas["PrefetchRun"]; first: boolean }) {
  const [open, setOpen] = useState(first);
  const done = run.came + run.there + run.failed;
  return (
    <li className="border-b border-rule last:border-0">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="flex w-full cursor-pointer flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2.5 text-left hover:bg-wash/50"
      >
        {open ? <ChevronDown size={15} aria-hidden /> : <ChevronRight size={15} aria-hidden />}
        <span className="font-medium">
          <Time at={run.begunAt} />
        </span>
        <span className="text-sm text-soft">by {run.begunBy}</span>
        <span
          className={`text-sm ${run.state === "failed" ? "text-bad" : run.state === "running" ? "text-glow" : "text-soft"}`}
        >
          {run.state}
        </span>
        <span className="ml-auto text-sm tabular-nums">
          {run.came} came ({bytes(run.bytes)}), {run.there} there
          {run.failed > 0 && <span className="text-bad">, {run.failed} failed</span>}
        </span>
        {run.state === "running" && (
          <progress
            className="h-1.5 w-full accent-(--deep)"
            max={Math.max(run.planned, done)}
            value={done}
            aria-label={`${done} of ${count(run.planned, "package")}`}
          />
        )}
      </button>
      {open && (
        <div className="px-4 pb-3 pl-11 text-sm">
          {run.failure && <p className="mb-2 text-bad">It ended early: {run.failure}.</p>}
          {run.report.length === 0 && run.state !== "running" && (
            <p className="text-soft">The patterns fit no package that the mirror knows.</p>
          )}
          <ul>
            {run.report.map((l, i) => (
              <li key={i} className="flex flex-wrap gap-x-3 py-0.5">
                <span
                  className={`w-14 ${l.outcome === "failed" ? "text-bad" : l.outcome === "came" ? "text-good" : "text-soft"}`}
                >
                  {l.outcome}
                </span>
                <Link to={packagePath(l.purl)} className="font-mono wrap-anywhere">
                  {l.purl.replace(/^pkg:/, "")}
                </Link>
                <span className="text-soft">
                  {l.why || (l.files ? `${count(l.files, "file")}, ${bytes(l.bytes ?? 0)}` : "")}
                </span>
              </li>
            ))}
          </ul>
        </div>
      )}
    </li>
  );
}
