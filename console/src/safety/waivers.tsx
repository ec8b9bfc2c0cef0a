import { useMutation } from "@tanstack/react-query";
import { Download, Plus, Upload } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { safetyCalls, safetyQueries } from "./calls";
import { Confirm, Tick } from "../ui/dialog";
import { AreaField, FormDialog, TextField, WhenField } from "../ui/form";
import { count, moment, save } from "../ui/format";
import { Button, ErrorNote, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

/** over says whether a waiver has ended. */
const over = (w: Schemas["Waiver"]) => !!w.endedAt || (!!w.until && Date.parse(w.until) < Date.now());

/** Waivers shows which advisories are accepted for what, and until when; admins make and end them. */
export function Waivers({ admin }: { admin: boolean }) {
  const [ended, setEnded] = useState(false);
  const query = useQuery(safetyQueries.waivers(ended));
  const changed = useChanged();
  const [making, setMaking] = useState(false);
  const [ending, setEnding] = useState<Schemas["Waiver"]>();
  const importing = useMutation({ mutationFn: safetyCalls.importVEX, onSuccess: () => changed({ kind: "waiver" }) });
  const exporting = useMutation({
    mutationFn: safetyCalls.exportVEX,
    onSuccess: (text) =>
      save(new Blob([text as unknown as string], { type: "application/json" }), "waivers.openvex.json"),
  });
  const told = () => changed({ kind: "waiver" });
  const columns: Column<Schemas["Waiver"]>[] = [
    {
      head: "Advisory",
      by: (w) => w.advisory,
      cell: (w) => (
        <Link data-row to={`/safety/advisories/${encodeURIComponent(w.advisory)}`} className="font-medium">
          {w.advisory}
        </Link>
      ),
    },
    { head: "For", look: "wrap-anywhere", cell: (w) => <code className="font-mono text-xs">{w.pattern}</code> },
    {
      head: "Until",
      by: (w) => w.until ?? "",
      cell: (w) =>
        w.endedAt ? (
          `ended ${moment(w.endedAt)} by ${w.endedBy}`
        ) : w.until ? (
          <>
            {over(w) && "ended "}
            <Time at={w.until} />
          </>
        ) : (
          <span className="text-soft">somebody ends it</span>
        ),
    },
    {
      head: "Why",
      look: "max-w-96",
      cell: (w) => (
        <>
          {w.reason} <span className="block text-xs text-soft">{w.by}</span>
        </>
      ),
    },
    {
      head: "End",
      right: true,
      cell: (w) => admin && !over(w) && <Button onClick={() => setEnding(w)}>End…</Button>,
    },
  ];
  return (
    <Panel
      title="Accepted advisories"
      aside={
        <span className="flex flex-wrap items-center gap-3 text-sm">
          <Tick checked={ended} onChange={setEnded}>
            ended ones too
          </Tick>
          <Button onClick={() => exporting.mutate()} disabled={exporting.isPending}>
            <Download size={15} /> As VEX
          </Button>
          {admin && (
            <label className="inline-flex cursor-pointer items-center gap-1.5 rounded border border-rule bg-sheet px-3 py-1.5 hover:bg-wash">
              <Upload size={15} aria-hidden /> From VEX…
              <input
                type="file"
                accept=".json"
                className="sr-only"
                aria-label="VEX document"
                onChange={(e) => {
                  const file = e.target.files?.[0];
                  if (file) importing.mutate(file);
                  e.target.value = "";
                }}
              />
            </label>
          )}
          {admin && (
            <Button onClick={() => setMaking(true)}>
              <Plus size={15} /> New waiver
            </Button>
          )}
        </span>
      }
    >
      {(importing.error ?? exporting.error) && (
        <div className="p-4">
          <ErrorNote error={importing.error ?? exporting.error} />
        </div>
      )}
      {importing.data && (
        <div role="status" className="border-b border-rule px-4 py-2 text-sm">
          {count(importing.data.made.length, "waiver")} made, {importing.data.already} there already
          {importing.data.passed.length > 0 && (
            <ul className="text-soft">
              {importing.data.passed.map((p, i) => (
                <li key={i}>
                  {p.advisory} passed over: {p.why}
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <p className="px-4 py-3 text-sm text-soft">No advisory is accepted for anything.</p>
          ) : (
            <Table name="Waivers" dense rows={all} rowKey={(w) => String(w.id)} columns={columns} />
          )
        }
      </Loaded>
      {making && <NewWaiver close={() => setMaking(false)} />}
      {ending && (
        <Confirm
          title={`End the waiver of ${ending.advisory}?`}
          text={`${ending.pattern} is then kept out again where repositories and gates say so.`}
          what="End it"
          run={() => safetyCalls.endWaiver(ending.id).then(told)}
          close={() => setEnding(undefined)}
        />
      )}
    </Panel>
  );
}

/** NewWaiver accepts an advisory for what a pattern fits. */
export function NewWaiver({ advisory, pattern, close }: { advisory?: string; pattern?: string; close: () => void }) {
  const changed = useChanged();
  return (
    <FormDialog
      title={advisory ? `Accept ${advisory}` : "New waiver"}
      description="What it fits is let in again where repositories and gates keep out what the advisory is about. No other advisory is touched. That a package is malicious can be accepted only for one version that is named."
      start={{ advisory: advisory ?? "", pattern: pattern ?? "", reason: "", until: "" }}
      run={(f) =>
        safetyCalls.waive({
          advisory: f.advisory.trim(),
          pattern: f.pattern.trim(),
          reason: f.reason,
          ...(f.until && { until: new Date(f.until).toISOString() }),
        })
      }
      done={() => changed({ kind: "waiver" })}
      close={close}
      submit="Accept it"
    >
      {() => (
        <>
          {!advisory && <TextField name="advisory" label="Advisory" required autoFocus placeholder="ISLE-2026-0007" />}
          <TextField
            name="pattern"
            label="For"
            required
            placeholder="pkg:npm/kelp-colors@3.0.0"
            hint="A package, a version or a pattern."
          />
          <AreaField name="reason" label="Why it is right to go on with it" required rows={3} />
          <WhenField name="until" label="Until" none="somebody ends it" later />
        </>
      )}
    </FormDialog>
  );
}
