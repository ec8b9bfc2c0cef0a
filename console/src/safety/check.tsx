import { useMutation } from "@tanstack/react-query";
import { FileSearch } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesQueries } from "../repositories/calls";
import { safetyCalls } from "./calls";
import { Choice, Field } from "../ui/dialog";
import { FormDialog, TextField } from "../ui/form";
import { count, packagePath } from "../ui/format";
import { Button, ErrorNote, Panel, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

type Row = Schemas["CheckedVersion"] & { line?: number };
type Checked = { file: string; what: string; total: number; rows: Row[] };

/** atOnce is about how many versions the service is asked with one request. */
const atOnce = 100;

/** run reads a file, and asks about what it names, some at a time; what was not found out in time is asked again. */
async function run(repository: string, file: File, said: (done: number, of: number) => void): Promise<Checked> {
  const read = await safetyCalls.readLocked(file);
  const answers = new Map<string, Schemas["CheckedVersion"]>();
  let open = read.packages.map((p) => p.purl);
  while (open.length > 0) {
    const late: string[] = [];
    for (let at = 0; at < open.length; at += atOnce) {
      const some = open.slice(at, at + atOnce);
      const found = await safetyCalls.check(repository, some);
      found.forEach((one, i) => {
        answers.set(some[i]!, one);
        if (one.state === "not known" && one.why?.includes("ask again")) late.push(some[i]!);
      });
      said(answers.size, read.packages.length);
    }
    if (late.length >= open.length) break;
    open = late;
  }
  const rows = read.packages
    .map((p) => ({ ...answers.get(p.purl)!, purl: p.purl, line: p.line }))
    .filter((r) => r.state !== "let in");
  return { file: file.name, what: read.what, total: read.packages.length, rows };
}

const looks: Record<string, string> = { "kept out": "text-bad", awaiting: "text-glow", "not there": "text-bad" };

const columns = (ask: (row: Row) => void): Column<Row>[] => [
  { head: "Line", right: true, from: "sm", by: (r) => r.line ?? 0, cell: (r) => r.line ?? "" },
  {
    head: "Package",
    by: (r) => r.purl,
    look: "wrap-anywhere",
    cell: (r) => (
      <Link data-row to={packagePath(r.purl)} className="font-medium">
        {r.purl.replace(/^pkg:/, "")}
      </Link>
    ),
  },
  {
    head: "State",
    by: (r) => r.state,
    look: "whitespace-nowrap",
    cell: (r) => <span className={looks[r.state] ?? "text-soft"}>{r.state}</span>,
  },
  {
    head: "Why",
    look: "wrap-anywhere",
    cell: (r) => (
      <>
        {r.why} {r.hint && <span className="block text-xs text-soft">{r.hint}</span>}
      </>
    ),
  },
  {
    head: "Ask",
    right: true,
    cell: (r) => r.state === "awaiting" && <Button onClick={() => ask(r)}>Ask for it…</Button>,
  },
];

/** Check tells of a lock file or a bill of materials what a repository would refuse, before anybody builds. */
export function Check() {
  const all = useQuery(repositoriesQueries.repositories()).data ?? [];
  const [chosen, setChosen] = useState("");
  const repository = chosen || (all.find((r) => r.kind === "chain") ?? all[0])?.name || "";
  const [how, setHow] = useState("");
  const [asked, setAsked] = useState<Row>();
  const changed = useChanged();
  const doing = useMutation({
    mutationFn: (file: File) => run(repository, file, (done, of) => setHow(`${done} of ${of}`)),
    onMutate: () => setHow("reading"),
  });
  const bad = doing.data?.rows.filter((r) => r.state !== "not known").length ?? 0;
  return (
    <Panel title="What a build would be refused">
      <div className="grid items-end gap-x-4 p-4 sm:grid-cols-[16rem_1fr]">
        <Field label="It builds with">
          <Choice
            label="It builds with"
            value={repository}
            onChange={setChosen}
            options={all.map((r) => [r.name, r.name])}
          />
        </Field>
        <label className="mb-3 flex cursor-pointer items-center gap-2 rounded border border-dashed border-rule px-4 py-2 text-sm hover:bg-wash">
          <FileSearch size={16} aria-hidden />
          Choose a lock file, requirements, a resolved tree of Maven's, or a bill of materials (CycloneDX, SPDX)
          <input
            type="file"
            className="sr-only"
            aria-label="File to check"
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) doing.mutate(file);
              e.target.value = "";
            }}
          />
        </label>
      </div>
      {doing.isPending && (
        <p role="status" className="px-4 pb-4 text-sm text-soft">
          Looking: {how}
        </p>
      )}
      {doing.error && (
        <div className="px-4 pb-4">
          <ErrorNote error={doing.error} />
        </div>
      )}
      {doing.data && (
        <>
          <p role="status" className="border-t border-rule px-4 py-2 text-sm">
            {doing.data.file}, {doing.data.what}:{" "}
            {bad === 0 ? (
              <span className="text-good">nothing of {count(doing.data.total, "package")} would be refused</span>
            ) : (
              <span className="text-bad">
                {bad} of {count(doing.data.total, "package")} would be refused
              </span>
            )}
          </p>
          {doing.data.rows.length > 0 && (
            <Table name="Checked" dense rows={doing.data.rows} rowKey={(r) => r.purl} columns={columns(setAsked)} />
          )}
        </>
      )}
      {asked && (
        <FormDialog
          title={`Ask for ${asked.purl.replace(/^pkg:/, "")}`}
          description="It is put before those who decide, with what you say."
          start={{ purpose: "" }}
          run={(f) => safetyCalls.askForVetting({ repository, purl: asked.purl, purpose: f.purpose })}
          done={() => changed({ kind: "vetting" })}
          close={() => setAsked(undefined)}
          submit="Ask"
        >
          {() => <TextField name="purpose" label="What you need it for" autoFocus required />}
        </FormDialog>
      )}
    </Panel>
  );
}
