import { ArrowRight, Check, CircleDashed, X } from "lucide-react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import type { PromotionState } from "./calls";
import { buildPath, count, shortName, shortVersion, versionOf } from "../ui/format";
import { Time } from "../ui/parts";
import { type Column, Table } from "../ui/table";

type Promotion = Schemas["Promotion"];

const states: Record<PromotionState, [string, string]> = {
  done: ["bg-wash text-deep", "done"],
  waiting: ["bg-glow-wash text-glow", "waits"],
  underway: ["bg-glow-wash text-glow", "underway"],
  failed: ["bg-bad-wash text-bad", "failed"],
  refused: ["bg-bad-wash text-bad", "refused"],
  cancelled: ["bg-well text-soft", "cancelled"],
  undone: ["bg-well text-soft", "undone"],
};

export function PromotionMark({ state }: { state: PromotionState }) {
  const [look, text] = states[state];
  return <span className={`rounded-xs px-1.5 py-0.5 text-xs font-medium whitespace-nowrap ${look}`}>{text}</span>;
}

/** Hop says from where to where. */
export function Hop({ from, to }: { from: string; to: string }) {
  return (
    <span className="inline-flex items-center gap-1 whitespace-nowrap">
      {from} <ArrowRight size={13} aria-label="to" className="text-soft" /> {to}
    </span>
  );
}

/** versionsText names the versions of a promotion, the first ones. */
export function versionsText(p: Promotion, most = 3): string {
  const names = p.versions.map((v) => `${shortName(v.purl)} ${shortVersion(v.to)}`);
  return names.length > most ? `${names.slice(0, most).join(", ")} and ${names.length - most} more` : names.join(", ");
}

const answers = {
  pass: [Check, "text-good", "passes"],
  fail: [X, "text-bad", "fails"],
  waiting: [CircleDashed, "text-glow", "waits"],
} as const;

/** Gates shows what each gate says, and the facts that it looked at. */
export function Gates({ all }: { all: Promotion["answers"] }) {
  if (all.length === 0) return <p className="px-4 py-3 text-sm text-soft">The hop has no gates.</p>;
  return (
    <ul>
      {all.map((a) => {
        const [Icon, look, word] = answers[a.state];
        return (
          <li key={a.gate} className="flex gap-3 border-b border-rule px-4 py-2 text-sm last:border-0">
            <Icon size={16} aria-hidden className={`mt-0.5 shrink-0 ${look}`} />
            <div className="min-w-0">
              <p>
                <span className={`font-medium ${look}`}>{word}</span>: <span title={a.gate}>{a.sentence}</span>
              </p>
              <Facts all={a.facts} />
            </div>
          </li>
        );
      })}
    </ul>
  );
}

function Facts({ all }: { all: string[] }) {
  return (
    <ul className="text-xs text-soft wrap-anywhere">
      {all.map((f) => (
        <li key={f}>{f}</li>
      ))}
    </ul>
  );
}

/** Plan shows what becomes of each version and file. */
export function Plan({ all }: { all: Schemas["PlannedVersion"][] }) {
  return (
    <ul>
      {all.map((v) => {
        const changes = v.files.reduce((n, f) => n + (f.changes?.length ?? 0), 0);
        if (v.leftOut)
          return (
            <li key={v.purl} className="flex flex-wrap gap-x-3 border-b border-rule px-4 py-2 text-sm last:border-0">
              <span className="font-medium">{shortName(v.purl)}</span>
              <span className="font-mono text-xs">{versionOf(v.purl)}</span>
              <span className="text-glow">stays behind: {v.leftOut}</span>
            </li>
          );
        return (
          <li key={v.purl + v.upload} className="border-b border-rule last:border-0">
            <details className="group px-4 py-2 text-sm">
              <summary className="flex cursor-pointer flex-wrap items-baseline gap-x-3">
                <span className="font-medium">{shortName(v.purl)}</span>
                <span className="text-xs text-soft">{v.purl.slice(4, v.purl.indexOf("/"))}</span>
                <span className="font-mono text-xs">
                  {v.upload || versionOf(v.purl)}{" "}
                  {(v.restamp || (v.purl.includes("?tag=") && versionOf(v.purl) !== v.to)) && (
                    <>
                      → <b>{shortVersion(v.to)}</b>
                    </>
                  )}
                </span>
                <span className="ml-auto text-xs text-soft">
                  {count(v.files.length, "file")}
                  {changes > 0 && `, ${count(changes, "change")} inside`}
                  {!v.restamp && ", no byte changed"}
                </span>
              </summary>
              <ul className="mt-2 grid gap-2">
                {v.files.map((f) => (
                  <FileChange key={f.name} file={f} />
                ))}
              </ul>
            </details>
          </li>
        );
      })}
    </ul>
  );
}

function FileChange({ file: f }: { file: Schemas["PlannedFile"] }) {
  return (
    <li className="rounded border border-rule bg-paper px-3 py-2">
      <p className="font-mono text-xs wrap-anywhere">
        {f.name}
        {f.to && f.to !== f.name && (
          <>
            {" "}
            → <b>{f.to}</b>
          </>
        )}
        {f.dropped && <span className="ml-2 font-sans text-soft">left behind: {f.dropped}</span>}
        {f.signed && <span className="ml-2 font-sans text-soft">signed on the way</span>}
      </p>
      {f.changes && (
        <table className="mt-1 w-full table-fixed text-xs">
          <tbody>
            {f.changes.map((c, i) => (
              <tr key={i} className="align-top">
                <td className="w-1/2 py-0.5 pr-3 text-soft wrap-anywhere">
                  {c.entry ? `${c.entry}: ${c.what}` : c.what}
                </td>
                <td className="py-0.5 font-mono wrap-anywhere">
                  <del className="text-bad no-underline">{c.old}</del>
                  <br />
                  <ins className="text-good no-underline">{c.new}</ins>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {f.mentions && (
        <p className="mt-1 text-xs text-soft">stays as it is, and names the old version: {f.mentions.join(", ")}</p>
      )}
    </li>
  );
}

const columns: Column<Promotion>[] = [
  {
    head: "No.",
    by: (p) => p.id,
    cell: (p) => (
      <Link to={`/promotions/${p.id}`} data-row aria-label={`promotion ${p.id}`}>
        {p.id}
      </Link>
    ),
  },
  { head: "State", by: (p) => p.state, cell: (p) => <PromotionMark state={p.state} /> },
  { head: "Hop", by: (p) => p.to, cell: (p) => <Hop from={p.from} to={p.to} /> },
  {
    head: "Versions",
    by: (p) => versionsText(p),
    cell: (p) => (
      <>
        {versionsText(p)}
        {p.why && <span className="block text-xs text-bad wrap-anywhere">{p.why.split("\n")[0]}</span>}
      </>
    ),
  },
  {
    head: "Build",
    look: "whitespace-nowrap",
    by: (p) => p.build || undefined,
    cell: (p) => p.build && <Link to={buildPath(p.build)}>{p.build}</Link>,
  },
  { head: "Asked by", by: (p) => p.askedBy, cell: (p) => p.askedBy },
  {
    head: "Approved by",
    cell: (p) =>
      p.votes
        .filter((v) => v.approve)
        .map((v) => v.who)
        .join(", "),
  },
  { head: "When", by: (p) => p.endedAt ?? p.askedAt, cell: (p) => <Time at={p.endedAt ?? p.askedAt} /> },
];

/** PromotionTable lists promotions; partly says that there are more of them. */
export function PromotionTable({ all, partly }: { all: Promotion[]; partly?: boolean }) {
  return <Table name="Promotions" dense partly={partly} rows={all} rowKey={(p) => p.id} columns={columns} />;
}
