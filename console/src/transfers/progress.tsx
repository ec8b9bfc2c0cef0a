import { type Schemas } from "../api/client";
import { bytes, count } from "../ui/format";

type Run = Schemas["TransferRun"];

const states: Record<Run["state"], [string, string]> = {
  planning: ["text-glow", "is planned"],
  moving: ["text-glow", "under way"],
  checking: ["text-glow", "is checked"],
  done: ["text-good", "done"],
  stopped: ["text-soft", "stopped"],
  failed: ["text-bad", "failed"],
};

/** State says how far a transfer is, in a word. */
export function State({ t }: { t: Run }) {
  const [colour, word] = states[t.state];
  return <span className={colour}>{t.dryRun && t.state === "done" ? "planned" : word}</span>;
}

/** Progress shows how far a transfer is that goes on, and how long it will take. */
export function Progress({ t }: { t: Run }) {
  const done = t.came.versions + t.failed.versions;
  const all = done + t.toCome.versions;
  if (t.state === "planning") return <>{count(t.packages, "package")} looked at</>;
  return (
    <>
      {done} of {count(all, "version")}
      {t.fetched > 0 && <>, {bytes(t.fetched)} fetched</>}
      {t.secondsLeft !== undefined && <>, {left(t.secondsLeft)} left</>}
      <progress className="mt-1 block w-full accent-(--glow)" value={done} max={Math.max(all, 1)} />
    </>
  );
}

function left(seconds: number) {
  if (seconds < 90) return `${seconds} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  return `${(seconds / 3600).toFixed(1)} h`;
}
