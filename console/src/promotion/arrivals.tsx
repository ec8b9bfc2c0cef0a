import { useState } from "react";
import { Link } from "react-router";
import { promotionQueries } from "./calls";
import { Choice } from "../ui/dialog";
import { buildPath, packagePath } from "../ui/format";
import { Empty, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { type Schemas } from "../api/client";

const columns: Column<Schemas["Arrival"]>[] = [
  {
    head: "Version",
    by: (a) => a.purl,
    cell: (a) => <Link to={packagePath(a.purl)}>{decodeURIComponent(a.purl.replace(/^pkg:/, ""))}</Link>,
  },
  {
    head: "How it came",
    look: "whitespace-nowrap",
    by: (a) => a.promotion ?? 0,
    cell: (a) => (a.promotion ? <Link to={`/promotions/${a.promotion}`}>promotion {a.promotion}</Link> : "published"),
  },
  { head: "By", by: (a) => a.askedBy || a.by, cell: (a) => a.askedBy || a.by },
  {
    head: "Approved by",
    by: (a) => a.approvers || undefined,
    cell: (a) => a.approvers || <span className="text-soft">nobody</span>,
  },
  {
    head: "Build",
    look: "whitespace-nowrap",
    by: (a) => a.build || undefined,
    cell: (a) =>
      a.build ? <Link to={buildPath(a.build)}>{a.build}</Link> : <span className="text-soft">not known</span>,
  },
  { head: "When", by: (a) => a.at, cell: (a) => <Time at={a.at} /> },
];

/** Arrivals says what is in a repository that was not there before, and who let it in. */
export function Arrivals({ repository }: { repository: string }) {
  const [days, setDays] = useState("7");
  const query = useQuery(promotionQueries.arrivals(repository, Number(days)));
  return (
    <Panel
      title="New here"
      aside={
        <div className="w-44">
          <Choice
            label="Since"
            value={days}
            onChange={setDays}
            options={[
              ["1", "a day ago"],
              ["7", "a week ago"],
              ["30", "30 days ago"],
              ["90", "90 days ago"],
              ["366", "a year ago"],
            ]}
          />
        </div>
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="Nothing new since then">Choose an earlier time.</Empty>
          ) : (
            <Table name="New versions" dense rows={all} rowKey={(a) => a.purl + a.upload} columns={columns} />
          )
        }
      </Loaded>
    </Panel>
  );
}
