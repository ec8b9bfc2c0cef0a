import { Download, TriangleAlert, Users } from "lucide-react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Fragment, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { searchQueries } from "./calls";
import { UploadFiles } from "./files";
import { Moves } from "./moves";
import { useDrawnIn } from "../ui/drawn";
import { buildPath, bytes, coordinates, count, packagePath, shortVersion } from "../ui/format";
import {
  Button,
  CopyButton,
  ErrorNote,
  Maturity,
  Panel,
  rowKeys,
  Time,
  useArrivals,
  useEcosystems,
  usePageTitle,
  useQuery,
} from "../ui/parts";
import { OneOf, Point } from "../pointing/point";
import { Contents } from "../makeup/contents";
import { Layers } from "../makeup/layers";
import { Symbols } from "../makeup/symbols";
import { Severity } from "../safety/parts";
import { Keep } from "../retention/keep";
import { TakeOut } from "../retention/take-out";
import { Downloads } from "../use/use";

type Group = Schemas["VersionGroup"];

/** split takes a version off a package URL; the path may have lost its encoding. */
function split(path: string): { purl: string; version: string } {
  const at = path.lastIndexOf("@");
  const scoped = at <= 0 || path[at - 1] === "/";
  return scoped
    ? { purl: "pkg:" + path, version: "" }
    : { purl: "pkg:" + path.slice(0, at), version: path.slice(at + 1) };
}

export function PackagePage() {
  const { "*": path = "" } = useParams();
  const { purl, version } = split(path);
  usePageTitle(path.split("/").pop() ?? path);
  const query = useInfiniteQuery(searchQueries.package(purl));
  // The version that is asked for may be far down the list.
  const asked = useQuery({
    ...searchQueries.version(purl, version),
    enabled: version !== "",
    retry: false,
  });
  const pages = query.data?.pages;
  if (!pages || (version !== "" && asked.isPending))
    return query.error ? (
      <ErrorNote error={query.error} retry={() => void query.refetch()} />
    ) : (
      <p className="px-1 py-6 text-sm text-soft" aria-busy="true">
        Loading…
      </p>
    );
  const versions = pages.flatMap((page) => page.versions);
  const more = {
    total: pages[0]!.total,
    next: query.hasNextPage,
    loading: query.isFetchingNextPage,
    load: () => void query.fetchNextPage(),
  };
  return (
    <Page key={purl} p={{ ...pages[0]!, versions }} asked={asked.data?.versions ?? []} version={version} more={more} />
  );
}

type More = { total: number; next: boolean; loading: boolean; load: () => void };

function Page({ p, asked, version, more }: { p: Schemas["Package"]; asked: Group[]; version: string; more: More }) {
  const key = (g: Group) => `${g.repository} ${g.version}`;
  // What is part of another version, or about it, is shown with that.
  const lines = byVersion(p.versions.filter((g) => !g.belongsTo));
  const wanted =
    p.versions.find((g) => g.version === version || g.labels.includes(version)) ??
    asked[0] ??
    p.versions.find((g) => !g.belongsTo) ??
    p.versions[0]!;
  const [chosen, setChosen] = useState({ version: wanted.version, repository: "" });
  const there = p.versions.filter((g) => g.version === chosen.version);
  const places = there.length > 0 ? there : asked.length > 0 ? asked : [wanted];
  const group = places.find((g) => g.repository === chosen.repository) ?? places[0]!;
  const scroller = useRef<HTMLUListElement>(null);
  const d = useDrawnIn(lines.length, 62, scroller);
  const fresh = useArrivals(p.versions.flatMap((g) => g.uploads.map((u) => `${key(g)} ${u.name}`)));
  return (
    <>
      <div className="mb-4">
        <p className="text-sm text-soft">
          <Link to="/search">Packages</Link> /
        </p>
        <div className="flex flex-wrap items-baseline gap-x-3">
          <h1 className="text-2xl font-semibold tracking-tight">{p.title || p.name}</h1>
          <span className="inline-flex items-center gap-1 font-mono text-sm text-soft">
            {coordinates(p)}
            <CopyButton text={p.purl} label="Copy the package URL" />
          </span>
        </div>
        <p className="mt-1 max-w-3xl">{p.description}</p>
        <p className="mt-1 flex flex-wrap gap-x-4 text-sm">
          {p.homepage && <SafeLink href={p.homepage} />}
          {p.source && <SafeLink href={p.source} />}
        </p>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[22rem_minmax(0,1fr)]">
        <Panel
          title="Versions"
          aside={
            <span className="text-xs text-soft">
              {more.next ? `${count(more.total, "version")}, the newest first` : "the newest first"}
            </span>
          }
        >
          <ul ref={scroller} onKeyDown={rowKeys} className="max-h-[70vh] overflow-y-auto">
            {d.before > 0 && <li aria-hidden style={{ height: d.before }} />}
            {d.lines.map(({ index, bind }) => {
              const line = lines[index]!;
              const arrived = line.some((g) => g.uploads.some((u) => fresh.has(`${key(g)} ${u.name}`)));
              return (
                <li key={line[0]!.version} {...bind} className={arrived ? "arrived" : ""}>
                  <VersionLine
                    line={line}
                    chosen={line[0]!.version === group.version}
                    onChoose={() => setChosen({ version: line[0]!.version, repository: "" })}
                  />
                </li>
              );
            })}
            {d.after > 0 && <li aria-hidden style={{ height: d.after }} />}
            {more.next && (
              <li className="p-2 text-center">
                <Button disabled={more.loading} onClick={more.load}>
                  {more.loading ? "Loading…" : "Show older versions"}
                </Button>
              </li>
            )}
          </ul>
        </Panel>
        <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] gap-3">
          {places.length > 1 && (
            <OneOf
              label={`Where ${group.title} stands`}
              value={group.repository}
              onChange={(repository) => setChosen({ version: group.version, repository })}
              options={places.map((g) => [g.repository, g.repository])}
            />
          )}
          <Version
            key={key(group)}
            p={p}
            group={group}
            fresh={fresh}
            onChoose={(version) => setChosen({ version, repository: group.repository })}
          />
        </div>
      </div>
    </>
  );
}

/** byVersion puts what is of one version together, where it came last first. */
function byVersion(groups: Group[]): Group[][] {
  const lines = new Map<string, Group[]>();
  for (const g of groups) lines.set(g.version, [...(lines.get(g.version) ?? []), g]);
  return [...lines.values()];
}

/** VersionLine is a version, and where it stands, where it came last first. */
function VersionLine({ line, chosen, onChoose }: { line: Group[]; chosen: boolean; onChoose: () => void }) {
  const first = line[0]!;
  const labels = first.title === first.version ? [...new Set(line.flatMap((g) => g.labels))] : [];
  const titles = [...new Set(line.map((g) => g.title))].join("; ");
  const withdrawn = line.filter((g) => g.withdrawn);
  const worst = line.flatMap((g) => g.findings ?? [])[0];
  const uploads = first.snapshot ? Math.max(...line.map((g) => g.uploadCount)) : 1;
  return (
    <button
      type="button"
      data-row
      aria-current={chosen}
      onClick={onChoose}
      className={`grid w-full cursor-pointer grid-cols-[1fr_auto] gap-x-3 gap-y-0.5 border-b border-rule px-4 py-2 text-left hover:bg-wash/60 ${chosen ? "bg-wash" : ""}`}
    >
      <span className="truncate font-mono font-medium">{titles}</span>
      <span className="justify-self-end">{!first.what && <Maturity snapshot={first.snapshot} />}</span>
      {first.what && (
        <span className="col-span-2 truncate text-xs text-soft">
          {first.title !== shortVersion(first.version) && (
            <span className="font-mono">{shortVersion(first.version)} </span>
          )}
          {first.what}
        </span>
      )}
      {(labels.length > 0 || withdrawn.length > 0 || worst) && (
        <span className="col-span-2 my-0.5 flex flex-wrap gap-1 text-xs">
          {worst && <Severity severity={worst.severity} score={worst.score} malicious={worst.malicious} />}
          {labels.map((l) => (
            <span key={l} className="rounded border border-rule bg-sheet px-1.5">
              {l}
            </span>
          ))}
          {withdrawn.length > 0 && (
            <span className="rounded bg-bad-wash px-1.5 text-bad">
              withdrawn{withdrawn.length < line.length && ` in ${withdrawn.map((g) => g.repository).join(", ")}`}
            </span>
          )}
        </span>
      )}
      <span className="text-xs text-soft">
        in {line.map((g) => g.repository).join(", ")}
        {uploads > 1 && `; ${count(uploads, "upload")}`}
      </span>
      <span className="text-right text-xs text-soft">
        <Time at={first.uploads[0]!.publishedAt} />
      </span>
    </button>
  );
}

/** OfVersion leads to a version that another one belongs to, or that belongs to it. */
function OfVersion({ of, onChoose }: { of: Group; onChoose: (version: string) => void }) {
  return (
    <button
      type="button"
      onClick={() => onChoose(of.version)}
      className="inline-flex min-h-6 cursor-pointer items-baseline gap-x-2 text-left text-deep underline"
    >
      <span className="font-mono text-xs">{of.title}</span>
      <span>{of.what}</span>
    </button>
  );
}

/** needed is the name of a dependency as people of its ecosystem write it. */
function needed(purl: string): string {
  const [, ecosystem = "", path = ""] = /^pkg:([^/]+)\/(.*)$/.exec(purl) ?? [];
  const at = path.lastIndexOf("/");
  return decodeURIComponent(
    coordinates({ ecosystem, namespace: at < 0 ? "" : path.slice(0, at), name: path.slice(at + 1) }),
  );
}

/** SafeLink shows a link that a package states, if it is one that can be followed. */
function SafeLink({ href }: { href: string }) {
  if (!/^https?:\/\//.test(href)) return <span>{href}</span>;
  return (
    <a href={href} rel="noreferrer noopener" className="inline-flex min-h-6 items-center wrap-anywhere">
      {href.replace(/^https?:\/\//, "")}
    </a>
  );
}

/** Findings says what advisories say of a version, and why it is kept out. */
function Findings({ of: g }: { of: Group }) {
  return (
    <div role="note" className="border-b border-rule px-4 py-2 text-sm">
      <ul>
        {g.findings?.map((f) => (
          <li key={f.advisory + f.inside} className="flex flex-wrap items-baseline gap-x-2 py-0.5">
            <Severity severity={f.severity} score={f.score} malicious={f.malicious} />
            <Link to={`/safety/advisories/${encodeURIComponent(f.advisory)}`}>{f.advisory}</Link>
            <span>
              {f.inside && <span className="font-mono text-xs">{f.inside.replace(/^pkg:/, "")} inside: </span>}
              {f.summary}
            </span>
            {f.fixedIn.length > 0 && <span className="text-soft">mended in {f.fixedIn.at(-1)}</span>}
          </li>
        ))}
        {g.keptOut && (
          <li className="py-0.5 text-bad">
            {g.repository} keeps it out: {g.keptOut}
          </li>
        )}
      </ul>
    </div>
  );
}

function Version({
  p,
  group: g,
  fresh,
  onChoose,
}: {
  p: Schemas["Package"];
  group: Group;
  fresh: Set<string>;
  onChoose: (version: string) => void;
}) {
  const newest = g.uploads[0]!;
  const layered = useEcosystems().data?.find((e) => e.name === p.ecosystem)?.layered && !g.listed;
  const belonging = (as: "part" | "about") =>
    p.versions.filter((o) => o.repository === g.repository && o.belongsTo === g.version && o.belongsAs === as);
  const above = p.versions.find((o) => o.repository === g.repository && o.version === g.belongsTo);
  return (
    <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] gap-5">
      <Panel
        title={<span className="font-mono">{g.title}</span>}
        aside={
          <span className="flex flex-wrap items-center gap-x-4 text-sm text-soft">
            <span>
              in <Link to={`/repositories/${g.repository}`}>{g.repository}</Link>
            </span>
            <span className="inline-flex items-center gap-1">
              <Download size={14} aria-hidden />
              {count(g.downloads, "download")}
              {g.lastUse && (
                <>
                  , last <Time at={g.lastUse} />
                </>
              )}
            </span>
            <span className="inline-flex items-center gap-1">
              <Users size={14} aria-hidden />
              {count(g.users, "user")}
            </span>
          </span>
        }
      >
        {g.withdrawn && (
          <p role="note" className="flex items-start gap-2 border-b border-rule bg-bad-wash px-4 py-2 text-sm text-bad">
            <TriangleAlert size={16} className="mt-0.5 shrink-0" aria-hidden />
            <span>
              Withdrawn{g.withdrawn.by && ` by ${g.withdrawn.by}`}
              {g.withdrawn.reason ? `: ${g.withdrawn.reason}` : ". Do not use it any more."}
            </span>
          </p>
        )}
        {(g.findings || g.keptOut) && <Findings of={g} />}
        <dl className="grid grid-cols-[7rem_1fr] items-baseline gap-y-1 px-4 py-3 text-sm">
          {g.title !== g.version && (
            <>
              <dt className="text-soft">Digest</dt>
              <dd className="inline-flex items-center gap-1 font-mono text-xs wrap-anywhere">
                {g.version}
                <CopyButton text={g.version} label="Copy the digest" />
              </dd>
            </>
          )}
          {g.what && (
            <>
              <dt className="text-soft">What it is</dt>
              <dd>{g.what}</dd>
            </>
          )}
          {above && (
            <>
              <dt className="text-soft">{g.belongsAs === "part" ? "Part of" : "About"}</dt>
              <dd>
                <OfVersion of={above} onChoose={onChoose} />
              </dd>
            </>
          )}
          {(["part", "about"] as const).map(
            (as) =>
              belonging(as).length > 0 && (
                <Fragment key={as}>
                  <dt className="text-soft">{as === "part" ? "Made of" : "About it"}</dt>
                  <dd>
                    <ul>
                      {belonging(as).map((o) => (
                        <li key={o.version}>
                          <OfVersion of={o} onChoose={onChoose} />
                        </li>
                      ))}
                    </ul>
                  </dd>
                </Fragment>
              ),
          )}
          {g.bytes !== newest.size && (
            <>
              <dt className="text-soft">Size</dt>
              <dd>{bytes(g.bytes)}, with all that it is made of</dd>
            </>
          )}
          <dt className="text-soft">Published</dt>
          <dd>
            <Time at={newest.publishedAt} /> by {newest.publishedBy}
          </dd>
          {newest.origin && (
            <>
              <dt className="text-soft">Came from</dt>
              <dd className="break-words">
                {newest.origin.from}
                {newest.origin.promotions?.map((one) => (
                  <span key={one.at + one.to} className="block text-xs text-soft">
                    promoted from {one.from} to {one.to} there by {one.by}, <Time at={one.at} />
                  </span>
                ))}
              </dd>
            </>
          )}
          {newest.build && (
            <>
              <dt className="text-soft">Made by</dt>
              <dd>
                <Link to={buildPath(newest.build)}>{newest.build}</Link>
              </dd>
            </>
          )}
          {newest.promotions && (
            <>
              <dt className="text-soft">Promotions</dt>
              <dd className="flex flex-wrap gap-x-3">
                {newest.promotions.map((id) => (
                  <Link key={id} to={`/promotions/${id}`}>
                    promotion {id}
                  </Link>
                ))}
              </dd>
            </>
          )}
          <dt className="text-soft">Licence</dt>
          <dd>
            {newest.licences.length ? (
              newest.licences
                .map(
                  (l) => (l.name || l.url) + (l.sure ? ` (not stated, but known by its text, ${l.sure} % sure)` : ""),
                )
                .join(", ")
            ) : (
              <span className="text-soft">not stated</span>
            )}
          </dd>
          {newest.authors.length > 0 && (
            <>
              <dt className="text-soft">Authors</dt>
              <dd>{newest.authors.join(", ")}</dd>
            </>
          )}
          {newest.parent && (
            <>
              <dt className="text-soft">Parent</dt>
              <dd>
                <Link to={packagePath(newest.parent)}>{newest.parent.replace(/^pkg:[^/]+\//, "")}</Link>
              </dd>
            </>
          )}
          <dt className="text-soft">Needs</dt>
          <dd>
            {newest.dependencies.length === 0 && <span className="text-soft">nothing</span>}
            <ul>
              {newest.dependencies.map((d) => (
                <li key={d.purl + d.scope}>
                  <Link to={packagePath(d.purl)}>{needed(d.purl)}</Link> <span className="font-mono">{d.version}</span>
                  {(d.scope || d.optional) && (
                    <span className="ml-2 text-xs text-soft">
                      {[d.scope, d.optional && "optional"].filter(Boolean).join(", ")}
                    </span>
                  )}
                </li>
              ))}
            </ul>
          </dd>
        </dl>
        {!g.listed && <TakeOut key={g.repository + g.version} group={g} />}
      </Panel>
      <Panel
        title={g.snapshot ? "Uploads" : "Files"}
        aside={g.snapshot && <span className="text-xs text-soft">the first one answers</span>}
      >
        {g.uploads.map((u, i) => (
          <UploadFiles
            key={u.name}
            upload={u}
            headed={g.snapshot}
            unfolded={i === 0}
            fresh={fresh.has(`${g.repository} ${g.version} ${u.name}`)}
          />
        ))}
        {g.uploadCount > g.uploads.length && (
          <p className="px-4 py-2 text-sm text-soft">and {count(g.uploadCount - g.uploads.length, "older upload")}</p>
        )}
      </Panel>
      {newest.set && (
        <Contents
          key={g.repository + newest.name}
          version={{ purl: g.purl, repository: g.repository }}
          address={`/at/${g.repository}/${p.ecosystem}/${p.name}/${newest.name}/`}
          set={newest.set}
          others={p.versions.filter((o) => !o.listed)}
        />
      )}
      {layered && (
        <Layers
          version={{ purl: g.purl, repository: g.repository }}
          ecosystem={p.ecosystem}
          others={p.versions.filter((o) => !o.belongsTo && !o.listed)}
        />
      )}
      {!g.listed && <Symbols version={{ purl: g.purl, repository: g.repository }} />}
      {!g.listed && <Moves purl={g.purl} repository={g.repository} version={g.version} onChoose={onChoose} />}
      <Downloads title="Downloads of this package" days={60} purl={p.purl} />
      <Keep purl={g.purl} repository={g.repository} />
      <UseThis repository={g.repository} ecosystem={p.ecosystem} purl={g.purl} />
      <Readme purl={g.purl} repository={g.repository} />
    </div>
  );
}

/** UseThis points a client at the repository that has the version. */
function UseThis({ repository, ecosystem, purl }: { repository: string; ecosystem: string; purl: string }) {
  const [open, setOpen] = useState(false);
  return (
    <Panel
      title="Use it"
      aside={
        <Button aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Fold" : "Show how"}
        </Button>
      }
    >
      {open && (
        <div className="p-4">
          <Point repository={repository} ecosystem={ecosystem} purl={purl} may={[]} />
        </div>
      )}
    </Panel>
  );
}

/** Readme shows the text about a version, which the service made harmless. */
function Readme({ purl, repository }: { purl: string; repository: string }) {
  const query = useQuery({ ...searchQueries.readme(purl, repository), retry: false });
  if (!query.data?.html) return null;
  return (
    <Panel title="README">
      <div className="readme px-4 py-3" dangerouslySetInnerHTML={{ __html: query.data.html }} />
    </Panel>
  );
}
