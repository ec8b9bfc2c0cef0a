import { useState } from "react";
import { Link } from "react-router";
import { promotionQueries } from "./calls";
import { Rows } from "../ui/drawn";
import { Choice } from "../ui/dialog";
import { buildPath, packagePath } from "../ui/format";
import { Empty, Loaded, Panel, Time, useQuery } from "../ui/parts";

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
            <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
              <table className="w-full text-left text-sm">
                <thead className="text-xs text-soft">
                  <tr className="border-b border-rule">
                    {["Version", "How it came", "By", "Approved by", "Build", "When"].map((h) => (
                      <th key={h} className="px-4 py-2 font-medium">
                        {h}
                      </th>
                    ))}
                  </tr>
                </thead>
                <Rows all={all} columns={6} estimate={37}>
                  {(a, bind) => (
                    <tr key={a.purl + a.upload} {...bind} className="border-b border-rule last:border-0">
                      <td className="px-4 py-1.5">
                        <Link to={packagePath(a.purl)}>{decodeURIComponent(a.purl.replace(/^pkg:/, ""))}</Link>
                      </td>
                      <td className="px-4 py-1.5 whitespace-nowrap">
                        {a.promotion ? (
                          <Link to={`/promotions/${a.promotion}`}>promotion {a.promotion}</Link>
                        ) : (
                          "published"
                        )}
                      </td>
                      <td className="px-4 py-1.5">{a.askedBy || a.by}</td>
                      <td className="px-4 py-1.5">{a.approvers || <span className="text-soft">nobody</span>}</td>
                      <td className="px-4 py-1.5 whitespace-nowrap">
                        {a.build ? (
                          <Link to={buildPath(a.build)}>{a.build}</Link>
                        ) : (
                          <span className="text-soft">not known</span>
                        )}
                      </td>
                      <td className="px-4 py-1.5">
                        <Time at={a.at} />
                      </td>
                    </tr>
                  )}
                </Rows>
              </table>
            </div>
          )
        }
      </Loaded>
    </Panel>
  );
}
