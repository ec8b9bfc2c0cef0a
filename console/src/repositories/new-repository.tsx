import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesCalls, repositoriesQueries } from "./calls";
import { blankMirror, MirrorFields, mirrorChange } from "../mirrors/mirror-form";
import { Order } from "../ui/order";
import { useEcosystems } from "../ui/parts";
import { FormDialog, TextField, ChoiceField, TickField } from "../ui/form";

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

const blank = {
  kind: "house" as Kind,
  name: "",
  holds: "snapshots" as Schemas["Repository"]["holds"],
  ecosystem: "maven",
  description: "",
  anonymousRead: false,
  openMembers: true,
  mirror: blankMirror,
  members: [] as Schemas["Member"][],
};

export function NewRepository({ close }: { close: () => void }) {
  const changed = useChanged();
  const navigate = useNavigate();
  const ecosystems = useEcosystems();
  const all = useQuery(repositoriesQueries.repositories());
  return (
    <FormDialog
      title="New repository"
      start={blank}
      run={(form) =>
        repositoriesCalls.addRepository({
          name: form.name,
          kind: form.kind,
          description: form.description,
          anonymousRead: form.anonymousRead,
          holds: form.kind === "chain" ? "both" : form.holds,
          ...(form.kind === "chain" ? { chain: { members: form.members, openMembers: form.openMembers } } : {}),
          ...(form.kind === "mirror" ? { ecosystem: form.ecosystem, mirror: mirrorChange(form.mirror) } : {}),
        })
      }
      done={(made) => {
        void navigate(`/repositories/${made.name}`);
        return changed({ kind: "repository" });
      }}
      close={close}
      submit="Make it"
    >
      {({ kind: chosen, ecosystem, members }, form) => (
        <>
          <div role="radiogroup" aria-label="Kind" className="mb-3 grid gap-2 sm:grid-cols-3">
            {kinds.map(([kind, title, what]) => (
              <button
                key={kind}
                type="button"
                role="radio"
                aria-label={title}
                aria-checked={chosen === kind}
                onClick={() => {
                  form.setValue("kind", kind);
                  if (kind === "mirror") form.setValue("holds", "releases");
                }}
                className={`grid cursor-pointer content-start rounded border px-3 py-2 text-left ${chosen === kind ? "border-deep bg-wash" : "border-rule hover:bg-wash/50"}`}
              >
                <span className="block text-sm font-medium">{title}</span>
                <span className="block text-xs text-soft">{what}</span>
              </button>
            ))}
          </div>
          <TextField
            name="name"
            label="Name"
            hint="Lower-case letters, digits and hyphens. It becomes part of the address."
            required
            autoFocus
          />
          {chosen === "mirror" && (
            <ChoiceField
              name="ecosystem"
              label="Ecosystem"
              options={(ecosystems.data ?? []).filter((e) => e.mirrored).map((e) => [e.name, e.title])}
            />
          )}
          {chosen !== "chain" && (
            <ChoiceField
              name="holds"
              label="It holds"
              hint={
                chosen === "mirror"
                  ? "What else its upstream has is not asked for."
                  : "Snapshots may be published again and again; releases are published once."
              }
              options={holdsOptions}
            />
          )}
          {chosen === "mirror" && <MirrorFields ecosystem={ecosystem} />}
          {chosen === "chain" && (
            <div className="mb-3 rounded border border-rule">
              <Order
                members={members}
                onChange={(to) => form.setValue("members", to)}
                candidates={(all.data ?? []).map((r) => r.name)}
              />
            </div>
          )}
          <TextField name="description" label="Description" />
          {chosen === "chain" && (
            <TickField name="openMembers">
              Whoever may read the chain may read through it what its members add; else only what they may read there
            </TickField>
          )}
          <TickField name="anonymousRead">Anybody may read it without signing in</TickField>
        </>
      )}
    </FormDialog>
  );
}
