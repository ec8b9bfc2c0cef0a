import { type Schemas } from "../api/client";
import { makeupQueries, type Side } from "./calls";
import { bytes, count } from "../ui/format";
import { Table } from "../ui/table";
import { CopyButton, Panel, useQuery } from "../ui/parts";

type Symbol = Schemas["Symbol"];

/** Symbols lists what a version has for debuggers, if it has anything. */
export function Symbols({ version }: { version: Side }) {
  const all = useQuery({ ...makeupQueries.symbols(version), retry: false }).data;
  if (!all?.length) return null;
  const lacking = all.filter((s) => s.format === "elf" && s.code && !s.debug && !s.known);
  return (
    <Panel
      title="For debuggers"
      aside={
        <span className="text-sm text-soft">
          {lacking.length === 0
            ? "the symbols of all programs are known"
            : `of ${count(lacking.length, "program")} no symbols are known`}
        </span>
      }
    >
      <Table
        name="For debuggers"
        dense
        rows={all}
        rowKey={(s) => `${s.upload} ${s.file} ${s.path} ${s.key}`}
        columns={[
          {
            head: "File",
            by: (s) => nameOf(s),
            look: "font-mono text-xs wrap-anywhere",
            cell: (s) => (s.address ? <a href={s.address}>{nameOf(s)}</a> : nameOf(s)),
          },
          { head: "Has", by: (s) => has(s), look: "text-sm", cell: (s) => has(s) },
          {
            head: "Build id or key",
            by: (s) => s.key ?? "",
            look: "font-mono text-xs",
            cell: (s) =>
              s.key && (
                <span className="inline-flex items-center gap-1">
                  {s.key.slice(0, 16)}
                  {s.key.length > 16 && "…"}
                  <CopyButton text={s.key} label={`Copy the key of ${nameOf(s)}`} />
                </span>
              ),
          },
          { head: "Size", by: (s) => s.bytes, right: true, cell: (s) => bytes(s.bytes) },
        ]}
      />
    </Panel>
  );
}

function nameOf(s: Symbol): string {
  return [s.file, s.path].filter(Boolean).join(": ");
}

function has(s: Symbol): string {
  if (s.code && s.debug) return "code and symbols";
  if (s.debug) return s.format === "source-map" ? "a source map" : "symbols";
  if (s.known) return "code; its symbols are known";
  return s.format === "elf" ? "code; no symbols are known" : "code";
}
