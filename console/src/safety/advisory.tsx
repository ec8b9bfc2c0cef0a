import { ExternalLink } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { safetyQueries } from "./calls";
import { affectedColumns, Severity } from "./parts";
import { NewWaiver } from "./waivers";
import { buildPath, count, moment, packagePath } from "../ui/format";
import { Button, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { Table } from "../ui/table";

/** AdvisoryPage shows an advisory: what it is about, what of that is here, who had it, and where to go. */
export default function AdvisoryPage({ me }: { me: Schemas["Me"] }) {
  const { id = "" } = useParams();
  usePageTitle(id);
  const query = useQuery(safetyQueries.advisory(id));
  return <Loaded query={query}>{(a) => <Shown advisory={a} admin={me.admin} />}</Loaded>;
}

function Shown({ advisory: a, admin }: { advisory: Schemas["AdvisoryPage"]; admin: boolean }) {
  const [waiving, setWaiving] = useState(false);
  const facts: [string, React.ReactNode][] = [
    ["Published", a.published ? moment(a.published) : ""],
    ["Changed", moment(a.modified)],
    ["From", `${a.by}, ${moment(a.arrivedAt)}`],
    ["Also", a.aliases?.join(", ") ?? ""],
    ["Vector", a.vector ? <code className="font-mono text-xs wrap-anywhere">{a.vector}</code> : ""],
  ];
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div>
        <p className="text-sm text-soft">
          <Link to="/safety/advisories">Advisories</Link> /
        </p>
        <div className="flex flex-wrap items-center justify-between gap-3">
          <h1 className="flex flex-wrap items-center gap-3 text-2xl font-semibold tracking-tight">
            {a.id} <Severity severity={a.severity} score={a.score} malicious={a.malicious} />
          </h1>
          {admin && !a.withdrawn && <Button onClick={() => setWaiving(true)}>Accept…</Button>}
        </div>
        <p className="mt-1">{a.summary}</p>
        {a.withdrawn && (
          <p className="mt-1 text-sm text-glow">
            It was withdrawn at {moment(a.withdrawn)}, so nothing is kept out because of it.
          </p>
        )}
      </div>
      <div className="grid gap-4 lg:grid-cols-[minmax(0,2fr)_minmax(0,1fr)]">
        <Panel title="What it says">
          {a.details && <p className="px-4 py-3 text-sm whitespace-pre-line wrap-anywhere">{a.details}</p>}
          <table className="w-full text-sm">
            <thead className="text-left text-soft">
              <tr className="border-y border-rule">
                <th className="px-4 py-1.5 font-medium">About</th>
                <th className="px-4 py-1.5 font-medium">Versions</th>
                <th className="px-4 py-1.5 font-medium">Mended in</th>
              </tr>
            </thead>
            <tbody>
              {a.about.map((p, i) => (
                <tr key={i} className="border-b border-rule last:border-0">
                  <td className="px-4 py-1.5 wrap-anywhere">
                    <Link to={packagePath(p.purl)}>{p.purl.replace(/^pkg:/, "")}</Link>
                  </td>
                  <td className="px-4 py-1.5">{p.versions}</td>
                  <td className="px-4 py-1.5">{p.fixedIn.join(", ")}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Panel>
        <Panel title="Facts">
          <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 px-4 py-3 text-sm">
            {facts
              .filter(([, v]) => v)
              .map(([k, v]) => (
                <div key={k} className="contents">
                  <dt className="text-soft">{k}</dt>
                  <dd>{v}</dd>
                </div>
              ))}
            {a.references.map((r) => (
              <div key={r.url} className="contents">
                <dt className="text-soft first-letter:uppercase">{r.kind || "more"}</dt>
                <dd className="wrap-anywhere">
                  <a href={r.url} rel="noreferrer" target="_blank" title={r.url}>
                    {r.url.replace(/^https?:\/\//, "")} <ExternalLink size={12} className="inline" aria-hidden />
                  </a>
                </dd>
              </div>
            ))}
          </dl>
        </Panel>
      </div>
      <Panel title="Kept here">
        {a.kept.length === 0 ? (
          <p className="px-4 py-3 text-sm text-soft">Nothing that it is about is kept where you may read.</p>
        ) : (
          <Table
            name="Affected by one"
            dense
            rows={a.kept}
            rowKey={(k) => `${k.repository} ${k.purl} ${k.inside}`}
            columns={affectedColumns}
          />
        )}
      </Panel>
      {a.listed.length > 0 && (
        <Panel title="Listed by upstreams, and not kept">
          <ul className="px-4 py-2 text-sm">
            {a.listed.map((l) => (
              <li key={`${l.repository} ${l.purl}`} className="py-1">
                <Link to={packagePath(l.purl)}>{l.purl.replace(/^pkg:/, "")}</Link> {l.versions.slice(0, 4).join(", ")}
                {l.total > 4 && ` and ${l.total - 4} more`}
                <span className="text-soft">
                  {" "}
                  in <Link to={`/repositories/${l.repository}`}>{l.repository}</Link>,{" "}
                  {l.keptOut ? "kept out" : "not kept out because of it"}
                </span>
              </li>
            ))}
          </ul>
        </Panel>
      )}
      {(a.kept.length > 0 || a.builds.length > 0) && <Had advisory={a} />}
      {a.waivers.length > 0 && (
        <Panel title="Accepted">
          <ul className="px-4 py-2 text-sm">
            {a.waivers.map((w) => (
              <li key={w.id} className="py-1">
                <code className="font-mono text-xs">{w.pattern}</code> by {w.by}
                {w.until && <>, until {moment(w.until)}</>}: {w.reason}
              </li>
            ))}
          </ul>
        </Panel>
      )}
      {waiving && <NewWaiver advisory={a.id} pattern={a.kept[0]?.purl} close={() => setWaiving(false)} />}
    </div>
  );
}

/** Had says who had what is affected: people and robots, and builds. */
function Had({ advisory: a }: { advisory: Schemas["AdvisoryPage"] }) {
  return (
    <Panel title="Who had it">
      <div className="grid gap-4 px-4 py-3 text-sm sm:grid-cols-2">
        <div>
          <h3 className="mb-1 font-medium">{count(a.users.length, "person or robot", "people and robots")}</h3>
          <ul>
            {a.users.map((u) => (
              <li key={u.name} className="flex justify-between gap-3 border-t border-rule py-1">
                <span>
                  {u.name} <span className="text-xs text-soft">{u.kind}</span>
                  {u.clients.length > 0 && <span className="block text-xs text-soft">with {u.clients.join(", ")}</span>}
                </span>
                <Time at={u.lastAt} />
              </li>
            ))}
          </ul>
        </div>
        <div>
          <h3 className="mb-1 font-medium">{count(a.builds.length, "build")}</h3>
          <ul className="flex flex-wrap gap-x-3">
            {a.builds.map((b) => (
              <li key={b}>
                <Link to={buildPath(b)}>{b}</Link>
              </li>
            ))}
          </ul>
        </div>
      </div>
    </Panel>
  );
}
