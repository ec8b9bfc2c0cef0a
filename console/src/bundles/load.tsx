import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesQueries } from "../repositories/calls";
import { Choice, Dialog, Field } from "../ui/dialog";
import { bytes, count } from "../ui/format";
import { Button, ErrorNote, useQuery } from "../ui/parts";
import { bundlesCalls } from "./calls";

/** LoadBundle asks for a bundle, tells what would come of it, and loads it. */
export function LoadBundle({ close }: { close: () => void }) {
  const changed = useChanged();
  const repositories = useQuery(repositoriesQueries.repositories());
  const [file, setFile] = useState<File>();
  const [to, setTo] = useState("");
  const plan = useMutation({
    mutationFn: (of: { file: File; to: string }) => bundlesCalls.plan(of.file, of.to),
  });
  const load = useMutation({
    mutationFn: (of: { file: File; to: string }) => bundlesCalls.load(of.file, of.to),
    onSuccess: () => changed({ kind: "bundle" }),
  });
  const look = (file: File | undefined, to: string) => {
    setFile(file);
    setTo(to);
    load.reset();
    plan.reset();
    if (file) plan.mutate({ file, to });
  };
  const houses = (repositories.data ?? []).filter((r) => r.kind === "house");
  const error = load.error ?? plan.error;
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title="Load a bundle"
      description="Everything in it becomes visible at once, or, if one version cannot come, nothing does."
    >
      <Field label="Bundle" hint="One that is in pieces crelvo bundle load loads.">
        <input
          type="file"
          aria-label="Bundle"
          accept=".tar,application/x-tar"
          className="w-full text-sm"
          onChange={(e) => look(e.target.files?.[0], to)}
        />
      </Field>
      <Field label="To">
        <Choice
          label="To"
          value={to}
          onChange={(to) => look(file, to)}
          options={[
            ["", "the repositories of the same names"],
            ...houses.map((r): [string, string] => [r.name, r.name]),
          ]}
        />
      </Field>
      {plan.data && !load.data && <Plan of={plan.data} />}
      {load.data && (
        <p role="status" className="mb-3 text-sm">
          It is loaded: {count(load.data.new, "version")} came, {load.data.there} were there already.
        </p>
      )}
      {error && (
        <div className="mb-3">
          <ErrorNote error={error} />
        </div>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={close}>{load.data ? "Close" : "Cancel"}</Button>
        {!load.data && (
          <Button
            look="strong"
            disabled={!file || !plan.data || plan.data.refused.length > 0 || load.isPending}
            onClick={() => file && load.mutate({ file, to })}
          >
            {load.isPending ? "Loading…" : "Load"}
          </Button>
        )}
      </div>
    </Dialog>
  );
}

/** Plan tells what would become of a bundle. */
function Plan({ of: p }: { of: Schemas["BundlePlan"] }) {
  return (
    <div className="mb-3 text-sm">
      <p>
        Made by {p.madeBy} of {p.from.join(", ")}, signed with {p.keys.join(", ")}. {count(p.new, "version")} would
        come, for which {bytes(p.travels)} travel; {p.there} are there already.
      </p>
      {p.refused.length > 0 && (
        <>
          <p className="mt-2">These cannot come, and then nothing does:</p>
          <ul className="mt-1 max-h-40 overflow-y-auto text-xs">
            {p.refused.map((r) => (
              <li key={r.purl} className="wrap-anywhere">
                <span className="font-mono">{r.purl}</span>: {r.why}
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}
