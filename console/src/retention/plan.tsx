import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { bytes, count, packagePath } from "../ui/format";
import { Time } from "../ui/parts";
import { Table } from "../ui/table";

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
function Waterline({ total }: { total: Total }) {
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
    <Table
      name={`A plan by ${head.toLowerCase()}`}
      dense
      rows={all}
      rowKey={(t) => t.name}
      columns={[
        {
          head,
          by: (t) => t.name,
          cell: (t) =>
            t.name.startsWith("pkg:") ? (
              <Link to={packagePath(t.name)}>{decodeURIComponent(t.name.slice(4))}</Link>
            ) : (
              t.name
            ),
        },
        { head: "Stay", right: true, by: (t) => t.kept, cell: (t) => t.kept },
        { head: "Go", right: true, by: (t) => t.swept, cell: (t) => t.swept },
        { head: "Not covered", right: true, by: (t) => t.outside, cell: (t) => t.outside || "" },
        { head: "Freed", right: true, by: (t) => t.freed, cell: (t) => (t.swept ? bytes(t.freed) : "") },
        { head: "Share", look: "w-1/4", cell: (t) => <Waterline total={t} /> },
      ]}
    />
  );
}

const fates: Record<Schemas["PlanLine"]["fate"], [string, string]> = {
  kept: ["text-deep", "stays"],
  swept: ["text-glow", "goes"],
  outside: ["text-soft", "not covered"],
};

/** PlanLines shows versions of a plan, and why; partly says that there are more of them. */
export function PlanLines({ all, policy, partly }: { all: Schemas["PlanLine"][]; policy: string; partly: boolean }) {
  return (
    <Table
      name="Versions of a plan"
      dense
      partly={partly}
      rows={all}
      rowKey={(l) => `${l.repository} ${l.purl} ${l.upload}`}
      columns={[
        {
          head: "Fate",
          look: "font-medium whitespace-nowrap",
          by: (l) => l.fate,
          cell: (l) => <span className={fates[l.fate][0]}>{fates[l.fate][1]}</span>,
        },
        {
          head: "Version",
          by: (l) => l.purl,
          cell: (l) => (
            <>
              <Link to={packagePath(l.purl)}>{decodeURIComponent(l.purl.slice(4))}</Link>
              <span className="block text-xs text-soft">
                {l.upload && <span className="font-mono">{l.upload} </span>}in {l.repository}
              </span>
            </>
          ),
        },
        {
          head: "Why",
          by: (l) => l.reason,
          cell: (l) => (
            <>
              {l.reason}
              {l.policy && l.policy !== policy && <span className="text-soft">, by {l.policy}</span>}
            </>
          ),
        },
        { head: "Published", by: (l) => l.at, cell: (l) => <Time at={l.at} /> },
        {
          head: "Last used",
          by: (l) => l.usedAt,
          cell: (l) => (l.usedAt ? <Time at={l.usedAt} /> : <span className="text-soft">never</span>),
        },
        { head: "Users", right: true, by: (l) => l.users, cell: (l) => l.users || "" },
        { head: "Size", right: true, by: (l) => l.bytes, cell: (l) => bytes(l.bytes) },
        {
          head: "Freed",
          right: true,
          by: (l) => (l.fate === "swept" ? l.freed : undefined),
          cell: (l) => (l.fate === "swept" ? bytes(l.freed) : ""),
        },
      ]}
    />
  );
}
