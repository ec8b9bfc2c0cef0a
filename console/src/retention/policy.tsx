import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import type { CompletionSource } from "@codemirror/autocomplete";
import { Link, useNavigate, useParams } from "react-router";
import { Failure, type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { retentionCalls, retentionQueries } from "./calls";
import { Choice, Dialog, TextInput, Tick } from "../ui/dialog";
import { bytes, count, moment, save } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, usePageTitle } from "../ui/parts";
import { Months, PlanLines, Totals } from "./plan";
import { When } from "../ui/when";

const blank = `name: development-builds
description: What CI makes every day
repositories: [snapshots]
keep:
  - newest 3 of each development-version
  - younger than 14d
  - downloaded within 30d
  - promoted with its build
grace: 14d
schedule: 30 3 * * *
zone: Europe/Oslo
most-share: 50%
`;

const YAMLEditor = lazy(() => import("../ui/editor"));

/** PolicyPage edits a policy beside what it would do now. */
export default function PolicyPage() {
  const { name = "" } = useParams();
  const fresh = name === "new";
  usePageTitle(fresh ? "New policy" : name);
  const query = useQuery({ ...retentionQueries.policy(name), enabled: !fresh });
  if (fresh) return <Editor text={blank} />;
  return <Loaded query={query}>{(p) => <Editor key={p.name} text={p.text} policy={p} />}</Loaded>;
}

/** useSettled gives a value once it did not change for a while. */
function useSettled<T>(value: T, wait: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), wait);
    return () => clearTimeout(timer);
  }, [value, wait]);
  return settled;
}

function Editor({ text: saved, policy: p }: { text: string; policy?: Schemas["Policy"] }) {
  const changed = useChanged();
  const navigate = useNavigate();
  const [text, setText] = useState(saved);
  const [paused, setPaused] = useState(p?.paused ?? false);
  const [removing, setRemoving] = useState(false);
  const edited = text !== saved || paused !== (p?.paused ?? false) || !p;
  const save = useMutation({
    mutationFn: () => retentionCalls.setPolicy({ text, paused }),
    onSuccess: async (made) => {
      await changed({ kind: "policy" });
      void navigate(`/policies/${made.name}`, { replace: true });
    },
  });
  const run = useMutation({
    mutationFn: () => retentionCalls.runSweep({ policy: p!.name }),
    onSuccess: (sweep) => void navigate(`/sweeps/${sweep.id}`),
  });
  const may = p?.may ?? true;
  const forms = useQuery({ ...retentionQueries.forms(), staleTime: Infinity });
  const complete = useMemo(() => proposals(forms.data), [forms.data]);
  const settled = useSettled(text, 400);
  const [asked, setAsked] = useState<Asked>({ fate: "swept", asOf: "", match: "" });
  const plan = usePlan(settled, asked);
  const error = save.error ?? plan.error;
  const wrong =
    error instanceof Failure && error.line && text === settled
      ? { line: error.line, message: [error.message, error.hint].filter(Boolean).join(" ") }
      : undefined;
  return (
    <>
      <div className="mb-4">
        <p className="text-sm text-soft">
          <Link to="/retention">Retention</Link> /
        </p>
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          <h1 className="text-2xl font-semibold tracking-tight">{p?.name ?? "New policy"}</h1>
          {p && <span className="text-sm text-soft">{p.description}</span>}
          {p && may && (
            <span className="ml-auto flex gap-2">
              <Button
                onClick={() => run.mutate()}
                disabled={edited || run.isPending}
                title={edited ? "Save it first" : undefined}
              >
                Sweep now
              </Button>
              <Button look="danger" onClick={() => setRemoving(true)}>
                Remove…
              </Button>
            </span>
          )}
        </div>
        {run.error && (
          <div className="mt-2">
            <ErrorNote error={run.error} />
          </div>
        )}
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[26rem_minmax(0,1fr)]">
        <Panel title="What stays, and why">
          <form
            className="p-4"
            onSubmit={(e) => {
              e.preventDefault();
              save.mutate();
            }}
          >
            <Suspense fallback={<div className="h-96" aria-busy="true" />}>
              <YAMLEditor
                label="The policy, in YAML"
                value={text}
                onChange={setText}
                readOnly={!may}
                wrong={wrong}
                complete={complete}
              />
            </Suspense>
            {may && (
              <div className="mt-3">
                <Tick checked={paused} onChange={setPaused}>
                  Paused: it neither runs, nor keeps anything from other policies
                </Tick>
              </div>
            )}
            {save.error && (
              <div className="mb-3">
                <ErrorNote error={save.error} />
              </div>
            )}
            {may && (
              <div className="flex items-center gap-3">
                <Button type="submit" look="strong" disabled={!edited || save.isPending}>
                  Save
                </Button>
                <span role="status" className="text-sm text-soft">
                  {edited
                    ? "Not saved yet; the plan beside it is of this text."
                    : `Saved ${p ? `by ${p.changedBy}` : ""}`}
                </span>
              </div>
            )}
          </form>
          <details className="border-t border-rule px-4 py-2.5 text-sm">
            <summary className="cursor-pointer text-soft">Reasons to stay</summary>
            <ul className="mt-2 grid gap-1 font-mono text-xs">
              {forms.data?.reasons.map((r) => (
                <li key={r}>{r}</li>
              ))}
            </ul>
            <p className="mt-2 text-xs text-soft">
              What no reason keeps is swept. Pinned versions, and those that a promotion waits for, always stay.
            </p>
          </details>
        </Panel>
        <Preview text={settled} plan={plan} {...asked} onAsk={(to) => setAsked({ ...asked, ...to })} />
      </div>
      {p && (
        <Dialog
          open={removing}
          onOpenChange={setRemoving}
          title={`Remove ${p.name}?`}
          description="Nothing is swept by it any more, and nothing kept. What it swept already stays as it is, and can be brought back within its grace."
        >
          <RemovePolicy name={p.name} />
        </Dialog>
      )}
    </>
  );
}

function RemovePolicy({ name }: { name: string }) {
  const changed = useChanged();
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => retentionCalls.removePolicy(name),
    onSuccess: async () => {
      void navigate("/retention");
      await changed({ kind: "policy" });
    },
  });
  return (
    <>
      {remove.error && (
        <div className="mb-3">
          <ErrorNote error={remove.error} />
        </div>
      )}
      <Button look="danger" onClick={() => remove.mutate()} disabled={remove.isPending}>
        Remove it
      </Button>
    </>
  );
}

/** proposals are what can stand where one types: settings at the beginning of a line, reasons in the list of them. */
function proposals(forms: Schemas["PolicyForms"] | undefined): CompletionSource {
  return (context) => {
    const line = context.state.doc.lineAt(context.pos);
    const before = line.text.slice(0, context.pos - line.from);
    const reason = /^(\s*-\s+)(.*)$/.exec(before);
    if (reason) {
      let above = line.number - 1;
      while (above > 0 && /^\s*(-|$)/.test(context.state.doc.line(above).text)) above--;
      if (above < 1 || !/^keep:/.test(context.state.doc.line(above).text)) return null;
      return { from: line.from + reason[1]!.length, options: (forms?.reasons ?? []).map((label) => ({ label })) };
    }
    if (!/^[a-z-]*$/.test(before) || (before === "" && !context.explicit)) return null;
    return {
      from: line.from,
      options: (forms?.settings ?? []).map((name) => ({ label: name, apply: `${name}: `, detail: "setting" })),
    };
  };
}

/** inDays is so many days from now, to the minute so that the question stays the same. */
function inDays(days: number): Date {
  return new Date(Math.floor(Date.now() / 60_000) * 60_000 + days * 86_400_000);
}

/** Asked is what is asked about a policy. */
type Asked = { fate: string; asOf: string; match: string };

/** requestOf is the question for a plan. */
function requestOf(text: string, asked: Asked): Schemas["PlanRequest"] {
  return {
    text,
    fate: (asked.fate || undefined) as Schemas["PlanRequest"]["fate"],
    asOf: asked.asOf || undefined,
    match: asked.match,
  };
}

function usePlan(text: string, asked: Asked) {
  const match = useSettled(asked.match, 300);
  const request = requestOf(text, { ...asked, match });
  return useQuery({
    ...retentionQueries.plan([request], { ...request, limit: 100 }),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** Preview shows what a policy would do to what is there. */
function Preview({
  text,
  plan,
  fate,
  asOf,
  match,
  onAsk,
}: Asked & {
  text: string;
  plan: ReturnType<typeof usePlan>;
  onAsk: (to: Partial<Asked>) => void;
}) {
  if (plan.error)
    return (
      <Panel title="What it would do">
        <div className="p-4">
          <ErrorNote error={plan.error} />
        </div>
      </Panel>
    );
  const p = plan.data;
  return (
    <div
      className={`grid grid-cols-[minmax(0,1fr)] gap-5 ${plan.isPlaceholderData ? "opacity-60" : ""}`}
      aria-busy={plan.isFetching}
    >
      <Panel
        title="What it would do"
        aside={
          <When
            label="As of"
            none="now"
            any
            quick={[
              ["in a week", () => inDays(7)],
              ["in 30 days", () => inDays(30)],
              ["in 90 days", () => inDays(90)],
              ["a week ago", () => inDays(-7)],
              ["30 days ago", () => inDays(-30)],
            ]}
            value={asOf}
            onChange={(to) => onAsk({ asOf: to })}
          />
        }
      >
        {!p ? (
          <p className="px-4 py-6 text-sm text-soft">Working it out…</p>
        ) : (
          <>
            <p className="px-4 pt-3">
              <b className="font-semibold">{count(p.total.swept, "version")}</b> of{" "}
              {p.total.kept + p.total.swept + p.total.outside} would go, {bytes(p.total.sweptBytes)}; that frees{" "}
              <b className="font-semibold">{bytes(p.total.freed)}</b>
              {p.total.freed < p.total.sweptBytes && (
                <span className="text-soft">: the other bytes are shared with what stays</span>
              )}
              .
            </p>
            {p.asks.map((ask) => (
              <p
                key={ask}
                role="alert"
                className="mx-4 mt-2 rounded border border-glow/50 bg-glow-wash px-3 py-1.5 text-sm"
              >
                A run would stop and ask: {ask}.
              </p>
            ))}
            <p className="px-4 pt-1 text-sm text-soft">
              {p.last && (
                <>
                  Since <Link to={`/sweeps/${p.last.id}`}>the last sweep</Link>: {p.then} of these stayed then, {p.new}{" "}
                  came since.{" "}
                </>
              )}
              {p.next.length > 0 ? (
                <>
                  Next runs:{" "}
                  {p.next.map((at) => (
                    <span key={at} className="mr-2 inline-block whitespace-nowrap" title={moment(at)}>
                      {zoned(at)}
                    </span>
                  ))}
                </>
              ) : (
                "It runs by hand."
              )}
            </p>
            {p.months.length > 0 && <Months months={p.months} />}
            <Totals head="Repository" all={p.repositories} />
          </>
        )}
      </Panel>
      {p && p.reasons.length > 0 && (
        <Panel title="Because">
          <ul className="px-4 py-2 text-sm">
            {p.reasons.map((r) => (
              <li key={r.name} className="grid grid-cols-[4rem_6rem_1fr] gap-3 py-0.5">
                <span className="text-right tabular-nums">{r.kept + r.swept}</span>
                <span className="text-right text-soft tabular-nums">{bytes(r.keptBytes + r.sweptBytes)}</span>
                <span className={r.swept > 0 ? "text-glow" : ""}>{r.name}</span>
              </li>
            ))}
          </ul>
        </Panel>
      )}
      {p && (
        <Panel
          title="Versions"
          aside={
            <span className="flex flex-wrap gap-2">
              <span className="w-32">
                <Choice
                  label="Which versions"
                  value={fate}
                  onChange={(to) => onAsk({ fate: to })}
                  options={[
                    ["swept", "that go"],
                    ["kept", "that stay"],
                    ["outside", "not covered"],
                    ["", "all"],
                  ]}
                />
              </span>
              <span className="w-44">
                <TextInput
                  aria-label="Filter"
                  placeholder="part of the name"
                  value={match}
                  onChange={(e) => onAsk({ match: e.target.value })}
                />
              </span>
            </span>
          }
        >
          {p.lines.length === 0 ? (
            <Empty title={fate === "swept" && !match ? "Nothing would go" : "No version fits"} />
          ) : (
            <PlanLines all={p.lines} policy={p.policy} partly={p.found > p.lines.length} />
          )}
          {p.found > p.lines.length && (
            <p className="border-t border-rule px-4 py-2 text-sm text-soft">and {p.found - p.lines.length} more</p>
          )}
          {p.found > 0 && (
            <p className="border-t border-rule px-4 py-2 text-sm">
              <SavePlan request={requestOf(text, { fate, asOf, match })} name={p.policy} />
            </p>
          )}
        </Panel>
      )}
    </div>
  );
}

/** SavePlan gives all versions of a plan as a file. */
function SavePlan({ request, name }: { request: Schemas["PlanRequest"]; name: string }) {
  const get = useMutation({
    mutationFn: () => retentionCalls.planLines(request),
    onSuccess: (lines) => save(lines, `${name || "plan"}.csv`),
  });
  return (
    <>
      <Button disabled={get.isPending} onClick={() => get.mutate()}>
        Save all of them as CSV
      </Button>
      {get.error && (
        <div className="mt-2">
          <ErrorNote error={get.error} />
        </div>
      )}
    </>
  );
}

/** zoned is a time as it is where its schedule is, with the offset. */
function zoned(at: string): string {
  return at.slice(0, 16).replace("T", " ") + (at.endsWith("Z") ? " UTC" : " " + at.slice(-6));
}
