import { useMutation } from "@tanstack/react-query";
import { Check, Minus } from "lucide-react";
import { useState, type ReactNode } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { safetyCalls, safetyQueries } from "./calls";
import { Severity } from "./parts";
import { Dialog, Tick } from "../ui/dialog";
import { FileDifferences } from "../ui/files";
import { AreaField, ChoiceField, Form, WhenField } from "../ui/form";
import { bytes, count, moment } from "../ui/format";
import { Button, ErrorNote, Loaded, useQuery } from "../ui/parts";

type Facts = Schemas["VersionFacts"];

const none = <span className="text-soft">not stated</span>;

function inside(code: string[]) {
  if (code.length === 0) return "nothing that a processor runs as it is";
  return <span className="text-glow">{code.join(", ")}, which a processor runs as they are</span>;
}

function sources(f: Facts) {
  if (f.builtFrom.length > 0) {
    return f.builtFrom.map((p) => `${p.source} ${p.ref ?? ""}`.trim() + `, verified by ${p.verifiedBy}`).join("; ");
  }
  return <span className="text-soft">{f.looked ? "nothing that is trusted says it" : "nobody has looked"}</span>;
}

const rows: [string, (f: Facts) => ReactNode][] = [
  ["Published", (f) => (f.publishedAt ? moment(f.publishedAt) : none)],
  ["Licence", (f) => f.licences.join(" or ") || none],
  ["Authors", (f) => f.authors.join(", ") || none],
  ["Maintainers", (f) => f.maintainers.join(", ") || none],
  ["Install scripts", (f) => (f.runsScripts ? <span className="text-glow">runs some</span> : "none known")],
  ["Inside", (f) => (f.looked ? inside(f.code ?? []) : <span className="text-soft">nobody has looked</span>)],
  ["Built from", (f) => sources(f)],
  ["Files", (f) => `${f.files}, ${f.size ? bytes(f.size) : "size not stated"}`],
  ["Needs", (f) => f.needs.map((n) => n.replace(/^pkg:[a-z]+\//, "")).join(", ") || "nothing"],
];

/** Assessment shows what is known of a version beside the one before it, what each rule says, and takes a decision. */
export function Assessment({
  of,
  mayDecide,
  close,
}: {
  of: { repository: string; purl: string };
  mayDecide: boolean;
  close: () => void;
}) {
  const query = useQuery(safetyQueries.assessment(of.repository, of.purl));
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title={of.purl.replace(/^pkg:/, "")}
      description={`Wanted in ${of.repository}`}
    >
      <Loaded query={query}>
        {(a) => (
          <div className="grid gap-4 text-sm">
            <p className={a.letIn ? "text-good" : "text-glow"}>
              {a.letIn ? "It is let in" : "It is kept out"}
              {a.why && `: ${a.why}`}.
            </p>
            <Compared a={a} />
            <Tried rules={a.rules} />
            <Needed needs={a.needs} />
            {mayDecide && <Inside of={of} />}
            {mayDecide && !a.letIn && <Decide a={a} close={close} />}
          </div>
        )}
      </Loaded>
    </Dialog>
  );
}

/** Compared has the facts of a version beside those of the one before it that is let in. */
function Compared({ a }: { a: Schemas["Assessment"] }) {
  const was = a.beforeFacts;
  return (
    <table className="w-full border-y border-rule">
      {was && (
        <thead className="text-left text-soft">
          <tr className="border-b border-rule">
            <th className="py-1 pr-3 font-medium">
              <span className="sr-only">Fact</span>
            </th>
            <th className="py-1 pr-3 font-medium">This one</th>
            <th className="py-1 font-medium">{a.before}, which is let in</th>
          </tr>
        </thead>
      )}
      <tbody>
        {rows.map(([name, say]) => (
          <tr key={name} className="border-b border-rule align-top last:border-0">
            <th className="py-1 pr-3 text-left font-normal whitespace-nowrap text-soft">{name}</th>
            <td className="py-1 pr-3 wrap-anywhere">{say(a.facts)}</td>
            {was && <td className="py-1 wrap-anywhere text-soft">{say(was)}</td>}
          </tr>
        ))}
        <tr className="align-top">
          <th className="py-1 pr-3 text-left font-normal text-soft">Advisories</th>
          <td className="py-1" colSpan={2}>
            {a.facts.findings.length === 0
              ? "none known"
              : a.facts.findings.map((f) => (
                  <span key={f.advisory} className="mr-2 inline-flex items-center gap-1">
                    <Severity severity={f.severity} score={f.score} malicious={f.malicious} /> {f.advisory}
                  </span>
                ))}
          </td>
        </tr>
      </tbody>
    </table>
  );
}

/** Tried says of each rule why it fits or not. */
function Tried({ rules }: { rules: Schemas["TriedRule"][] }) {
  if (rules.length === 0) return null;
  return (
    <section>
      <h3 className="mb-1 font-semibold">Rules that accept by themselves</h3>
      <ul className="grid gap-2">
        {rules.map((r, i) => (
          <li key={i}>
            <ul>
              {r.conditions.map((c) => (
                <li key={c.condition} className="flex items-start gap-2">
                  {c.fits ? (
                    <Check size={14} className="mt-0.5 text-good" aria-label="fits" />
                  ) : (
                    <Minus size={14} className="mt-0.5 text-bad" aria-label="does not fit" />
                  )}
                  <span>
                    <code className="font-mono text-xs">{c.condition}</code> <span className="text-soft">{c.fact}</span>
                  </span>
                </li>
              ))}
            </ul>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Inside has a version looked into when somebody wants that, since it may have to be fetched. */
function Inside({ of }: { of: { repository: string; purl: string } }) {
  const looking = useMutation({ mutationFn: () => safetyCalls.lookInside(of.repository, of.purl) });
  const changed = useChanged();
  const found = looking.data;
  return (
    <section>
      <h3 className="mb-1 flex items-center justify-between font-semibold">
        Inside
        {!found && (
          <Button
            disabled={looking.isPending}
            onClick={() => looking.mutate(undefined, { onSuccess: () => changed({ kind: "vetting" }) })}
          >
            {looking.isPending ? "Looking…" : "Look inside"}
          </Button>
        )}
      </h3>
      {looking.error && <ErrorNote error={looking.error} />}
      {!found && !looking.error && (
        <p className="text-soft">
          Its files beside those of the version before it. What is fetched for that is not kept.
        </p>
      )}
      {found && (
        <>
          <p>
            {count(found.files, "file")}, {bytes(found.bytes)}, in {found.archive}.{" "}
            {found.code.length === 0 ? (
              "No processor runs any of them as it is."
            ) : (
              <span className="text-glow">A processor runs as they are: {found.code.join(", ")}.</span>
            )}
          </p>
          {found.whyNot && (
            <p className="text-soft">
              It was not compared with {found.before}: {found.whyNot}.
            </p>
          )}
          {found.before && !found.whyNot && (
            <div className="mt-2 max-h-72 overflow-y-auto rounded border border-rule">
              <FileDifferences of={found.differences} />
            </div>
          )}
        </>
      )}
    </section>
  );
}

/** Needed is what a version needs in turn, and what of that is not let in. */
function Needed({ needs }: { needs: Schemas["Need"][] }) {
  if (needs.length === 0) return null;
  const out = needs.filter((n) => n.state !== "let in");
  return (
    <section>
      <h3 className="mb-1 font-semibold">
        It needs {count(needs.length, "package")}
        {out.length === 0
          ? ", which are let in"
          : `, of which ${out.length} ${out.length === 1 ? "is" : "are"} not let in`}
      </h3>
      <ul>
        {out.map((n) => (
          <li key={n.purl} className="wrap-anywhere">
            {n.purl.replace(/^pkg:/, "")} <span className="text-glow">{n.state}</span>{" "}
            {n.why && <span className="text-soft">{n.why}</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Decide takes a decision about a version, and if wanted about what it needs. */
function Decide({ a, close }: { a: Schemas["Assessment"]; close: () => void }) {
  const changed = useChanged();
  const awaiting = a.needs.filter((n) => n.state === "awaiting").map((n) => n.purl);
  const [needsToo, setNeedsToo] = useState(false);
  return (
    <section>
      <h3 className="mb-2 font-semibold">Decide for {a.repository}</h3>
      <Form
        start={{ decision: "accepted" as const, reason: "", until: "" }}
        run={(f) =>
          safetyCalls.vet({
            decision: f.decision,
            patterns: [a.purl, ...(needsToo && f.decision === "accepted" ? awaiting : [])],
            repositories: [a.repository],
            reason: f.reason,
            ...(f.until && { until: new Date(f.until).toISOString() }),
          })
        }
        done={() => changed({ kind: "vetting" })}
        close={close}
        submit="Decide"
      >
        {(f) => (
          <>
            <ChoiceField
              name="decision"
              label="Decision"
              options={[
                ["accepted", "accept this version"],
                ["refused", "refuse this version"],
              ]}
            />
            {awaiting.length > 0 && (f.decision as string) === "accepted" && (
              <Tick checked={needsToo} onChange={setNeedsToo}>
                and {count(awaiting.length, "package")} that it needs and that awaits a decision
              </Tick>
            )}
            <AreaField name="reason" label="Why" required rows={2} />
            <WhenField name="until" label="Until" none="somebody ends it" later />
          </>
        )}
      </Form>
    </section>
  );
}
