import { useMutation } from "@tanstack/react-query";
import { Ban, Check, CircleDashed, Flag, History, Minus, Search, ShieldX, TriangleAlert } from "lucide-react";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { resolvingCalls } from "./calls";
import { TextInput } from "../ui/dialog";
import { asPurl } from "../ui/format";
import { Button, ErrorNote } from "../ui/parts";

type Step = Schemas["Step"];

const signs: Record<Step["said"], ReactNode> = {
  "has it": <Check size={15} />,
  stale: <History size={15} />,
  "not here": <Minus size={15} />,
  failed: <TriangleAlert size={15} />,
  "denied by pattern": <Ban size={15} />,
  "claimed elsewhere": <Flag size={15} />,
  "other ecosystem": <CircleDashed size={15} />,
  "other maturity": <CircleDashed size={15} />,
  "kept out": <ShieldX size={15} />,
  "not asked": <CircleDashed size={15} />,
};

/** Explain asks who answers for a name, and draws the way of the question. */
export function Explain({ repository, ecosystem }: { repository: string; ecosystem?: string }) {
  const [text, setText] = useState("");
  const ask = useMutation({ mutationFn: () => resolvingCalls.explain(repository, asPurl(text, ecosystem)) });
  return (
    <div className="p-4">
      <form
        className="mb-1 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (text.trim()) ask.mutate();
        }}
      >
        <TextInput
          name="explain"
          aria-label="Package or version"
          placeholder="org.openshore:brine-http:2.1.1, or a package URL"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <Button type="submit" look="strong" className="h-9" disabled={ask.isPending}>
          <Search size={15} /> Who answers?
        </Button>
      </form>
      <p className="mb-3 text-xs text-soft">Without a version it is about all versions together.</p>
      {ask.error && <ErrorNote error={ask.error} />}
      {ask.data && <Way explanation={ask.data} />}
    </div>
  );
}

/**
 * Way is the picture: a line from the client down through the members; a full
 * disc where it is answered, and the line is drawn only as far as the question
 * went.
 */
function Way({ explanation: e }: { explanation: Schemas["Explanation"] }) {
  const asked = e.steps.findLastIndex((s) => s.said !== "not asked");
  const tone = {
    answered: "border-good text-good",
    absent: "border-rule text-ink",
    failed: "border-bad text-bad",
    refused: "border-bad text-bad",
  }[e.outcome];
  return (
    <section aria-label={`Who answers for ${e.purl}`}>
      <p role="status" className={`mb-3 rounded border px-3 py-2 text-sm font-medium ${tone}`}>
        {e.sentence}
      </p>
      {e.ours && (
        <p className="mb-3 flex items-start gap-2 text-sm">
          <Flag size={15} className="mt-0.5 shrink-0 text-glow" aria-hidden /> <span>The name is ours: {e.ours}.</span>
        </p>
      )}
      <ol className="text-sm">
        <li className="flex items-center gap-3 pb-3 text-soft">
          <span aria-hidden className="grid w-8 justify-center">
            <span className="size-2.5 rounded-full bg-soft" />
          </span>
          <code className="font-mono text-xs wrap-anywhere">{e.purl}</code>
        </li>
        {e.steps.map((s, i) => (
          <li key={s.repository} className="relative flex gap-3 pb-4 last:pb-0">
            <span
              aria-hidden
              className={`absolute -top-3 left-4 h-4 border-l-2 ${i <= asked ? "border-deep" : "border-dashed border-rule"}`}
            />
            {i < e.steps.length - 1 && (
              <span
                aria-hidden
                className={`absolute top-8 bottom-0 left-4 border-l-2 ${i < asked ? "border-deep" : "border-dashed border-rule"}`}
              />
            )}
            <Disc step={s} />
            <div className="min-w-0 grow pt-0.5">
              <p className="flex flex-wrap items-baseline gap-x-2">
                <Link to={`/repositories/${s.repository}`} className="font-medium">
                  {s.repository}
                </Link>
                <span className="text-xs text-soft">
                  {s.kind}
                  {s.via.length > 0 && `, through ${s.via.join(" and ")}`}
                </span>
                <span
                  className={`ml-auto text-sm font-medium ${s.answers ? "text-good" : s.said === "failed" ? "text-bad" : "text-soft"}`}
                >
                  {s.said}
                  {s.answers && ": answers"}
                  {s.skipped && ", skipped"}
                </span>
              </p>
              {s.why && <p className="text-xs text-soft wrap-anywhere">{s.why}</p>}
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}

function Disc({ step: s }: { step: Step }) {
  let look = "border-rule bg-sheet text-soft";
  if (s.answers) look = "border-good bg-good text-deep-ink";
  else if (s.said === "failed" || s.said === "kept out") look = "border-bad bg-sheet text-bad";
  else if (s.said === "claimed elsewhere" || s.said === "denied by pattern") look = "border-glow bg-sheet text-glow";
  else if (s.said === "has it" || s.said === "stale") look = "border-good bg-sheet text-good";
  return (
    <span aria-hidden className={`z-[1] grid size-8 shrink-0 place-items-center rounded-full border-2 ${look}`}>
      {signs[s.said]}
    </span>
  );
}
