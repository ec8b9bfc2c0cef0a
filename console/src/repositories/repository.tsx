import { Tabs } from "radix-ui";
import { type DragEvent, lazy, Suspense, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { repositoriesQueries } from "./calls";
import type { Picked } from "../publishing/send";
import { TextInput } from "../ui/dialog";
import { bytes, count, moment } from "../ui/format";
import {
  CopyButton,
  Empty,
  Holds,
  Loaded,
  Panel,
  Time,
  UpstreamMark,
  useEcosystems,
  usePageTitle,
  useQuery,
} from "../ui/parts";
import { OneOf, Point } from "../pointing/point";
import { Tree } from "../ui/tree";
import { Arrivals } from "../promotion/arrivals";
import { Claims } from "./claims";
import { ChainOrder } from "../resolving/chain";
import { dropped, picked, Publish, takes } from "../publishing/publish";
import { Prefetch } from "../mirrors/prefetch";
import { Receiving } from "../publishing/receiving";
import { Settings } from "./repository-settings";
import { Downloads } from "../use/use";
import { Found, useSearch } from "../search/search";
import { When } from "../ui/when";

const Upstream = lazy(() => import("../mirrors/upstream"));

const tab =
  "-mb-px cursor-pointer border-b-2 border-transparent px-3 py-2 text-sm text-soft hover:text-ink data-[state=active]:border-deep data-[state=active]:font-medium data-[state=active]:text-ink";

export function RepositoryPage() {
  const { name = "", "*": rest = "" } = useParams();
  usePageTitle(name);
  const navigate = useNavigate();
  const query = useQuery(repositoriesQueries.repository(name));
  const first = query.data?.chain && !query.data.asOf ? "order" : "contents";
  const shown = rest.split("/")[0] || first;
  const [files, setFiles] = useState<Picked[]>([]);
  const [over, setOver] = useState(false);
  const drops = (r: Schemas["Repository"]) =>
    takes(r) && {
      onDragOver: (e: DragEvent) => {
        if (!e.dataTransfer.types.includes("Files")) return;
        e.preventDefault();
        setOver(true);
      },
      onDragLeave: (e: DragEvent) => !e.currentTarget.contains(e.relatedTarget as Node | null) && setOver(false),
      onDrop: (e: DragEvent) => {
        e.preventDefault();
        setOver(false);
        void dropped(e).then((more) => {
          setFiles((known) => [...known, ...picked(more)]);
          void navigate(`/repositories/${name}/publish`);
        });
      },
    };
  return (
    <Loaded query={query}>
      {(r) => (
        <div
          key={name}
          className={`min-h-[70vh] rounded-lg ${over ? "outline-2 outline-offset-8 outline-deep outline-dashed" : ""}`}
          {...drops(r)}
        >
          <Head repository={r} />
          <Tabs.Root
            value={shown}
            onValueChange={(value) => void navigate(`/repositories/${name}/${value === first ? "" : value}`)}
          >
            <Tabs.List className="mb-4 flex gap-1 overflow-x-auto border-b border-rule" aria-label={name}>
              {r.chain && !r.asOf && (
                <Tabs.Trigger className={tab} value="order">
                  Order
                </Tabs.Trigger>
              )}
              <Tabs.Trigger className={tab} value="contents">
                Contents
              </Tabs.Trigger>
              {!r.asOf && (
                <Tabs.Trigger className={tab} value="packages">
                  Packages
                </Tabs.Trigger>
              )}
              {r.kind === "house" && !r.asOf && (
                <Tabs.Trigger className={tab} value="arrivals">
                  Arrivals
                </Tabs.Trigger>
              )}
              {r.chain && !r.asOf && (
                <Tabs.Trigger className={tab} value="claims">
                  Claims
                </Tabs.Trigger>
              )}
              {r.mirror && !r.asOf && (
                <Tabs.Trigger className={tab} value="upstream">
                  Upstream
                </Tabs.Trigger>
              )}
              {r.mirror && !r.asOf && (
                <Tabs.Trigger className={tab} value="prefetch">
                  Prefetch
                </Tabs.Trigger>
              )}
              {!r.asOf && (
                <Tabs.Trigger className={tab} value="downloads">
                  Downloads
                </Tabs.Trigger>
              )}
              {takes(r) && (
                <Tabs.Trigger className={tab} value="publish">
                  Publish
                </Tabs.Trigger>
              )}
              <Tabs.Trigger className={tab} value="use">
                Use it
              </Tabs.Trigger>
              {r.may.includes("manage") && (
                <Tabs.Trigger className={tab} value="settings">
                  Settings
                </Tabs.Trigger>
              )}
            </Tabs.List>
            <Tabs.Content value="contents">
              {r.kind === "house" && !r.asOf && (
                <div className="mb-5 empty:hidden">
                  <Receiving repository={r.name} />
                </div>
              )}
              <Contents repository={r} name={name} />
            </Tabs.Content>
            <Tabs.Content value="packages">
              <Packages repository={name} />
            </Tabs.Content>
            {r.kind === "house" && (
              <Tabs.Content value="arrivals">
                <Arrivals repository={r.name} />
              </Tabs.Content>
            )}
            {r.chain && (
              <Tabs.Content value="order">
                <ChainOrder key={r.name} repository={r} />
              </Tabs.Content>
            )}
            {r.chain && (
              <Tabs.Content value="claims">
                <Claims repository={r} />
              </Tabs.Content>
            )}
            {r.mirror && (
              <Tabs.Content value="upstream">
                <Suspense
                  fallback={
                    <p className="py-6 text-sm text-soft" aria-busy="true">
                      Loading…
                    </p>
                  }
                >
                  <Upstream repository={r} />
                </Suspense>
              </Tabs.Content>
            )}
            {r.mirror && (
              <Tabs.Content value="prefetch">
                <Prefetch key={r.name} repository={r} />
              </Tabs.Content>
            )}
            <Tabs.Content value="downloads">
              <Downloads title={`Downloads from ${r.name}`} days={60} repository={r.name} />
            </Tabs.Content>
            {takes(r) && (
              <Tabs.Content value="publish">
                <Publish key={r.name} repository={r} files={files} setFiles={setFiles} />
              </Tabs.Content>
            )}
            <Tabs.Content value="use">
              <UseIt repository={r} name={name} />
            </Tabs.Content>
            <Tabs.Content value="settings">
              <Settings key={r.name} repository={r} />
            </Tabs.Content>
          </Tabs.Root>
        </div>
      )}
    </Loaded>
  );
}

function Head({ repository: r }: { repository: Schemas["Repository"] }) {
  return (
    <div className="mb-4">
      <p className="text-sm text-soft">
        <Link to="/">Repositories</Link> /
      </p>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="text-2xl font-semibold tracking-tight">{r.name}</h1>
        <span className="text-sm">
          {r.chain ? <span className="text-soft">chain of {r.chain.members.length}</span> : <Holds holds={r.holds} />}
        </span>
        {r.mirror && <UpstreamMark mirror={r.mirror} />}
        <span className="text-sm text-soft">{r.description}</span>
      </div>
      {r.asOf && (
        <p role="status" className="mt-2 rounded border border-glow/50 bg-glow-wash px-3 py-1.5 text-sm">
          As it stood on {moment(r.asOf)}. Clients see the same at this address; nothing can be published to it.
        </p>
      )}
      <div className="mt-1.5 flex flex-wrap items-center gap-x-5 gap-y-1 text-sm text-soft">
        <span className="inline-flex items-center gap-1">
          <code className="font-mono text-ink">{r.address}</code>
          <CopyButton text={r.address} label="Copy the address" />
        </span>
        {!r.chain && (
          <span>
            {count(r.packages, "package")}, {count(r.versions, "version")}, {bytes(r.bytes)}
            {r.mirror && " kept"}
          </span>
        )}
        <span>{r.anonymousRead ? "anybody may read" : "readers sign in"}</span>
        {r.lastChange && (
          <span>
            changed <Time at={r.lastChange} />
          </span>
        )}
        <AsOf repository={r} />
      </div>
    </div>
  );
}

/** AsOf chooses the moment as of which a repository is shown. */
function AsOf({ repository: r }: { repository: Schemas["Repository"] }) {
  const navigate = useNavigate();
  return (
    <span className="inline-flex flex-wrap items-center gap-2">
      as of
      <When
        label="Show it as of"
        none="now"
        value={r.asOf ?? ""}
        onChange={(at) => void navigate(`/repositories/${r.name}${at ? `@${at.replace(/:00\.000Z$/, "Z")}` : ""}`)}
      />
      {r.asOf && <Link to={`/repositories/${r.name}`}>Back to now</Link>}
    </span>
  );
}

/** UseIt shows the text that points clients here, one ecosystem at a time. */
function UseIt({ repository: r, name }: { repository: Schemas["Repository"]; name: string }) {
  const known = useEcosystems();
  const [chosen, setChosen] = useState("");
  const all = (known.data ?? []).filter((e) => !r.mirror || e.name === r.ecosystem);
  const ecosystem = chosen || r.ecosystem || r.ecosystems[0] || all[0]?.name;
  if (!ecosystem) return null;
  return (
    <>
      {all.length > 1 && (
        <div className="mb-4">
          <OneOf label="Ecosystem" value={ecosystem} onChange={setChosen} options={all.map((e) => [e.name, e.title])} />
        </div>
      )}
      <Point key={ecosystem} repository={name} ecosystem={ecosystem} may={r.may} />
    </>
  );
}

function Contents({ repository: r, name }: { repository: Schemas["Repository"]; name: string }) {
  const known = useEcosystems();
  if (r.asOf && r.packages === 0) {
    return (
      <Panel>
        <Empty title={`${r.name} held nothing then`}>
          Choose a later day, or go <Link to={`/repositories/${r.name}`}>back to now</Link>.
        </Empty>
      </Panel>
    );
  }
  if (r.mirror && r.packages === 0) {
    return (
      <Panel>
        <Empty title={`${r.name} keeps nothing yet`}>
          What is asked for through its address is fetched from{" "}
          <code className="font-mono">{r.mirror.upstreams[0]}</code> and kept.{" "}
          <Link to={`/repositories/${r.name}/use`}>Use it</Link> has the text that points a build tool here;{" "}
          <Link to={`/repositories/${r.name}/prefetch`}>Prefetch</Link> fills it ahead of time.
        </Empty>
      </Panel>
    );
  }
  if (r.ecosystems.length === 0) {
    return (
      <Panel>
        <Empty title={`${r.name} is empty`}>
          <Link to={`/repositories/${r.name}/use`}>Use it</Link> has the text that lets a build tool publish here; or{" "}
          {takes(r) && "drop package files on this page, or "}run{" "}
          <code className="font-mono">crelvo publish FILE --to {r.name}</code>.
        </Empty>
      </Panel>
    );
  }
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
      {r.ecosystems.map((e) => (
        <Panel key={e} title={known.data?.find((k) => k.name === e)?.title ?? e}>
          <Tree key={name} repository={name} isChain={r.kind === "chain"} ecosystem={e} />
        </Panel>
      ))}
    </div>
  );
}

function Packages({ repository }: { repository: string }) {
  const [text, setText] = useState("");
  const query = useSearch(text, repository);
  return (
    <Panel
      title="Packages"
      aside={
        <div className="w-56">
          <TextInput
            aria-label="Filter"
            placeholder="Filter by name"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </div>
      }
    >
      <Found query={query} within />
    </Panel>
  );
}
