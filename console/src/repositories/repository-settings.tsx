import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesCalls, repositoriesQueries } from "./calls";
import { Choice, Dialog, Field, TextInput, Tick } from "../ui/dialog";
import { bytes, count, sizeOf } from "../ui/format";
import { blankMirror, MirrorFields, mirrorChange, mirrorForm } from "../mirrors/mirror-form";
import { Button, ErrorNote, Panel } from "../ui/parts";
import { holdsOptions } from "./new-repository";

export function Settings({ repository: r }: { repository: Schemas["Repository"] }) {
  const changed = useChanged();
  const saved = {
    holds: r.holds as string,
    description: r.description,
    anonymousRead: r.anonymousRead,
    onlyBuilds: r.onlyBuilds,
    onlyRobots: r.onlyRobots,
    closed: r.closed,
    largestFile: r.largestFile ? bytes(r.largestFile) : "",
    releasesTo: r.chain?.releasesTo ?? "",
    snapshotsTo: r.chain?.snapshotsTo ?? "",
    openMembers: r.chain?.openMembers ?? false,
  };
  const [form, setForm] = useState(saved);
  const savedMirror = r.mirror ? mirrorForm(r.mirror) : blankMirror;
  const [mirror, setMirror] = useState(savedMirror);
  const [removing, setRemoving] = useState(false);
  const all = useQuery(repositoriesQueries.repositories());
  const houses = (takes: string) =>
    [
      ["", "nowhere"],
      ...(all.data ?? [])
        .filter((o) => o.kind === "house" && (o.holds === takes || o.holds === "both"))
        .map((o) => [o.name, o.name]),
    ] as [string, string][];
  const save = useMutation({
    mutationFn: () =>
      repositoriesCalls.editRepository(r.name, {
        description: form.description,
        anonymousRead: form.anonymousRead,
        ...(r.kind === "house"
          ? {
              onlyBuilds: form.onlyBuilds,
              onlyRobots: form.onlyRobots,
              closed: form.closed,
              ...(form.largestFile !== saved.largestFile
                ? { largestFile: form.largestFile.trim() ? sizeOf(form.largestFile) : 0 }
                : {}),
            }
          : {}),
        ...(r.chain
          ? { chain: { releasesTo: form.releasesTo, snapshotsTo: form.snapshotsTo, openMembers: form.openMembers } }
          : { holds: form.holds as "both" }),
        ...(r.mirror ? { mirror: mirrorChange(mirror, savedMirror) } : {}),
      }),
    onSuccess: (after) => {
      setForm({ ...form, largestFile: after.largestFile ? bytes(after.largestFile) : "" }); // as it will be shown
      if (after.mirror) setMirror(mirrorForm(after.mirror));
      return changed({ kind: "repository" });
    },
  });
  const edited = JSON.stringify([form, mirror]) !== JSON.stringify([saved, savedMirror]);
  return (
    <div className="grid max-w-2xl gap-5">
      <Panel title="Settings">
        <form
          className="p-4"
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          {!r.chain && (
            <Field label="Holds" hint="What is there already stays, whatever you choose.">
              <Choice
                label="It holds"
                value={form.holds}
                onChange={(holds) => setForm({ ...form, holds })}
                options={holdsOptions}
              />
            </Field>
          )}
          {r.mirror && (
            <MirrorFields
              form={mirror}
              onChange={setMirror}
              ecosystem={r.ecosystem ?? ""}
              like={r.name}
              hasSecret={r.mirror.hasSecret}
            />
          )}
          {r.chain && (
            <div className="grid gap-x-4 sm:grid-cols-2">
              <Field label="Releases that are published here go to">
                <Choice
                  label="Releases go to"
                  value={form.releasesTo}
                  onChange={(releasesTo) => setForm({ ...form, releasesTo })}
                  options={houses("releases")}
                />
              </Field>
              <Field label="Snapshots go to">
                <Choice
                  label="Snapshots go to"
                  value={form.snapshotsTo}
                  onChange={(snapshotsTo) => setForm({ ...form, snapshotsTo })}
                  options={houses("snapshots")}
                />
              </Field>
            </div>
          )}
          {r.chain && (
            <Tick checked={form.openMembers} onChange={(openMembers) => setForm({ ...form, openMembers })}>
              Whoever may read {r.name} may read through it what all its members add; else only what they may read there
            </Tick>
          )}
          <Field label="Description">
            <TextInput value={form.description} onChange={(e) => setForm({ ...form, description: e.target.value })} />
          </Field>
          {r.kind === "house" && (
            <Field
              label="Largest file"
              hint="The largest file that may be published, such as 2 GiB. Empty: what the server says."
            >
              <TextInput
                name="largest"
                pattern="\s*\d+(\.\d+)?\s*[KMGTkmgt]?(i?[Bb])?\s*"
                title="A number with a unit, such as 500 MiB"
                value={form.largestFile}
                onChange={(e) => setForm({ ...form, largestFile: e.target.value })}
              />
            </Field>
          )}
          {r.kind === "house" && (
            <Tick checked={form.onlyBuilds} onChange={(onlyBuilds) => setForm({ ...form, onlyBuilds })}>
              Take only what comes from a build that began here
            </Tick>
          )}
          {r.kind === "house" && (
            <Tick checked={form.onlyRobots} onChange={(onlyRobots) => setForm({ ...form, onlyRobots })}>
              Take only what robots publish
            </Tick>
          )}
          {r.kind === "house" && (
            <Tick checked={form.closed} onChange={(closed) => setForm({ ...form, closed })}>
              Versions that are complete take no further files but signatures
            </Tick>
          )}
          <Tick checked={form.anonymousRead} onChange={(anonymousRead) => setForm({ ...form, anonymousRead })}>
            Anybody may read it without signing in
          </Tick>
          {save.error && (
            <div className="mb-3">
              <ErrorNote error={save.error} />
            </div>
          )}
          <div className="flex items-center gap-3">
            <Button type="submit" look="strong" disabled={!edited || save.isPending}>
              Save
            </Button>
            <span role="status" className="text-sm text-soft">
              {edited ? "Not saved yet." : save.isSuccess ? "Saved; it is in force now." : ""}
            </span>
          </div>
        </form>
      </Panel>
      <Panel title="Remove">
        <div className="flex flex-wrap items-center justify-between gap-3 p-4 text-sm">
          <p>
            Clients that use its address will be refused. Within 14 days it can be brought back with all that it held.
          </p>
          <Button look="danger" onClick={() => setRemoving(true)}>
            Remove {r.name}
          </Button>
        </div>
      </Panel>
      <Remove repository={r} open={removing} onOpenChange={setRemoving} />
    </div>
  );
}

function Remove({
  repository: r,
  open,
  onOpenChange,
}: {
  repository: Schemas["Repository"];
  open: boolean;
  onOpenChange: (open: boolean) => void;
}) {
  const changed = useChanged();
  const navigate = useNavigate();
  const [typed, setTyped] = useState("");
  const [withContents, setWithContents] = useState(false);
  const remove = useMutation({
    mutationFn: () => repositoriesCalls.removeRepository(r.name, withContents),
    onSuccess: () => {
      void navigate("/");
      void changed({ kind: "repository" });
    },
  });
  return (
    <Dialog
      open={open}
      onOpenChange={onOpenChange}
      title={`Remove ${r.name}?`}
      description={
        r.packages
          ? `It holds ${count(r.packages, "package")} in ${count(r.versions, "version")}, ${bytes(r.bytes)}.`
          : "It is empty."
      }
    >
      {r.packages > 0 && (
        <Tick checked={withContents} onChange={setWithContents}>
          Its contents go too
        </Tick>
      )}
      <Field label={`Type ${r.name} to confirm`}>
        <TextInput value={typed} onChange={(e) => setTyped(e.target.value)} />
      </Field>
      {remove.error && (
        <div className="mb-3">
          <ErrorNote error={remove.error} />
        </div>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={() => onOpenChange(false)}>Keep it</Button>
        <Button look="danger" disabled={typed !== r.name || remove.isPending} onClick={() => remove.mutate()}>
          Remove
        </Button>
      </div>
    </Dialog>
  );
}
