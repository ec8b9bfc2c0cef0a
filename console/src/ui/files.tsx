import { type Schemas } from "../api/client";
import { bytes, count } from "./format";
import { Table } from "./table";

/** FileDifferences lists the files that are not the same in two versions. */
export function FileDifferences({ of: f }: { of: Schemas["FileDifferences"] }) {
  if (f.leftOut) return <p className="px-4 py-3 text-sm">They were not compared: {f.leftOut}.</p>;
  return (
    <>
      <p className="border-b border-rule px-4 py-2 text-sm text-soft">
        {count(f.added, "file")} added, {f.changed} changed, {f.removed} removed
        {f.some.length < f.added + f.changed + f.removed && `; the first ${f.some.length} by path`}
      </p>
      {f.some.length > 0 && (
        <Table
          name="Files"
          dense
          rows={f.some}
          rowKey={(d) => d.path}
          columns={[
            { head: "File", by: (d) => whatOf(d), look: "w-20 text-soft", cell: (d) => whatOf(d) },
            { head: "Path", by: (d) => d.path, look: "font-mono text-xs wrap-anywhere", cell: (d) => d.path },
            { head: "Before", right: true, cell: (d) => <LayerFile file={d.before} other={d.after} /> },
            { head: "After", right: true, cell: (d) => <LayerFile file={d.after} other={d.before} /> },
          ]}
        />
      )}
    </>
  );
}

function whatOf(d: Schemas["FileDifference"]) {
  return d.before ? (d.after ? "changed" : "removed") : "added";
}

/** LayerFile tells of a file what tells it from the other one. */
function LayerFile({ file: f, other }: { file?: Schemas["LayerFile"]; other?: Schemas["LayerFile"] }) {
  if (!f) return <span className="text-soft">not there</span>;
  return (
    <>
      {f.link ? <span className="font-mono text-xs">→ {f.link}</span> : bytes(f.bytes)}
      {f.code && <span className="block text-xs text-glow">{f.code}</span>}
      {other &&
        other.bytes === f.bytes &&
        other.link === f.link &&
        other.mode === f.mode &&
        other.owner === f.owner && <span className="block text-xs text-soft">other bytes</span>}
      {other && (f.mode !== other.mode || f.owner !== other.owner) && (
        <span className="block text-xs text-soft">
          mode {f.mode}
          {f.owner && `, owner ${f.owner}`}
        </span>
      )}
    </>
  );
}
