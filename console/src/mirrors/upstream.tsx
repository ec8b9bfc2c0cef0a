import { useMutation } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { mirrorsCalls, mirrorsQueries } from "./calls";
import Chart, { type Series } from "../ui/chart";
import { Choice, TextInput } from "../ui/dialog";
import { asPurl, bytes, count, moment, seconds } from "../ui/format";
import { Button, ErrorNote, Loaded, Panel, Time, useQuery } from "../ui/parts";

/** Upstream shows how the upstreams of a mirror are, and what it did. */
export default function Upstream({ repository: r }: { repository: Schemas["Repository"] }) {
  const [hours, setHours] = useState("24");
  const query = useQuery({
    ...mirrorsQueries.mirror(r.name, Number(hours)),
    refetchInterval: 5000,
  });
  return (
    <Loaded query={query}>
      {(state) => (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
          <Panel title="Upstreams" aside={<span className="text-xs text-soft">asked in this order</span>}>
            <ul>
              {state.contacts.map((c) => (
                <Contact key={c.url} contact={c} />
              ))}
            </ul>
          </Panel>
          <Panel
            title="What it did"
            aside={
              <div className="w-40">
                <Choice
                  label="Of which time"
                  value={hours}
                  onChange={setHours}
                  options={[
                    ["24", "the last day"],
                    ["168", "the last week"],
                    ["1440", "the last 60 days"],
                  ]}
                />
              </div>
            }
          >
            <Figures state={state} />
            <Charts state={state} hours={Number(hours)} />
          </Panel>
          <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[repeat(2,minmax(0,1fr))]">
            <TryAndForget repository={r} />
            <Stale state={state} />
          </div>
        </div>
      )}
    </Loaded>
  );
}

function Contact({ contact: c }: { contact: Schemas["Contact"] }) {
  const [lamp, words] = {
    ok: ["bg-good", "answers"],
    failing: ["bg-bad", "fails"],
    unknown: ["bg-rule", "not asked yet"],
  }[c.state] as [string, string];
  return (
    <li className="flex flex-wrap items-baseline gap-x-5 gap-y-1 border-b border-rule px-4 py-2.5 text-sm last:border-0">
      <span className="inline-flex w-32 items-center gap-2 font-medium">
        <span aria-hidden className={`size-2.5 rounded-full ${lamp}`} /> {words}
      </span>
      <code className="font-mono wrap-anywhere">{c.url}</code>
      {c.contactAt && (
        <span className="text-soft">
          last contact <Time at={c.contactAt} />, {seconds(c.firstByteSeconds)}
        </span>
      )}
      {c.allowed && (
        <span className={`w-full sm:pl-37 ${c.allowed.scarce ? "text-glow" : "text-soft"}`}>
          lets us ask {count(c.allowed.left, "more time")}
          {c.allowed.most && `, of ${c.allowed.most}`}
          {c.allowed.seconds && ` within ${seconds(c.allowed.seconds)}`}
          {c.allowed.again && `; more at ${moment(c.allowed.again)}`}, as it said <Time at={c.allowed.at} />
        </span>
      )}
      {c.failedAt && (
        <span className={`w-full sm:pl-37 ${c.state === "failing" ? "text-bad" : "text-soft"}`}>
          {c.state === "failing" ? "It " : "Last failure: it "}
          {c.failure} <Time at={c.failedAt} />
          {c.retryAt &&
            c.state === "failing" &&
            new Date(c.retryAt).getTime() > Date.now() &&
            `; left alone until ${moment(c.retryAt)}`}
        </span>
      )}
    </li>
  );
}

function Figures({ state: { total: t, staleTotal } }: { state: Schemas["MirrorState"] }) {
  const asked = t.hits + t.misses;
  const all: [string, string, string?][] = [
    [
      "Kept already",
      asked ? `${Math.floor((100 * t.hits) / asked)} %` : "–",
      asked ? `${count(t.hits, "hit")}, ${count(t.misses, "miss", "misses")}` : "nothing asked for",
    ],
    ["Served", bytes(t.bytesServed)],
    ["Fetched", bytes(t.bytesFetched), count(t.requests, "request")],
    ["First byte", t.requests ? seconds(t.firstByteSeconds) : "–", "of the upstream, on average"],
    [
      "Failures",
      t.failures.toLocaleString("en"),
      `${count(t.stale, "stale answer")}, ${count(staleTotal, "stale list")} now`,
    ],
  ];
  return (
    <dl className="grid grid-cols-2 gap-x-4 gap-y-3 px-4 py-3 sm:grid-cols-5">
      {all.map(([name, value, more]) => (
        <div key={name}>
          <dt className="text-xs text-soft">{name}</dt>
          <dd className="text-lg font-semibold tabular-nums">{value}</dd>
          {more && <dd className="text-xs text-soft">{more}</dd>}
        </div>
      ))}
    </dl>
  );
}

const whole = (n: number) => (Number.isInteger(n) ? String(n) : "");

function Charts({ state, hours }: { state: Schemas["MirrorState"]; hours: number }) {
  const { times, files, latency, traffic } = useMemo(() => series(state.hours, hours), [state, hours]);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4 border-t border-rule p-4 lg:grid-cols-[repeat(3,minmax(0,1fr))]">
      <Figure title="Files asked for" series={files}>
        <Chart times={times} series={files} unit={whole} label="Hits and misses by hour" />
      </Figure>
      <Figure title="Bytes" series={traffic}>
        <Chart times={times} series={traffic} unit={bytes} binary label="Bytes served and fetched by hour" />
      </Figure>
      <Figure title="First byte of the upstream" series={latency}>
        <Chart times={times} series={latency} unit={seconds} label="Latency of the upstream by hour" />
      </Figure>
    </div>
  );
}

function Figure({ title, series: all, children }: { title: string; series: Series[]; children: React.ReactNode }) {
  return (
    <figure>
      <figcaption className="mb-1 flex flex-wrap items-baseline gap-x-3 text-sm font-medium">
        {title}
        {all.length > 1 &&
          all.map((s) => (
            <span key={s.label} className="inline-flex items-center gap-1 text-xs font-normal text-soft">
              <span aria-hidden className="size-2 rounded-xs" style={{ background: `var(${s.color})` }} />
              {s.label}
            </span>
          ))}
      </figcaption>
      {children}
    </figure>
  );
}

/** series makes what is drawn of what is counted, with the hours in which nothing was. */
function series(counted: Schemas["Hour"][], hours: number) {
  const byHour = new Map(counted.map((h) => [new Date(h.hour).getTime() / 1000, h]));
  const now = Math.floor(Date.now() / 3_600_000) * 3600;
  const times = Array.from({ length: hours }, (_, i) => now - (hours - 1 - i) * 3600);
  const of = (pick: (h: Schemas["Hour"]) => number) => times.map((t) => (byHour.has(t) ? pick(byHour.get(t)!) : 0));
  const files: Series[] = [
    { label: "misses", color: "--glow", bars: true, values: of((h) => h.hits + h.misses) },
    { label: "hits", color: "--deep", bars: true, values: of((h) => h.hits) },
  ];
  const traffic: Series[] = [
    { label: "served", color: "--deep", values: of((h) => h.bytesServed) },
    { label: "fetched", color: "--glow", values: of((h) => h.bytesFetched) },
  ];
  const latency: Series[] = [
    {
      label: "first byte",
      color: "--deep",
      bars: true,
      values: times.map((t) => (byHour.get(t)?.requests ? byHour.get(t)!.firstByteSeconds : null)),
    },
  ];
  return { times, files, traffic, latency };
}

function TryAndForget({ repository: r }: { repository: Schemas["Repository"] }) {
  const changed = useChanged();
  const [text, setText] = useState("");
  const purl = () => asPurl(text, r.ecosystem);
  const attempt = useMutation({ mutationFn: () => mirrorsCalls.tryPatterns(r.name, { purl: purl() }) });
  const forget = useMutation({
    mutationFn: () => mirrorsCalls.forget(r.name, purl()),
    onSuccess: () => changed({ kind: "package", repository: r.name }),
  });
  return (
    <Panel title="Try or forget a name">
      <form
        className="p-4"
        onSubmit={(e) => {
          e.preventDefault();
          forget.reset();
          attempt.mutate();
        }}
      >
        <TextInput
          name="try"
          aria-label="Package or version"
          required
          placeholder="org.openshore:brine-http:2.0.0"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <div className="mt-2 flex gap-2">
          <Button type="submit" disabled={!text.trim()}>
            Does it come in?
          </Button>
          {r.may.includes("remove") && (
            <Button
              look="danger"
              disabled={!text.trim() || forget.isPending}
              onClick={() => {
                attempt.reset();
                forget.mutate();
              }}
            >
              Forget its copies
            </Button>
          )}
        </div>
        <div role="status" className="mt-3 text-sm">
          {attempt.data && (
            <p className={attempt.data.allowed ? "text-good" : "text-bad"}>
              {attempt.data.purl} {attempt.data.allowed ? "comes in" : "does not come in"}: {attempt.data.why}.
            </p>
          )}
          {forget.data && (
            <p>
              Forgot {count(forget.data.copies, "version")} and {count(forget.data.documents, "answer")} of the
              upstream. It is asked anew next time.
            </p>
          )}
          {(attempt.error || forget.error) && <ErrorNote error={attempt.error ?? forget.error} />}
        </div>
        <p className="mt-2 text-xs text-soft">
          Forgetting also drops the memory that something is not there. Copies can be fetched again only while the
          upstream has them.
        </p>
      </form>
    </Panel>
  );
}

function Stale({ state }: { state: Schemas["MirrorState"] }) {
  return (
    <Panel
      title="Stale lists"
      aside={<span className="text-xs text-soft">served as they were, since the upstream fails</span>}
    >
      {state.stale.length === 0 ? (
        <p className="p-4 text-sm text-soft">None: everything is as current as the settings ask for.</p>
      ) : (
        <ul>
          {state.stale.map((d) => (
            <li key={d.path} className="border-b border-rule px-4 py-2 text-sm last:border-0">
              <code className="font-mono wrap-anywhere">{d.path}</code>
              <p className="text-xs text-soft">
                current until <Time at={d.checkedAt} />; {d.failure}
              </p>
            </li>
          ))}
        </ul>
      )}
    </Panel>
  );
}
