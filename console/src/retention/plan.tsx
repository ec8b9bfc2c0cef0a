import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { bytes, count, packagePath } from "../ui/format";
import { Time } from "../ui/parts";

type Total = Schemas["PlanTotal"];

const states: Record<Schemas["Sweep"]["state"], [string, string]> = {
  done: ["bg-wash text-deep", "done"],
  asking: ["bg-glow-wash text-glow", "asks"],
  underway: ["bg-glow-wash text-glow", "underway"],
  failed: ["bg-bad-wash text-bad", "failed"],
  cancelled: ["bg-well text-soft", "stopped"],
};

export function SweepMark({ state }: { state: Schemas["Sweep"]["state"] }) {
  const [look, text] = states[state];
  return <span className={`rounded-xs px-1.5 py-0.5 text-xs font-medium whitespace-nowrap ${look}`}>{text}</span>;
}

/** Waterline shows what of a sum of bytes stays, and what goes: the part that is freed is filled. */
export function Waterline({ total }: { total: Total }) {
  const all = total.keptBytes + total.sweptBytes;
  const part = (n: number) => `${all > 0 ? (100 * n) / all : 0}%`;
  return (
    <div
      role="img"
      aria-label={`${bytes(total.keptBytes)} stay, ${bytes(total.sweptBytes)} go, ${bytes(total.freed)} are freed`}
      className="flex h-2.5 w-full min-w-24 overflow-hidden rounded-xs border border-rule bg-paper"
    >
      <span className="bg-deep" style={{ width: part(total.keptBytes) }} />
      <span className="bg-glow" style={{ width: part(total.freed) }} />
      <span className="bg-glow-wash" style={{ width: part(total.sweptBytes - total.freed) }} />
    </div>
  );
}

/** Months draws when what stays and what goes was published. */
export function Months({ months }: { months: Total[] }) {
  const most = Math.max(1, ...months.map((m) => m.keptBytes + m.sweptBytes));
  return (
    <figure className="px-4 py-3">
      <div
        className="flex items-end gap-1"
        role="img"
        aria-label={months.map((m) => `${m.name}: ${bytes(m.keptBytes)} stay, ${bytes(m.sweptBytes)} go`).join("; ")}
      >
        {months.map((m, i) => (
          <span
            key={m.name}
            title={`${m.name}: ${bytes(m.keptBytes)} of ${count(m.kept, "version")} stay, ${bytes(m.sweptBytes)} of ${count(m.swept, "version")} go`}
            className="max-w-20 grow"
          >
            <span className="flex h-20 flex-col justify-end">
              <span className="bg-glow" style={{ height: `${(100 * m.sweptBytes) / most}%` }} />
              <span className="bg-deep" style={{ height: `${(100 * m.keptBytes) / most}%` }} />
            </span>
            <span className="block h-4 text-center text-xs whitespace-nowrap text-soft">
              {months.length < 10 || i % Math.ceil(months.length / 9) === 0 ? m.name : ""}
            </span>
          </span>
        ))}
      </div>
      <figcaption className="mt-1 flex items-center gap-3 text-xs text-soft">
        <Key look="bg-deep" text="stays" />
        <Key look="bg-glow" text="goes" /> by month of publication
      </figcaption>
    </figure>
  );
}

function Key({ look, text }: { look: string; text: string }) {
  return (
    <span className="inline-flex items-center gap-1">
      <span aria-hidden className={`size-2.5 rounded-xs ${look}`} />
      {text}
    </span>
  );
}

/** Totals shows the parts of a plan. */
export function Totals({ head, all }: { head: string; all: Total[] }) {
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
      <table className="w-full text-left text-sm">
        <thead className="text-xs text-soft">
          <tr className="border-b border-rule">
            {[head, "Stay", "Go", "Not covered", "Freed", ""].map((h, i) => (
              <th key={h} className={`px-4 py-2 font-medium ${i > 0 && i < 5 ? "text-right" : ""}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {all.map((t) => (
            <tr key={t.name} className="border-b border-rule last:border-0">
              <td className="px-4 py-1.5">
                {t.name.startsWith("pkg:") ? (
                  <Link to={packagePath(t.name)}>{decodeURIComponent(t.name.slice(4))}</Link>
                ) : (
                  t.name
                )}
              </td>
              <td className="px-4 py-1.5 text-right tabular-nums">{t.kept}</td>
              <td className="px-4 py-1.5 text-right tabular-nums">{t.swept}</td>
              <td className="px-4 py-1.5 text-right tabular-nums">{t.outside || ""}</td>
              <td className="px-4 py-1.5 text-right whitespace-nowrap tabular-nums">{t.swept ? bytes(t.freed) : ""}</td>
              <td className="w-1/4 px-4 py-1.5">
                <Waterline total={t} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const fates: Record<Schemas["PlanLine"]["fate"], [string, string]> = {
  kept: ["text-deep", "stays"],
  swept: ["text-glow", "goes"],
  outside: ["text-soft", "not covered"],
};

/** Lines shows versions of a plan, and why. */
export function PlanLines({ all, policy }: { all: Schemas["PlanLine"][]; policy: string }) {
  return (
    <div className="relative overflow-x-auto" role="region" aria-label="A table, which scrolls" tabIndex={0}>
      <table className="w-full text-left text-sm">
        <thead className="text-xs text-soft">
          <tr className="border-b border-rule">
            {["", "Version", "Why", "Published", "Last used", "Users", "Size", "Freed"].map((h, i) => (
              <th key={h} className={`px-3 py-2 font-medium ${i > 4 ? "text-right" : ""}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {all.map((l) => (
            <tr key={`${l.repository} ${l.purl} ${l.upload}`} className="border-b border-rule last:border-0">
              <td className={`px-3 py-1.5 font-medium whitespace-nowrap ${fates[l.fate][0]}`}>{fates[l.fate][1]}</td>
              <td className="px-3 py-1.5">
                <Link to={packagePath(l.purl)}>{decodeURIComponent(l.purl.slice(4))}</Link>
                <span className="block text-xs text-soft">
                  {l.upload && <span className="font-mono">{l.upload} </span>}in {l.repository}
                </span>
              </td>
              <td className="px-3 py-1.5">
                {l.reason}
                {l.policy && l.policy !== policy && <span className="text-soft">, by {l.policy}</span>}
              </td>
              <td className="px-3 py-1.5">
                <Time at={l.at} />
              </td>
              <td className="px-3 py-1.5">
                {l.usedAt ? <Time at={l.usedAt} /> : <span className="text-soft">never</span>}
              </td>
              <td className="px-3 py-1.5 text-right tabular-nums">{l.users || ""}</td>
              <td className="px-3 py-1.5 text-right whitespace-nowrap tabular-nums">{bytes(l.bytes)}</td>
              <td className="px-3 py-1.5 text-right whitespace-nowrap tabular-nums">
                {l.fate === "swept" ? bytes(l.freed) : ""}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
