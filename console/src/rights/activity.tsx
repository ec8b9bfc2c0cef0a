import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { Download, ShieldCheck } from "lucide-react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { type EventFilter, rightsCalls, rightsQueries } from "./calls";
import { FilterChoice, Filters, FilterText, More, useFilters } from "../ui/filters";
import { moment } from "../ui/format";
import { Button, Empty, ErrorNote, Panel, usePageTitle } from "../ui/parts";
import { type Column, Table } from "../ui/table";

const spans: [string, string][] = [
  ["", "always"],
  ["1", "the last hour"],
  ["24", "the last day"],
  ["168", "the last week"],
  ["720", "the last 30 days"],
];

/** since is when so many hours ago was, to the minute, so that it stays the same for a while. */
function since(hours: string): string | undefined {
  if (!hours) return undefined;
  return new Date(Math.floor(Date.now() / 60_000) * 60_000 - Number(hours) * 3_600_000).toISOString();
}

const columns: Column<Schemas["Event"]>[] = [
  { head: "When", look: "whitespace-nowrap", cell: (e) => <span title={`event ${e.id}`}>{moment(e.at)}</span> },
  {
    head: "Who",
    cell: (e) => (
      <>
        {e.who || <span className="text-soft">nobody</span>}
        <span className="block text-xs text-soft">
          {[e.token && `token ${e.token}`, e.address].filter(Boolean).join(", ")}
        </span>
      </>
    ),
  },
  {
    head: "What",
    look: "whitespace-nowrap",
    cell: (e) => <span className={e.action === "refused" ? "text-bad" : ""}>{e.action}</span>,
  },
  {
    head: "About",
    look: "max-w-80 wrap-anywhere",
    cell: (e) => (
      <>
        {e.subject}
        {e.repository && (
          <span className="block text-xs text-soft">
            in <Link to={`/repositories/${e.repository}`}>{e.repository}</Link>
          </span>
        )}
      </>
    ),
  },
  {
    head: "Details",
    look: "max-w-96 text-xs text-soft wrap-anywhere",
    cell: (e) =>
      Object.entries(e.detail ?? {})
        .filter(([, v]) => v)
        .map(([k, v]) => (
          <span key={k} className="block">
            <span className="text-ink">{k}:</span> {v}
          </span>
        )),
  },
];

/** ActivityPage shows the activity record; the filters stand in the address. */
export default function ActivityPage({ me }: { me: Schemas["Me"] }) {
  usePageTitle("Activity");
  const by = useFilters();
  const { get } = by;
  const filter: EventFilter = {
    since: since(get("hours")),
    who: me.admin ? get("who") || undefined : me.name,
    action: get("what") || undefined,
    repository: get("in") || undefined,
    subject: get("about") || undefined,
  };
  const kinds = useQuery({ ...rightsQueries.eventActions(), enabled: me.admin });
  const query = useInfiniteQuery({
    ...rightsQueries.events(filter),
    refetchInterval: 5000,
  });
  const verify = useMutation({ mutationFn: rightsCalls.verifyEvents });
  const all = query.data?.pages.flat() ?? [];
  const exported =
    "/api/v1/events/export?" +
    new URLSearchParams(Object.entries(filter).filter((e): e is [string, string] => Boolean(e[1]))).toString();
  return (
    <Panel
      title={<span className="text-lg">{me.admin ? "Activity" : "What you did"}</span>}
      aside={
        me.admin && (
          <span className="flex flex-wrap gap-2">
            <Button onClick={() => verify.mutate()} disabled={verify.isPending}>
              <ShieldCheck size={15} /> Is it whole?
            </Button>
            <a
              href={exported}
              download
              className="inline-flex h-8 items-center gap-1.5 rounded border border-rule px-3 text-sm font-medium text-ink hover:bg-wash hover:no-underline"
            >
              <Download size={15} /> As JSON lines
            </a>
          </span>
        )
      }
    >
      <Filters by={by}>
        <FilterChoice by={by} name="hours" label="Since" options={spans} />
        {me.admin && <FilterText name="who" label="Who" hint="who" />}
        {me.admin && (
          <FilterChoice
            by={by}
            name="what"
            label="What"
            options={[["", "everything"], ...(kinds.data ?? []).map((k): [string, string] => [k, k])]}
          />
        )}
        <FilterText name="in" label="Repository" hint="repository" />
        <FilterText name="about" label="About" hint="about: part of a name" wide />
      </Filters>
      {verify.error && (
        <div className="p-4">
          <ErrorNote error={verify.error} />
        </div>
      )}
      {verify.data && (
        <p
          role="status"
          className={`border-b border-rule px-4 py-2 text-sm wrap-anywhere ${verify.data.broken ? "bg-bad-wash text-bad" : "bg-wash"}`}
        >
          {verify.data.broken
            ? `The record was changed: event ${verify.data.broken} is the first that is not as it was written (${verify.data.why}).`
            : `All ${verify.data.events.toLocaleString("en")} events are as they were written. Note the last one, to tell later that nothing was taken away: ${verify.data.last}:${verify.data.seal}`}
        </p>
      )}
      {query.error ? (
        <div className="p-4">
          <ErrorNote error={query.error} retry={() => void query.refetch()} />
        </div>
      ) : query.data && all.length === 0 ? (
        <Empty title="Nothing on record fits">Take away a filter.</Empty>
      ) : (
        <Table name="Activity" dense partly rows={all} rowKey={(e) => e.id} columns={columns} />
      )}
      <More query={query} />
    </Panel>
  );
}
