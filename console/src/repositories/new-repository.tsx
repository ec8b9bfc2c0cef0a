import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesCalls, repositoriesQueries } from "./calls";
import { Choice, Dialog, Field, TextInput, Tick } from "../ui/dialog";
import { blankMirror, MirrorFields, mirrorChange } from "../mirrors/mirror-form";
import { Order } from "../ui/order";
import { Button, ErrorNote, useEcosystems } from "../ui/parts";

type Kind = "house" | "mirror" | "chain";

const kinds: [Kind, string, string][] = [
  ["house", "House", "holds what is published here, of any ecosystem"],
  ["mirror", "Mirror", "fetches from elsewhere when asked, and keeps a copy"],
  ["chain", "Chain", "puts several repositories behind one address, in an order"],
];

export const holdsOptions: [string, string][] = [
  ["snapshots", "snapshots"],
  ["releases", "releases"],
  ["both", "snapshots and releases"],
];

export function NewRepository({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const changed = useChanged();
  const navigate = useNavigate();
  const blank = {
    kind: "house" as Kind,
    name: "",
    holds: "snapshots",
    ecosystem: "maven",
    description: "",
    anonymousRead: false,
    openMembers: true,
  };
  const [form, setForm] = useState(blank);
  const [mirror, setMirror] = useState(blankMirror);
  const [members, setMembers] = useState<Schemas["Member"][]>([]);
  const ecosystems = useEcosystems();
  const all = useQuery(repositoriesQueries.repositories());
  const add = useMutation({
    mutationFn: () =>
      repositoriesCalls.addRepository({
        name: form.name,
        kind: form.kind,
        description: form.description,
        anonymousRead: form.anonymousRead,
        holds: (form.kind === "chain" ? "both" : form.holds) as "both",
        ...(form.kind === "chain" ? { chain: { members, openMembers: form.openMembers } } : {}),
        ...(form.kind === "mirror" ? { ecosystem: form.ecosystem, mirror: mirrorChange(mirror) } : {}),
      }),
    onSuccess: (made) => {
      void changed({ kind: "repository" });
      onOpenChange(false);
      setForm(blank);
      setMirror(blankMirror);
      setMembers([]);
      void navigate(`/repositories/${made.name}`);
    },
  });
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title="New repository">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div role="radiogroup" aria-label="Kind" className="mb-3 grid gap-2 sm:grid-cols-3">
          {kinds.map(([kind, title, what]) => (
            <button
              key={kind}
              type="button"
              role="radio"
              aria-label={title}
              aria-checked={form.kind === kind}
              onClick={() => setForm({ ...form, kind, holds: kind === "mirror" ? "releases" : form.holds })}
              className={`grid cursor-pointer content-start rounded border px-3 py-2 text-left ${form.kind === kind ? "border-deep bg-wash" : "border-rule hover:bg-wash/50"}`}
            >
              <span className="block text-sm font-medium">{title}</span>
              <span className="block text-xs text-soft">{what}</span>
            </button>
          ))}
        </div>
        <Field label="Name" hint="Lower-case letters, digits and hyphens. It becomes part of the address.">
          <TextInput
            name="name"
            required
            autoFocus
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
          />
        </Field>
        {form.kind === "mirror" && (
          <Field label="Ecosystem">
            <Choice
              label="Ecosystem"
              value={form.ecosystem}
              onChange={(ecosystem) => setForm({ ...form, ecosystem })}
              options={(ecosystems.data ?? []).filter((e) => e.mirrored).map((e) => [e.name, e.title])}
            />
          </Field>
        )}
        {form.kind !== "chain" && (
          <Field
            label="Holds"
            hint={
              form.kind === "mirror"
                ? "What else its upstream has is not asked for."
                : "Snapshots may be published again and again; releases are published once."
            }
          >
            <Choice
              label="It holds"
              value={form.holds}
              onChange={(holds) => setForm({ ...form, holds })}
              options={holdsOptions}
            />
          </Field>
        )}
        {form.kind === "mirror" && <MirrorFields form={mirror} onChange={setMirror} ecosystem={form.ecosystem} />}
        {form.kind === "chain" && (
          <div className="mb-3 rounded border border-rule">
            <Order members={members} onChange={setMembers} candidates={(all.data ?? []).map((r) => r.name)} />
          </div>
        )}
        <Field label="Description">
          <TextInput
            name="description"
            value={form.description}
            onChange={(e) => setForm({ ...form, description: e.target.value })}
          />
        </Field>
        {form.kind === "chain" && (
          <Tick checked={form.openMembers} onChange={(openMembers) => setForm({ ...form, openMembers })}>
            Whoever may read the chain may read through it what its members add; else only what they may read there
          </Tick>
        )}
        <Tick checked={form.anonymousRead} onChange={(anonymousRead) => setForm({ ...form, anonymousRead })}>
          Anybody may read it without signing in
        </Tick>
        {add.error && (
          <div className="mb-3">
            <ErrorNote error={add.error} />
          </div>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={() => onOpenChange(false)}>Cancel</Button>
          <Button type="submit" look="strong" disabled={add.isPending}>
            Make it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
