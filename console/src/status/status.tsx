import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { statusQueries } from "./calls";
import { Nodes } from "../nodes/nodes";
import { bytes, count, moment } from "../ui/format";
import { Empty, Loaded, Panel, usePageTitle } from "../ui/parts";

const looks: Record<Schemas["Concern"]["level"], [string, string]> = {
  wrong: ["bg-bad", "wrong"],
  soon: ["bg-glow", "soon"],
  waits: ["bg-glow", "waits for somebody"],
};

/** StatusPage lists everything that is wrong or will be soon, with what to do. */
export default function StatusPage({ me }: { me: Schemas["Me"] }) {
  usePageTitle("Status");
  const query = useQuery({ ...statusQueries.status(), refetchInterval: 30_000 });
  return (
    <Loaded query={query}>
      {(s) => (
        <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
          <div>
            <h1 className="text-2xl font-semibold tracking-tight">Status</h1>
            <p className="text-sm text-soft">
              Version {s.version}, running since {moment(s.startedAt)}; the database is {s.database}. You may read{" "}
              {count(s.repositories, "repository", "repositories")} with {count(s.packages, "package")},{" "}
              {count(s.versions, "version")}, {bytes(s.bytes)}.
            </p>
          </div>
          <Panel title={s.concerns.length === 0 ? "All is well" : count(s.concerns.length, "thing") + " to look at"}>
            {s.concerns.length === 0 ? (
              <Empty title="Nothing is wrong, and nothing will be soon" />
            ) : (
              <ul>
                {s.concerns.map((c) => (
                  <li
                    key={c.what}
                    className="grid grid-cols-[8rem_1fr] gap-3 border-b border-rule px-4 py-3 text-sm last:border-0"
                  >
                    <span className="inline-flex items-center gap-2 self-start">
                      <span aria-hidden className={`size-2.5 rounded-full ${looks[c.level][0]}`} />
                      {looks[c.level][1]}
                    </span>
                    <span>
                      <Link to={c.page} className="font-medium wrap-anywhere">
                        {c.what}
                      </Link>
                      <span className="block text-soft">{c.do}</span>
                    </span>
                  </li>
                ))}
              </ul>
            )}
          </Panel>
          {me.admin && <Nodes />}
        </div>
      )}
    </Loaded>
  );
}
