import { Bug, Skull } from "lucide-react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { packagePath, versionOf } from "../ui/format";
import { Time } from "../ui/parts";
import { type Column } from "../ui/table";

const looks: Record<string, string> = {
  critical: "bg-bad text-deep-ink",
  high: "border border-bad text-bad",
  medium: "border border-glow text-glow",
  low: "border border-rule text-soft",
};

/** Severity says how bad something is: a word, its score, and a colour that says no more than these. */
export function Severity({ severity, score, malicious }: { severity: string; score?: number; malicious: boolean }) {
  const [look, word] = malicious ? ["bg-bad text-deep-ink", "malicious"] : [looks[severity], severity];
  return (
    <span
      className={`inline-flex items-center gap-1 rounded px-1.5 text-xs font-medium whitespace-nowrap ${look ?? "border border-rule text-soft"}`}
    >
      {malicious ? <Skull size={12} aria-hidden /> : <Bug size={12} aria-hidden />}
      {word}
      {!malicious && score ? ` ${score.toFixed(1)}` : ""}
    </span>
  );
}

/** State says what becomes of a version that is affected. */
function State({ of }: { of: Schemas["Affected"] }) {
  if (of.waivedBy) return <span className="text-soft">accepted</span>;
  if (of.keptOut) return <span className="text-good">kept out</span>;
  return <span className="text-glow">handed out</span>;
}

/** imageName names a version by its content: by its label if it has one. */
function imageName(purl: string, label?: string) {
  const [path = ""] = purl.replace(/^pkg:/, "").split("@");
  return `${path}@${label ?? versionOf(purl)}`;
}

export const affectedColumns: Column<Schemas["Affected"]>[] = [
  {
    head: "Version",
    by: (a) => a.purl,
    look: "wrap-anywhere",
    cell: (a) => (
      <>
        <Link data-row to={packagePath(a.purl)} className="font-medium">
          {a.inside ? imageName(a.purl, a.label) : a.purl.replace(/^pkg:/, "")}
        </Link>
        {a.inside && <span className="block text-xs">has {a.inside.replace(/^pkg:/, "")} inside</span>}
        <span className="block text-xs text-soft">
          in <Link to={`/repositories/${a.repository}`}>{a.repository}</Link>
        </span>
      </>
    ),
  },
  { head: "State", by: (a) => Number(a.keptOut), look: "whitespace-nowrap", cell: (a) => <State of={a} /> },
  {
    head: "Go to",
    cell: (a) =>
      a.better ||
      (a.fixedIn.length > 0 ? (
        <>
          {a.fixedIn.at(-1)} <span className="text-xs text-soft">not here</span>
        </>
      ) : (
        ""
      )),
  },
  { head: "Downloads", right: true, from: "sm", by: (a) => a.downloads, cell: (a) => a.downloads },
  {
    head: "Last used",
    from: "sm",
    by: (a) => a.usedAt ?? "",
    cell: (a) => (a.usedAt ? <Time at={a.usedAt} /> : <span className="text-soft">never</span>),
  },
];
