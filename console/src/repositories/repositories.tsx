import { useMutation } from "@tanstack/react-query";
import { Globe, Plus } from "lucide-react";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesCalls, repositoriesQueries } from "./calls";
import { searchQueries } from "../search/calls";
import { bytes, coordinates, moment, packagePath, shortVersion } from "../ui/format";
import { Downloads } from "../use/use";
import {
  Button,
  Empty,
  ErrorNote,
  Holds,
  Loaded,
  Panel,
  rowKeys,
  Time,
  UpstreamMark,
  useArrivals,
  usePageTitle,
  useQuery,
} from "../ui/parts";
import { FirstSteps } from "../rights/first-steps";
import { Table } from "../ui/table";

const NewRepository = lazy(() => import("./new-repository").then((m) => ({ default: m.NewRepository })));

export function RepositoriesPage({ me, changePassword }: { me: Schemas["Me"]; changePassword: () => void }) {
  usePageTitle("Repositories");
  const [adding, setAdding] = useState(false);
  const query = useQuery(repositoriesQueries.repositories());
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
      {me.admin && <FirstSteps me={me} changePassword={changePassword} addRepository={() => setAdding(true)} />}
      <Panel
        title={<span className="text-lg">Repositories</span>}
        aside={
          <span className="flex flex-wrap items-center gap-x-4 gap-y-2">
            <Link to="/transfers" className="text-sm">
              Transfers
            </Link>
            <Link to="/bundles" className="text-sm">
              Bundles
            </Link>
            {me.admin && (
              <Link to="/relays" className="text-sm">
                Relays
              </Link>
            )}
            {me.admin && (
              <Button look="strong" onClick={() => setAdding(true)}>
                <Plus size={15} /> New repository
              </Button>
            )}
          </span>
        }
      >
        <Loaded query={query}>
          {(all) => (all.length ? <RepositoryTable all={all} /> : <NoRepositories admin={me.admin} />)}
        </Loaded>
      </Panel>
      <Removed admin={me.admin} />
      <LatestArrivals />
      <Downloads title="Downloads" days={30} />
      <Suspense>{adding && <NewRepository close={() => setAdding(false)} />}</Suspense>
    </div>
  );
}

/** Removed are the repositories that can be brought back. */
function Removed({ admin }: { admin: boolean }) {
  const changed = useChanged();
  const query = useQuery(repositoriesQueries.removed());
  const back = useMutation({
    mutationFn: repositoriesCalls.bringRepositoryBack,
    onSuccess: () => changed({ kind: "repository" }),
  });
  if (!query.data?.length) return null;
  return (
    <Panel title="Removed">
      {back.error && (
        <div className="p-4 pb-2">
          <ErrorNote error={back.error} />
        </div>
      )}
      <ul>
        {query.data.map((r) => (
          <li
            key={r.name}
            className="flex flex-wrap items-center gap-x-3 border-b border-rule px-4 py-2 text-sm last:border-0"
          >
            <span className="font-medium">{r.name}</span>
            <span className="text-soft">
              removed <Time at={r.at} /> by {r.by}; it can be brought back until {moment(r.until)}
            </span>
            {admin && (
              <Button className="ml-auto" disabled={back.isPending} onClick={() => back.mutate(r.name)}>
                Bring it back
              </Button>
            )}
          </li>
        ))}
      </ul>
    </Panel>
  );
}

function NoRepositories({ admin }: { admin: boolean }) {
  return (
    <Empty title="No repositories yet">
      {admin
        ? "Most teams begin with two: one that holds snapshots, for what CI builds, and one that holds releases. Make the first with “New repository”."
        : "There is none that you may read. An admin can grant you a role on one."}
    </Empty>
  );
}

function RepositoryTable({ all }: { all: Schemas["Repository"][] }) {
  const largest = Math.max(...all.map((r) => r.bytes), 1);
  return (
    <Table
      name="Repositories"
      rows={all}
      rowKey={(r) => r.name}
      across={(r) =>
        r.chain && (
          <>
            <ChainLine members={r.chain.members} />
            {r.chain.hidden && <span className="text-xs"> and some that you may not see</span>}
          </>
        )
      }
      columns={[
        { head: "Name", look: "text-base", by: (r) => r.name, cell: (r) => <Name repository={r} /> },
        {
          head: "Holds",
          by: (r) => r.holds,
          cell: (r) => (
            <>
              <Holds holds={r.holds} />
              {r.mirror && (
                <div className="mt-0.5 max-sm:hidden">
                  <UpstreamMark mirror={r.mirror} />
                </div>
              )}
            </>
          ),
        },
        {
          head: "Packages",
          right: true,
          from: "md",
          by: (r) => r.packages,
          cell: (r) => r.packages.toLocaleString("en"),
        },
        {
          head: "Versions",
          right: true,
          from: "md",
          by: (r) => r.versions,
          cell: (r) => r.versions.toLocaleString("en"),
        },
        {
          head: "Size",
          right: true,
          by: (r) => r.bytes,
          cell: (r) => (
            <>
              {bytes(r.bytes)}
              <div aria-hidden className="mt-1 ml-auto h-1 w-14 rounded-full bg-well sm:w-24">
                <div className="h-1 rounded-full bg-deep" style={{ width: `${(100 * r.bytes) / largest}%` }} />
              </div>
            </>
          ),
        },
        {
          head: "Last change",
          from: "sm",
          by: (r) => r.lastChange,
          cell: (r) => (r.lastChange ? <Time at={r.lastChange} /> : <span className="text-soft">nothing yet</span>),
        },
      ]}
    />
  );
}

function Name({ repository: r }: { repository: Schemas["Repository"] }) {
  return (
    <>
      <Link data-row to={`/repositories/${r.name}`} className="inline-flex min-h-6 items-center font-medium">
        {r.name}
      </Link>
      {r.kind !== "house" && <span className="ml-1.5 text-xs text-soft">{r.kind}</span>}
      {r.anonymousRead && <Globe size={13} className="ml-1.5 inline text-soft" aria-label="anybody may read it" />}
      <div className="max-w-36 truncate text-xs text-soft sm:max-w-xs">{r.description}</div>
      {r.mirror && (
        <div className="mt-0.5 sm:hidden">
          <UpstreamMark mirror={r.mirror} />
        </div>
      )}
    </>
  );
}

/** ChainLine is the order of a chain in a line. */
function ChainLine({ members }: { members: Schemas["Member"][] }) {
  return (
    <span className="flex flex-wrap items-center gap-x-1.5 gap-y-1">
      {members.map((m, i) => (
        <span key={m.name} className="inline-flex items-center gap-1.5 whitespace-nowrap">
          {i > 0 && <span aria-hidden className="w-4 border-t-2 border-rule" />}
          <span className="sr-only">{i > 0 && "then "}</span>
          {m.name}
        </span>
      ))}
    </span>
  );
}

function LatestArrivals() {
  const query = useQuery(searchQueries.newest("", 8));
  const key = (p: Schemas["PackageLine"]) => `${p.repository} ${p.purl} ${p.changedAt}`;
  const fresh = useArrivals(query.data?.packages.map(key) ?? []);
  return (
    <Panel title="Latest arrivals" aside={<span className="text-xs text-soft">appear by themselves</span>}>
      <Loaded query={query}>
        {({ packages }) =>
          packages.length === 0 ? (
            <Empty title="Nothing has been published yet">
              Open a repository and choose “Use it” for the text that lets a build tool publish there, or run{" "}
              <code className="font-mono">crelvo publish FILE --to REPOSITORY</code>.
            </Empty>
          ) : (
            <ul onKeyDown={rowKeys}>
              {packages.map((p) => (
                <li
                  key={key(p)}
                  className={`grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-4 border-b border-rule px-4 py-2 last:border-0 sm:grid-cols-[minmax(0,1fr)_10rem_7rem_8rem] ${fresh.has(key(p)) ? "arrived" : ""}`}
                >
                  <span className="col-span-2 min-w-0 truncate sm:col-span-1">
                    <Link data-row to={packagePath(p.purl)} className="font-medium">
                      {coordinates(p)}
                    </Link>{" "}
                    <span className="font-mono text-sm">{shortVersion(p.latest)}</span>
                  </span>
                  <span className="min-w-0 truncate text-sm">
                    <Link to={`/repositories/${p.repository}`} className="inline-flex min-h-6 items-center">
                      {p.repository}
                    </Link>
                  </span>
                  <span className="hidden text-sm text-soft sm:block">{p.publishedBy}</span>
                  <span className="text-right text-sm text-soft">
                    <Time at={p.changedAt} />
                  </span>
                </li>
              ))}
            </ul>
          )
        }
      </Loaded>
    </Panel>
  );
}
