import { useInfiniteQuery } from "@tanstack/react-query";
import { ArrowRight, DoorOpen, PenLine, Send, Stamp } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { type PromotionFilter, type PromotionState, promotionCalls, promotionQueries } from "./calls";
import { repositoriesQueries } from "../repositories/calls";
import { Choice, Confirm } from "../ui/dialog";
import { buildPath, count, lines, packagePath, shortVersion } from "../ui/format";
import { Button, Empty, ErrorNote, Holds, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { Hop, PromotionMark, PromotionTable, versionsText } from "./promotions";
import { FilterChoice, Filters, FilterText, More, useFilters } from "../ui/filters";
import { TickField, FormDialog, TextField, AreaField } from "../ui/form";

type Picture = Schemas["TrackPicture"];
type Promotion = Schemas["Promotion"];

export default function TracksPage({ me }: { me: Schemas["Me"] }) {
  const { track } = useParams();
  usePageTitle(track ?? "Tracks");
  const query = useQuery(promotionQueries.tracks());
  const changed = useChanged();
  const navigate = useNavigate();
  const [adding, setAdding] = useState(false);
  const [removing, setRemoving] = useState("");
  return (
    <Loaded query={query}>
      {(all) => {
        const chosen = all.find((t) => t.name === track) ?? all[0];
        return (
          <>
            <div className="mb-4 flex flex-wrap items-center gap-3">
              <h1 className="text-2xl font-semibold tracking-tight">{chosen ? chosen.name : "Tracks"}</h1>
              <span className="text-sm text-soft">{chosen?.description}</span>
              <span className="ml-auto flex flex-wrap items-center gap-2">
                {all.length > 1 && (
                  <span className="w-44">
                    <Choice
                      label="Track"
                      value={chosen!.name}
                      onChange={(name) => void navigate(`/tracks/${name}`)}
                      options={all.map((t) => [t.name, t.name])}
                    />
                  </span>
                )}
                <Link to="/signing" className="px-1 text-sm">
                  Keys
                </Link>
                {me.admin && (
                  <Link to="/targets" className="px-1 text-sm">
                    Targets
                  </Link>
                )}
                {me.admin && chosen && <Button onClick={() => setRemoving(chosen.name)}>Remove…</Button>}
                {me.admin && <Button onClick={() => setAdding(true)}>New track</Button>}
              </span>
            </div>
            <Queue />
            {chosen ? (
              <Track key={chosen.name} name={chosen.name} admin={me.admin} />
            ) : (
              <Panel>
                <Empty title="No track yet">
                  A track says through which repositories versions go, such as snapshots, staging and releases, and what
                  is asked for at each step.
                  {!me.admin && " An admin makes one."}
                </Empty>
              </Panel>
            )}
            <History />
            {removing && (
              <Confirm
                title={`Remove the track ${removing}?`}
                text="Nothing can be promoted along it any more. Its repositories, and the record of its promotions, stay."
                what="Remove it"
                run={() =>
                  promotionCalls.removeTrack(removing).then(() => (navigate("/tracks"), changed({ kind: "track" })))
                }
                close={() => setRemoving("")}
              />
            )}
            {adding && <NewTrack close={() => setAdding(false)} />}
          </>
        );
      }}
    </Loaded>
  );
}

/** Queue shows what waits for who looks at it. */
function Queue() {
  const query = useQuery(promotionQueries.waiting());
  const all = query.data?.promotions ?? [];
  if (all.length === 0) return null;
  return (
    <section className="mb-5 rounded-lg border border-glow/50 bg-glow-wash" aria-label="Waiting for you">
      <h2 className="px-4 pt-2.5 font-semibold text-glow">Waiting for you</h2>
      <ul className="px-4 pb-2.5">
        {all.map((p) => (
          <li key={p.id} className="flex flex-wrap items-baseline gap-x-3 py-1 text-sm">
            <Link to={`/promotions/${p.id}`} className="font-medium">
              promotion {p.id}
            </Link>
            <Hop from={p.from} to={p.to} /> <span>{p.build || versionsText(p)}</span>
            <span className="text-soft">
              asked by {p.askedBy} <Time at={p.askedAt} />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Track is the picture: stages from left to right, and what waits between them. */
function Track({ name, admin }: { name: string; admin: boolean }) {
  const query = useQuery({
    ...promotionQueries.track(name),
    refetchInterval: 30_000,
  });
  return (
    <Loaded query={query}>
      {(t) => (
        <ol
          className="mb-5 grid gap-3 overflow-x-auto pb-1 lg:grid-flow-col lg:auto-cols-[minmax(15rem,1fr)]"
          aria-label={`The stages of ${name}`}
        >
          {t.stages.map((stage, i) => (
            <Stage key={stage.repository} t={t} i={i} admin={admin} />
          ))}
        </ol>
      )}
    </Loaded>
  );
}

function Stage({ t, i, admin }: { t: Picture; i: number; admin: boolean }) {
  const stage = t.stages[i]!;
  const next = t.stages[i + 1];
  const [editing, setEditing] = useState(false);
  const repository = useQuery({
    ...repositoriesQueries.repository(stage.repository),
    enabled: stage.seen === true,
  });
  const here = t.standings.filter((s) => s.repository === stage.repository);
  const coming = t.waiting.filter((p) => p.to === stage.repository);
  const conditions = stage.gates?.length ?? 0;
  return (
    <li className="flex min-w-0 flex-col rounded-lg border border-rule bg-sheet">
      <header className="border-b border-rule px-3 py-2">
        <div className="flex items-center gap-2">
          {i > 0 && <ArrowRight size={16} className="text-deep" aria-hidden />}
          <h2 className="font-semibold">
            {stage.seen ? (
              <Link
                to={`/repositories/${stage.repository}/arrivals`}
                title={`What is new in ${stage.repository}, and who let it in`}
              >
                {stage.repository}
              </Link>
            ) : (
              stage.repository
            )}
          </h2>
          <span className="ml-auto text-sm">{repository.data && <Holds holds={repository.data.holds} />}</span>
        </div>
        {i === 0 ? (
          <p className="mt-1 text-xs text-soft">what is published here begins the way</p>
        ) : (
          <div className="mt-1 text-xs text-soft">
            {conditions === 0 ? (
              <p className="flex items-center gap-1">
                <DoorOpen size={13} aria-hidden /> no gates
              </p>
            ) : (
              <ul>
                {stage.sentences?.map((text, n) => (
                  <li key={n} title={stage.gates?.[n]} className="truncate">
                    · {text}
                  </li>
                ))}
              </ul>
            )}
            {stage.signWith && (
              <p className="flex items-center gap-1">
                <PenLine size={13} aria-hidden /> signed with {stage.signWith}
              </p>
            )}
            {stage.restamps && stage.restamps.length > 0 && (
              <p className="flex items-center gap-1">
                <Stamp size={13} aria-hidden /> restamps {stage.restamps.map(restampText).join("; ")}
              </p>
            )}
            {stage.onward && stage.onward.length > 0 && (
              <p className="flex items-center gap-1">
                <Send size={13} aria-hidden /> goes on to {stage.onward.join(", ")}
              </p>
            )}
            {admin && (
              <button
                type="button"
                className="cursor-pointer text-deep hover:underline"
                onClick={() => setEditing(true)}
              >
                change what is asked for
              </button>
            )}
          </div>
        )}
      </header>
      {coming.length > 0 && (
        <ul className="border-b border-rule bg-glow-wash/60">
          {coming.map((p) => (
            <Coming key={p.id} p={p} />
          ))}
        </ul>
      )}
      {here.length === 0 ? (
        <p className="px-3 py-4 text-sm text-soft">
          {stage.seen ? "Nothing is here yet." : "You may not read this repository."}
        </p>
      ) : (
        <ul>
          {here.map((s) => (
            <Standing
              key={(s.build ?? "") + s.purl + s.version + s.at}
              s={s}
              track={t.name}
              mayGo={next?.may === true}
              asked={t.waiting.find((p) => p.from === s.repository && p.build !== undefined && p.build === s.build)}
            />
          ))}
        </ul>
      )}
      {editing && <EditHop t={t} i={i} close={() => setEditing(false)} />}
    </li>
  );
}

/** Coming is a promotion that is not done yet, before the stage that it leads to. */
function Coming({ p }: { p: Promotion }) {
  const waits = p.answers.filter((a) => a.state === "waiting");
  return (
    <li className="px-3 py-2 text-sm">
      <span className="flex items-baseline gap-2">
        <Link to={`/promotions/${p.id}`} className="font-medium">
          {p.build || versionsText(p, 1)}
        </Link>{" "}
        <PromotionMark state={p.state} />
      </span>
      <span className="block text-xs text-soft">
        {waits.map((a) => a.facts[a.facts.length - 1]).join("; ") || `asked by ${p.askedBy}`}
      </span>
    </li>
  );
}

function Standing({
  s,
  track,
  mayGo,
  asked,
}: {
  s: Schemas["Standing"];
  track: string;
  mayGo: boolean;
  asked?: Promotion;
}) {
  const what = new URLSearchParams({ along: track });
  if (s.build) what.set("build", s.build);
  else what.set("purl", `${s.purl}@${s.version}`);
  return (
    <li className={`group border-b border-rule px-3 py-1.5 text-sm last:border-0 ${s.movedOn ? "text-soft" : ""}`}>
      <div className="flex items-baseline gap-2">
        {s.build ? (
          <Link to={buildPath(s.build)} className="truncate font-medium">
            {s.build}
          </Link>
        ) : (
          <Link to={packagePath(`${s.purl}@${s.version}`)} className="truncate font-medium">
            {s.name}
          </Link>
        )}
        <span className="ml-auto text-xs whitespace-nowrap text-soft">
          <Time at={s.at} />
        </span>
      </div>
      <div className="flex items-baseline gap-2 text-xs">
        <span className="truncate font-mono">
          {shortVersion(s.version)}
          {s.numbers > 1 && <span className="font-sans text-soft"> and others</span>}
        </span>
        <span className="text-soft whitespace-nowrap">{s.versions > 1 && count(s.versions, "package")}</span>
        <span className="ml-auto whitespace-nowrap">
          {s.movedOn ? (
            "went further"
          ) : asked ? (
            <Link to={`/promotions/${asked.id}`}>asked for</Link>
          ) : (
            mayGo && <Link to={`/promote?${what}`}>promote…</Link>
          )}
        </span>
      </div>
    </li>
  );
}

const states: [string, string][] = [
  ["", "in any state"],
  ["waiting", "waits"],
  ["done", "done"],
  ["failed", "failed"],
  ["refused", "refused"],
  ["cancelled", "cancelled"],
  ["undone", "undone"],
];
const spans: [string, string][] = [
  ["", "always"],
  ["1", "the last day"],
  ["7", "the last week"],
  ["30", "the last 30 days"],
  ["366", "the last year"],
];

/** History lists promotions by filters that stand in the address. */
function History() {
  const by = useFilters();
  const { get } = by;
  const filter: PromotionFilter = {
    state: (get("state") || undefined) as PromotionState | undefined,
    to: get("to") || undefined,
    by: get("by") || undefined,
    q: get("q") || undefined,
  };
  const days = Number(get("days"));
  const query = useInfiniteQuery({
    ...promotionQueries.promotions(filter, days),
    retry: false,
  });
  const all = query.data?.pages.flatMap((p) => p.promotions) ?? [];
  return (
    <Panel title="Promotions">
      <Filters by={by}>
        <FilterChoice by={by} name="state" label="State" options={states} />
        <FilterChoice by={by} name="days" label="Since" options={spans} />
        <FilterText name="to" label="Into" hint="into repository" />
        <FilterText name="by" label="Asked by" hint="asked by" />
        <FilterText name="q" label="About" hint="package, build or notes" wide />
      </Filters>
      {query.error ? (
        <div className="p-4">
          <ErrorNote error={query.error} />
        </div>
      ) : query.data && all.length === 0 ? (
        <Empty title={by.any ? "No promotion fits" : "Nothing was promoted yet"}>
          {by.any ? "Take away a filter." : "Open a build, and promote it along a track."}
        </Empty>
      ) : (
        <PromotionTable all={all} partly={query.hasNextPage} />
      )}
      <More query={query} />
    </Panel>
  );
}

const textIn = "text in ";

/** restampText says in words what is restamped. */
function restampText(written: string) {
  return written.startsWith(textIn) ? written : written.replace("-", " ");
}

/** plainStage is a stage without what only the service says of it. */
function plainStage(s: Schemas["Stage"]): Schemas["Stage"] {
  return { repository: s.repository, gates: s.gates, signWith: s.signWith, onward: s.onward, restamps: s.restamps };
}

/** EditHop changes what is asked for on the way into a stage. */
function EditHop({ t, i, close }: { t: Picture; i: number; close: () => void }) {
  const stage = t.stages[i]!;
  const changed = useChanged();
  return (
    <FormDialog
      title={`Into ${stage.repository}`}
      description="What must hold before a version gets in."
      start={{
        gates: (stage.gates ?? []).join("\n"),
        signWith: stage.signWith ?? "",
        onward: (stage.onward ?? []).join("\n"),
        labels: stage.restamps?.includes("image-labels") ?? false,
        references: stage.restamps?.includes("image-references") ?? false,
        texts: (stage.restamps ?? []).filter((r) => r.startsWith(textIn)).join("\n"),
      }}
      run={({ gates, signWith, onward, labels, references, texts }) =>
        promotionCalls.editTrack(t.name, {
          name: t.name,
          description: t.description,
          stages: t.stages.map((s, n) =>
            n === i
              ? {
                  repository: s.repository,
                  gates: lines(gates),
                  signWith: signWith.trim(),
                  onward: lines(onward),
                  restamps: [
                    ...(labels ? ["image-labels"] : []),
                    ...(references ? ["image-references"] : []),
                    ...lines(texts),
                  ],
                }
              : plainStage(s),
          ),
        })
      }
      done={() => changed({ kind: "track" })}
      close={close}
      submit="Save"
    >
      <AreaField
        name="gates"
        label="Gates"
        hint="One a line: recorded-build, tests-passed, no-snapshots, signed-by KEY, attested TYPE by KEY, licences MIT, Apache-2.0, no-advisories from high, vetted, with-symbols, comes-with TYPE, waited 3d, behind 0, approved 1 by TEAM, asks https://… within 10s"
        rows={6}
      />
      <TextField name="signWith" label="Sign with" hint="The name of a key that signs releases." />
      <AreaField name="onward" label="Goes on to" hint="Names of targets, one a line." />
      <TickField name="labels">
        Restamp the version in labels and annotations of images; their digests change, and signatures stay behind
      </TickField>
      <TickField name="references">Restamp exact references to these images in the values of charts</TickField>
      <AreaField
        name="texts"
        label="Texts in file sets"
        hint="One a line: text in *version.txt, for the version; text in conf/*: test.example -> live.example, for another text. Paths are of files in the set; * stands for any characters."
        rows={2}
      />
    </FormDialog>
  );
}

function NewTrack({ close }: { close: () => void }) {
  const changed = useChanged();
  const navigate = useNavigate();
  const repositories = useQuery(repositoriesQueries.repositories());
  const houses = (repositories.data ?? []).filter((r) => r.kind === "house").map((r) => r.name);
  return (
    <FormDialog
      title="New track"
      description="The repositories that versions go through, one after the other."
      start={{ name: "", description: "", stages: "" }}
      run={async ({ stages, ...track }) => {
        await promotionCalls.addTrack({ ...track, stages: lines(stages).map((repository) => ({ repository })) });
        void navigate(`/tracks/${track.name}`);
      }}
      done={() => changed({ kind: "track" })}
      close={close}
      submit="Make it"
    >
      <TextField name="name" label="Name" required autoFocus />
      <TextField name="description" label="Description" />
      <AreaField
        name="stages"
        label="Stages"
        hint={`House repositories in their order, one a line. There are: ${houses.join(", ")}`}
        rows={4}
        required
      />
    </FormDialog>
  );
}
