import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { safetyQueries } from "./calls";
import { Check } from "./check";
import { Feeds } from "./feeds";
import { affectedColumns, Severity } from "./parts";
import { Awaiting, Decisions } from "./vetting";
import { Waivers } from "./waivers";
import { OneOf } from "../pointing/point";
import { FilterChoice, Filters, FilterText, More, useFilters } from "../ui/filters";
import { count, moment } from "../ui/format";
import { Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

const tabs: [string, string][] = [
  ["affected", "What is affected"],
  ["advisories", "Advisories"],
  ["vetting", "To decide"],
  ["decisions", "Decisions"],
  ["accepted", "Waivers"],
  ["check", "Check"],
  ["feeds", "Feeds"],
];

/** SafetyPage is about what should not come in: what is known to be vulnerable or malicious. */
export default function SafetyPage({ me }: { me: Schemas["Me"] }) {
  const { shown = "affected" } = useParams();
  const navigate = useNavigate();
  usePageTitle(tabs.find(([key]) => key === shown)?.[1] ?? "Safety");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">Safety</h1>
        <OneOf
          label="About"
          value={shown}
          onChange={(to) => void navigate(`/safety/${to}`)}
          options={tabs.filter(([key]) => me.admin || key !== "feeds")}
        />
      </div>
      {shown === "affected" && <AffectedHere />}
      {shown === "advisories" && <Advisories />}
      {shown === "check" && <Check />}
      {shown === "vetting" && <Awaiting />}
      {shown === "decisions" && <Decisions />}
      {shown === "accepted" && <Waivers admin={me.admin} />}
      {shown === "feeds" && me.admin && <Feeds />}
    </div>
  );
}

/** Nothing is known where there are no advisories, which is told before anything else. */
function NothingKnown() {
  return (
    <Empty title="No advisories are known here">
      That says nothing of any package. <Link to="/safety/feeds">Add a feed</Link>, or take them from a file.
    </Empty>
  );
}

const withAdvisory: Column<Schemas["Affected"]>[] = [
  {
    head: "Advisory",
    by: (a) => a.advisory,
    look: "max-w-80",
    cell: (a) => (
      <>
        <span className="flex flex-wrap items-center gap-2">
          <Severity severity={a.severity} score={a.score} malicious={a.malicious} />
          <Link to={`/safety/advisories/${encodeURIComponent(a.advisory)}`}>{a.advisory}</Link>
        </span>
        <span className="block text-xs text-soft">{a.summary}</span>
      </>
    ),
  },
  ...affectedColumns,
];

function AffectedHere() {
  const query = useQuery(safetyQueries.affected());
  return (
    <Loaded query={query}>
      {(list) =>
        list.known.advisories === 0 ? (
          <NothingKnown />
        ) : (
          <Panel
            title={list.total ? count(list.total, "version") + " kept here" : "Nothing kept here"}
            aside={
              <span className="text-sm text-soft">
                by {count(list.known.advisories, "advisory", "advisories")}, as of {moment(list.asOf)}
              </span>
            }
          >
            {list.affected.length === 0 ? (
              <p className="px-4 py-3 text-sm text-soft">No version that you may read is among what they are about.</p>
            ) : (
              <Table
                name="Affected"
                dense
                rows={list.affected}
                rowKey={(a) => `${a.repository} ${a.purl} ${a.advisory} ${a.inside}`}
                columns={withAdvisory}
              />
            )}
            {list.total > list.affected.length && (
              <p className="border-t border-rule px-4 py-2 text-sm text-soft">
                The worst {list.affected.length} of {list.total}. crelvo advisory affected --limit lists more.
              </p>
            )}
          </Panel>
        )
      }
    </Loaded>
  );
}

const advisoryColumns: Column<Schemas["Advisory"]>[] = [
  {
    head: "Advisory",
    cell: (a) => (
      <>
        <Link data-row to={`/safety/advisories/${encodeURIComponent(a.id)}`} className="font-medium whitespace-nowrap">
          {a.id}
        </Link>
        {a.aliases && <span className="block text-xs text-soft">{a.aliases.join(", ")}</span>}
      </>
    ),
  },
  {
    head: "Severity",
    cell: (a) => <Severity severity={a.severity} score={a.score} malicious={a.malicious} />,
  },
  { head: "Summary", look: "max-w-96", cell: (a) => a.summary },
  { head: "Changed", from: "sm", cell: (a) => <Time at={a.modified} /> },
  { head: "From", from: "md", cell: (a) => a.by },
];

function Advisories() {
  const by = useFilters();
  const query = useInfiniteQuery(
    safetyQueries.advisories({ words: by.get("words").trim(), severity: by.get("severity") }),
  );
  const pages = query.data?.pages ?? [];
  const all = pages.flatMap((p) => p.advisories);
  const known = pages[0]?.known;
  if (known?.advisories === 0 && !by.any) return <NothingKnown />;
  return (
    <Panel
      title="Advisories, which changed last first"
      aside={
        known && (
          <span className="text-sm text-soft">
            {count(known.advisories, "advisory", "advisories")} about {count(known.packages, "package")},{" "}
            {known.malicious} malicious
          </span>
        )
      }
    >
      <Filters by={by}>
        <FilterText name="words" label="Words" hint="Id, package or words" wide />
        <FilterChoice
          by={by}
          name="severity"
          label="At least as bad"
          options={[
            ["", "however bad"],
            ["low", "low or worse"],
            ["medium", "medium or worse"],
            ["high", "high or worse"],
            ["critical", "critical"],
          ]}
        />
      </Filters>
      {query.error && <ErrorNote error={query.error} />}
      {query.isSuccess && all.length === 0 && <p className="px-4 py-3 text-sm text-soft">None fits.</p>}
      {all.length > 0 && <Table name="Advisories" dense rows={all} rowKey={(a) => a.id} columns={advisoryColumns} />}
      <More query={query} />
    </Panel>
  );
}
