import { Check, Plus, X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { safetyCalls, safetyQueries } from "./calls";
import { Assessment } from "./assessment";
import { Severity } from "./parts";
import { Confirm, Tick } from "../ui/dialog";
import { AreaField, ChoiceField, FormDialog, TextField, WhenField } from "../ui/form";
import { lines, moment, packagePath } from "../ui/format";
import { Button, Empty, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

type Waiting = Schemas["Waiting"];

/** worst is how bad the worst of findings is. */
function Worst({ of }: { of: Schemas["Finding"][] }) {
  const first = of[0];
  if (!first) return <span className="text-soft">none known</span>;
  return <Severity severity={first.severity} score={first.score} malicious={first.malicious} />;
}

/** Awaiting is what somebody wanted and nobody has decided about. */
export function Awaiting() {
  const query = useQuery(safetyQueries.awaiting());
  const [open, setOpen] = useState<Waiting>();
  const columns: Column<Waiting>[] = [
    {
      head: "Version",
      by: (w) => w.purl,
      look: "wrap-anywhere",
      cell: (w) => (
        <>
          <Link data-row to={packagePath(w.purl)} className="font-medium">
            {w.purl.replace(/^pkg:/, "")}
          </Link>
          <span className="block text-xs text-soft">
            in <Link to={`/repositories/${w.repository}`}>{w.repository}</Link>
          </span>
        </>
      ),
    },
    {
      head: "Published",
      from: "sm",
      by: (w) => w.facts.publishedAt ?? "",
      cell: (w) =>
        w.facts.publishedAt ? <Time at={w.facts.publishedAt} /> : <span className="text-soft">not stated</span>,
    },
    {
      head: "Licence",
      from: "sm",
      cell: (w) => w.facts.licences.join(" or ") || <span className="text-soft">not stated</span>,
    },
    { head: "Advisories", from: "sm", cell: (w) => <Worst of={w.facts.findings} /> },
    {
      head: "Kept out because",
      from: "sm",
      look: "max-w-72",
      cell: (w) => <span className="text-sm">{w.unknown || w.why}</span>,
    },
    {
      head: "Wanted by",
      look: "max-w-64",
      cell: (w) => (
        <>
          {w.wantedBy.join(", ")}
          <span className="block text-xs text-soft">
            {w.purpose && `for ${w.purpose}; `}last <Time at={w.lastAt} />
          </span>
        </>
      ),
    },
    {
      head: "Decide",
      right: true,
      cell: (w) => <Button onClick={() => setOpen(w)}>{w.mayDecide ? "Decide…" : "Look…"}</Button>,
    },
  ];
  return (
    <Loaded query={query}>
      {(q) =>
        q.waiting.length === 0 ? (
          <Empty title="Nothing awaits a decision">
            Where a mirror or a chain is set to have what comes from outside vetted, what somebody asks for and no rule
            accepts turns up here.
          </Empty>
        ) : (
          <Panel title="Wanted, and not decided about">
            <Table
              name="Awaiting"
              dense
              rows={q.waiting}
              rowKey={(w) => `${w.repository} ${w.purl}`}
              columns={columns}
            />
            {q.more && <p className="border-t border-rule px-4 py-2 text-sm text-soft">There is more behind these.</p>}
            {open && <Assessment of={open} mayDecide={open.mayDecide} close={() => setOpen(undefined)} />}
          </Panel>
        )
      }
    </Loaded>
  );
}

/** over says whether a decision has ended. */
const over = (v: Schemas["Vetting"]) => !!v.endedAt || (!!v.until && Date.parse(v.until) < Date.now());

/** Decided says in a word and a colour what was decided. */
function Decided({ decision }: { decision: string }) {
  return decision === "refused" ? (
    <span className="whitespace-nowrap text-bad">
      <X size={14} className="inline" aria-hidden /> refused
    </span>
  ) : (
    <span className="whitespace-nowrap text-good">
      <Check size={14} className="inline" aria-hidden /> accepted
    </span>
  );
}

/** Decisions are what people accepted or refused. */
export function Decisions() {
  const [ended, setEnded] = useState(false);
  const query = useQuery(safetyQueries.vettings(ended));
  const changed = useChanged();
  const [making, setMaking] = useState(false);
  const [ending, setEnding] = useState<Schemas["Vetting"]>();
  const columns: Column<Schemas["Vetting"]>[] = [
    { head: "Decision", by: (v) => v.decision, cell: (v) => <Decided decision={v.decision} /> },
    {
      head: "For",
      by: (v) => v.pattern,
      look: "wrap-anywhere",
      cell: (v) =>
        /[*]|vers:/.test(v.pattern) ? (
          <code className="font-mono text-xs">{v.pattern}</code>
        ) : (
          <Link data-row to={packagePath(v.pattern)} className="font-medium">
            {v.pattern.replace(/^pkg:/, "")}
          </Link>
        ),
    },
    {
      head: "In",
      from: "sm",
      cell: (v) => v.repositories.join(", ") || <span className="text-soft">all repositories</span>,
    },
    {
      head: "Until",
      by: (v) => v.until ?? "",
      cell: (v) =>
        v.endedAt ? (
          `ended ${moment(v.endedAt)} by ${v.endedBy}`
        ) : v.until ? (
          <>
            {over(v) && "ended "}
            <Time at={v.until} />
          </>
        ) : (
          <span className="text-soft">somebody ends it</span>
        ),
    },
    {
      head: "Why",
      look: "max-w-96",
      cell: (v) => (
        <>
          {v.reason}
          <span className="block text-xs text-soft">
            {v.by}, <Time at={v.madeAt} />
          </span>
        </>
      ),
    },
    { head: "End", right: true, cell: (v) => !over(v) && <Button onClick={() => setEnding(v)}>End…</Button> },
  ];
  return (
    <Panel
      title="Decisions"
      aside={
        <span className="flex flex-wrap items-center gap-3 text-sm">
          <Tick checked={ended} onChange={setEnded}>
            ended ones too
          </Tick>
          <Button onClick={() => setMaking(true)}>
            <Plus size={15} /> New decision
          </Button>
        </span>
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <p className="px-4 py-3 text-sm text-soft">Nobody has decided about anything.</p>
          ) : (
            <Table name="Decisions" dense rows={all} rowKey={(v) => String(v.id)} columns={columns} />
          )
        }
      </Loaded>
      {making && <NewDecision close={() => setMaking(false)} />}
      {ending && (
        <Confirm
          title={`End the decision about ${ending.pattern.replace(/^pkg:/, "")}?`}
          text={
            ending.decision === "accepted"
              ? "It is then kept out again where repositories have what comes from outside vetted, unless a rule accepts it."
              : "It is then let in again where nothing else keeps it out."
          }
          what="End it"
          run={() => safetyCalls.endVetting(ending.id).then(() => changed({ kind: "vetting" }))}
          close={() => setEnding(undefined)}
        />
      )}
    </Panel>
  );
}

/** NewDecision accepts or refuses what patterns fit. */
function NewDecision({ close }: { close: () => void }) {
  const changed = useChanged();
  return (
    <FormDialog
      title="New decision"
      description="A refusal counts more than an acceptance. What is accepted may still be kept out by an advisory, which a waiver accepts; a licence that is refused is accepted only by the name of the package."
      start={{ decision: "accepted" as const, patterns: "", repositories: "", reason: "", until: "" }}
      run={(f) =>
        safetyCalls.vet({
          decision: f.decision,
          patterns: lines(f.patterns),
          repositories: f.repositories.split(/[\s,]+/).filter(Boolean),
          reason: f.reason,
          ...(f.until && { until: new Date(f.until).toISOString() }),
        })
      }
      done={() => changed({ kind: "vetting" })}
      close={close}
      submit="Decide"
    >
      {() => (
        <>
          <ChoiceField
            name="decision"
            label="Decision"
            options={[
              ["accepted", "accept"],
              ["refused", "refuse"],
            ]}
          />
          <AreaField
            name="patterns"
            label="For"
            hint="Packages, versions or patterns, one a line."
            required
            rows={3}
            placeholder="pkg:npm/kelp-colors@3.1.0"
          />
          <TextField name="repositories" label="In" hint="Repositories, or patterns of their names. Empty: all." />
          <AreaField name="reason" label="Why" required rows={3} />
          <WhenField name="until" label="Until" none="somebody ends it" later />
        </>
      )}
    </FormDialog>
  );
}
