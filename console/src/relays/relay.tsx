import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { Choice, Confirm } from "../ui/dialog";
import { Facts } from "../ui/facts";
import { bytes, count, moment, packagePath } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { relaysCalls, relaysQueries } from "./calls";
import { RelayForm } from "./form";
import { RelayState } from "./relays";

type Relay = Schemas["Relay"];
type Sent = Schemas["RelayedVersion"];

export default function RelayPage() {
  const { name = "" } = useParams();
  usePageTitle(`Relay ${name}`);
  const query = useQuery(relaysQueries.relay(name));
  return <Loaded query={query}>{(r) => <Page key={r.name} r={r} />}</Loaded>;
}

function Page({ r }: { r: Relay }) {
  const changed = useChanged();
  const go = useNavigate();
  const [asked, setAsked] = useState<"edit" | "remove">();
  const act = useMutation({
    mutationFn: async (what: "check" | "run" | "pause") => {
      if (what === "check") await relaysCalls.check(r.name);
      else if (what === "run") await relaysCalls.run(r.name);
      else await relaysCalls.edit(r.name, { paused: !r.paused });
    },
    onSuccess: () => changed({ kind: "relay" }),
  });
  return (
    <>
      <p className="text-sm text-soft">
        <Link to="/relays">Relays</Link> /
      </p>
      <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold tracking-tight">{r.name}</h1>
        <span className="text-sm">
          <RelayState r={r} />
        </span>
        <span className="ml-auto flex flex-wrap gap-2">
          <Button disabled={act.isPending} onClick={() => act.mutate("check")}>
            Try the target
          </Button>
          {!r.paused && (
            <Button disabled={act.isPending} onClick={() => act.mutate("run")}>
              Run it now
            </Button>
          )}
          <Button disabled={act.isPending} onClick={() => act.mutate("pause")}>
            {r.paused ? "Let it go on" : "Pause it"}
          </Button>
          <Button onClick={() => setAsked("edit")}>Change…</Button>
          <Button onClick={() => setAsked("remove")}>Remove…</Button>
        </span>
      </div>
      {act.error && (
        <div className="mb-4">
          <ErrorNote error={act.error} />
        </div>
      )}
      {act.isSuccess && act.variables === "check" && (
        <p role="status" className="mb-4 text-sm text-good">
          The target is there, and lets us in.
        </p>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <Versions r={r} />
        <Facts of={facts(r)} />
      </div>
      {asked === "edit" && <RelayForm relay={r} close={() => setAsked(undefined)} saved={() => setAsked(undefined)} />}
      {asked === "remove" && (
        <Confirm
          title={`Remove the relay ${r.name}?`}
          text="Nothing is sent by it any more. What it sent stays there."
          what="Remove it"
          run={() =>
            relaysCalls
              .remove(r.name)
              .then(() => changed({ kind: "relay" }))
              .then(() => go("/relays"))
          }
          close={() => setAsked(undefined)}
        />
      )}
    </>
  );
}

function facts(r: Relay) {
  return [
    ["From", <Link to={`/repositories/${r.repository}`}>{r.repository}</Link>] as const,
    ["To", `${r.target}, ${r.ecosystem}`] as const,
    ["Sends", r.holds] as const,
    ["Only", r.only.join(", ") || "everything"] as const,
    ...(r.since ? [["Since", moment(r.since)] as const] : []),
    ["Hours", r.hours ? `${r.hours} ${r.zone}` : "all of the day"] as const,
    ["How fast", r.bytesPerSecond > 0 ? `${bytes(r.bytesPerSecond)} a second` : "as fast as it can"] as const,
    ["Removals", r.removals ? "what is removed here is removed there" : "what is removed here stays there"] as const,
    ...(r.telling > 0 ? [["Labels still to be told", `of ${count(r.telling, "package")}`] as const] : []),
    ...(r.notTaken ? [["Not taken there", r.notTaken] as const] : []),
    [
      "Sent",
      <>
        {count(r.sent, "version")}
        {r.lastAt && (
          <>
            , last <Time at={r.lastAt} />
          </>
        )}
      </>,
    ] as const,
    [
      "Looks for what was missed",
      <>
        {r.schedule} {r.zone}
        {r.lookedAt && (
          <span className="block text-xs text-soft">
            last <Time at={r.lookedAt} />
          </span>
        )}
      </>,
    ] as const,
    [
      "Next times",
      r.paused
        ? "none while it is paused"
        : r.next.map((at) => (
            <span key={at} className="block">
              {moment(at)}
            </span>
          )),
    ] as const,
    [
      "Made",
      <>
        by {r.by}, <Time at={r.madeAt} />
      </>,
    ] as const,
  ];
}

const columns: Column<Sent>[] = [
  {
    head: "Version",
    by: (v) => v.purl,
    cell: (v) =>
      v.purl ? (
        <>
          <Link to={packagePath(v.purl)} className="wrap-anywhere">
            {decodeURIComponent(v.purl.slice(4))}
          </Link>
          {v.upload && <span className="block font-mono text-xs text-soft">{v.upload}</span>}
        </>
      ) : (
        <span className="text-soft">is not there any more</span>
      ),
  },
  {
    head: "State",
    by: (v) => v.attempts,
    cell: (v) => (
      <>
        {v.state === "sent" ? "sent" : v.attempts > 0 ? `tried ${count(v.attempts, "time")}` : "waits"}
        {v.nextAt && <span className="text-soft">, again at {moment(v.nextAt)}</span>}
        {v.said && <span className="block text-xs wrap-anywhere text-glow">{v.said}</span>}
      </>
    ),
  },
  { head: "Since", by: (v) => v.since, cell: (v) => <Time at={v.endedAt ?? v.since} /> },
  { head: "Size", right: true, by: (v) => v.bytes, cell: (v) => bytes(v.bytes) },
];

function Versions({ r }: { r: Relay }) {
  // Until somebody chooses, it shows what is of interest now: what waited a moment ago may be sent by now.
  const [chosen, setChosen] = useState<Sent["state"]>();
  const state = chosen ?? (r.failed > 0 ? "failed" : r.waiting > 0 ? "waiting" : "sent");
  const query = useQuery(relaysQueries.versions(r.name, state));
  return (
    <Panel
      title="Versions"
      aside={
        <div className="w-44">
          <Choice
            label="Which versions"
            value={state}
            onChange={(v) => setChosen(v as Sent["state"])}
            options={[
              ["waiting", "what waits"],
              ["failed", "what failed"],
              ["sent", "what was sent"],
            ]}
          />
        </div>
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty
              title={
                state === "waiting" ? "Nothing waits" : state === "failed" ? "Nothing failed" : "Nothing was sent yet"
              }
            />
          ) : (
            <Table
              name="Versions of a relay"
              dense
              rows={all}
              rowKey={(v) => `${v.purl} ${v.upload} ${v.since}`}
              columns={columns}
            />
          )
        }
      </Loaded>
    </Panel>
  );
}
