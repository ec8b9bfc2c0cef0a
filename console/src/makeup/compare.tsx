import { ArrowRight } from "lucide-react";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Schemas } from "../api/client";
import { comparePath, makeupQueries, type Side } from "./calls";
import { Steps } from "./steps";
import { OneOf } from "../pointing/point";
import { FileDifferences } from "../ui/files";
import { bytes, count, packagePath, shortName } from "../ui/format";
import { Table } from "../ui/table";
import { Button, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";

type Made = Schemas["Makeup"];

export default function ComparePage() {
  const [asked] = useSearchParams();
  const side = (name: string): Side => ({ purl: asked.get(name) ?? "", repository: asked.get(`${name}In`) ?? "" });
  const [before, after] = [side("before"), side("after")];
  const [platform, setPlatform] = useState("");
  usePageTitle("Compare");
  const query = useQuery({ ...makeupQueries.comparison(before, after, platform, false), retry: false });
  return (
    <Loaded query={query}>
      {(c) => {
        const both = c.before.platforms.filter((p) => c.after.platforms.includes(p));
        return (
          <>
            <div className="mb-4 flex flex-wrap items-end justify-between gap-3">
              <div>
                <p className="text-sm text-soft">
                  <Link to={packagePath(after.purl)}>{shortName(after.purl)}</Link> /
                </p>
                <h1 className="flex flex-wrap items-center gap-2 text-2xl font-semibold tracking-tight">
                  {c.before.title} <ArrowRight size={20} aria-label="compared with" /> {c.after.title}
                </h1>
              </div>
              <div className="flex flex-wrap items-center gap-3">
                {both.length > 1 && (
                  <OneOf
                    label="Platform"
                    value={c.after.platform ?? ""}
                    onChange={setPlatform}
                    options={both.map((p) => [p, p])}
                  />
                )}
                <Link
                  to={comparePath(after, before)}
                  className="inline-flex h-8 items-center rounded border border-rule bg-sheet px-3 text-sm font-medium text-ink hover:bg-wash hover:no-underline"
                >
                  The other way round
                </Link>
              </div>
            </div>
            <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
              <div className="grid gap-5 md:grid-cols-2">
                <Of title="Before" made={c.before} />
                <Of title="After" made={c.after} />
              </div>
              {c.files ? (
                <Panel
                  title="Files"
                  aside={
                    <span className="text-sm text-soft">
                      {c.files.same ?? 0} as they were; {bytes(c.files.new ?? 0)} that the first does not have
                    </span>
                  }
                >
                  <FileDifferences of={c.files} />
                </Panel>
              ) : (
                <>
                  <LayerDifferences c={c} />
                  <Settings all={c.settings} />
                  <Files key={platform} before={before} after={after} platform={platform} />
                </>
              )}
            </div>
          </>
        );
      }}
    </Loaded>
  );
}

/** Of tells which version one side is. */
function Of({ title, made: m }: { title: string; made: Made }) {
  return (
    <Panel title={title}>
      <dl className="grid grid-cols-[6rem_1fr] gap-y-1 px-4 py-3 text-sm">
        <dt className="text-soft">Version</dt>
        <dd>
          <Link to={packagePath(m.purl)} className="wrap-anywhere">
            {shortName(m.purl)} {m.title}
          </Link>{" "}
          in <Link to={`/repositories/${m.repository}`}>{m.repository}</Link>
        </dd>
        {m.platform && (
          <>
            <dt className="text-soft">Platform</dt>
            <dd>{m.platform}</dd>
          </>
        )}
        <dt className="text-soft">Size</dt>
        <dd>
          {bytes(m.bytes)}
          {m.steps.some((s) => s.layer) && ` in ${count(m.steps.filter((s) => s.layer).length, "layer")}`}
        </dd>
        {m.made && (
          <>
            <dt className="text-soft">Made</dt>
            <dd>
              <Time at={m.made} />
            </dd>
          </>
        )}
      </dl>
    </Panel>
  );
}

function LayerDifferences({ c }: { c: Schemas["Comparison"] }) {
  const sum = (steps: Schemas["MadeStep"][]) => bytes(steps.reduce((all, s) => all + s.bytes, 0));
  const parts: [string, Schemas["MadeStep"][]][] = [
    ["Gone", c.gone],
    ["New", c.new],
  ];
  return (
    <Panel
      title="Layers"
      aside={
        <span className="text-sm text-soft">
          {c.same.length ? `${count(c.same.length, "layer")}, ${sum(c.same)}, in both` : "none is in both"}
        </span>
      }
    >
      {c.gone.length + c.new.length === 0 && <p className="px-4 py-3 text-sm">They have the same layers.</p>}
      {parts.map(
        ([title, steps]) =>
          steps.length > 0 && (
            <section key={title} className="border-b border-rule last:border-0">
              <h3 className="px-4 pt-2 text-sm font-medium">
                {title} <span className="font-normal text-soft">{sum(steps)}</span>
              </h3>
              <Steps name={`${title} layers`} steps={steps} part />
            </section>
          ),
      )}
    </Panel>
  );
}

const notThere = <span className="font-sans text-sm text-soft">not there</span>;

function Settings({ all }: { all: Schemas["SettingDifference"][] }) {
  return (
    <Panel title="Settings" aside={all.length > 0 && <span className="text-sm text-soft">that are not the same</span>}>
      {all.length === 0 ? (
        <p className="px-4 py-3 text-sm">They are set to the same.</p>
      ) : (
        <Table
          name="Settings"
          dense
          rows={all}
          rowKey={(d) => d.name}
          columns={[
            { head: "Setting", by: (d) => d.name, look: "text-soft wrap-anywhere", cell: (d) => d.name },
            ...(["before", "after"] as const).map((side) => ({
              head: side === "before" ? "Before" : "After",
              look: "w-[32%] font-mono text-xs whitespace-pre-wrap wrap-anywhere",
              cell: (d: Schemas["SettingDifference"]) => d[side] || notThere,
            })),
          ]}
        />
      )}
    </Panel>
  );
}

/** Files compares the files that the layers make together, when asked: it may take a while. */
function Files({ before, after, platform }: { before: Side; after: Side; platform: string }) {
  const [asked, setAsked] = useState(false);
  const query = useQuery({
    ...makeupQueries.comparison(before, after, platform, true),
    enabled: asked,
    retry: false,
  });
  const f = query.data?.files;
  return (
    <Panel
      title="Files"
      aside={
        !f && (
          <Button disabled={query.isFetching} onClick={() => (asked ? void query.refetch() : setAsked(true))}>
            {query.isFetching ? "Comparing…" : "Compare the files"}
          </Button>
        )
      }
    >
      {query.error && (
        <div className="p-4">
          <ErrorNote error={query.error} />
        </div>
      )}
      {!f && !query.error && (
        <p className="px-4 py-3 text-sm text-soft">What the layers make together, file by file.</p>
      )}
      {f && <FileDifferences of={f} />}
    </Panel>
  );
}
