import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { rightsCalls } from "./calls";
import { Choice, Dialog, Field, TextInput } from "../ui/dialog";
import { Button, ErrorNote, Time } from "../ui/parts";

export type Cell = { holder: string; place: string };

const roleOptions: [string, string][] = [
  ["reader", "reader: finds and downloads"],
  ["publisher", "publisher: also publishes and withdraws"],
  ["promoter", "promoter: also promotes"],
  ["curator", "curator: also removes"],
  ["admin", "admin: also manages it"],
];

/** CellDialog shows what somebody was given in one place, and gives or takes away. */
export function CellDialog({ cell, grants, close }: { cell: Cell; grants: Schemas["Grant"][]; close: () => void }) {
  const changed = useChanged();
  const [role, setRole] = useState("reader");
  const [on, setOn] = useState(cell.place);
  const [packages, setPackages] = useState("");
  const after = () => changed({ kind: "access" });
  const add = useMutation({
    mutationFn: () =>
      rightsCalls.addGrant({
        holder: cell.holder,
        role: role as "reader",
        repositories: on,
        ...(packages ? { packages } : {}),
      }),
    onSuccess: () => {
      setPackages("");
      return after();
    },
  });
  const remove = useMutation({ mutationFn: rightsCalls.removeGrant, onSuccess: after });
  const limited = cell.holder === "anonymous" ? 1 : cell.holder === "signed-in" ? 2 : 5;
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title={`${cell.holder} on ${cell.place === "*" ? "everything" : cell.place}`}
      description="What was given to it there. What it has through teams is given there."
    >
      {grants.length === 0 ? (
        <p className="mb-4 text-sm text-soft">Nothing yet.</p>
      ) : (
        <ul className="mb-4 rounded border border-rule">
          {grants.map((g) => (
            <li
              key={g.id}
              className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule px-3 py-2 text-sm last:border-0"
            >
              <span className="min-w-0 grow">
                <b className="font-medium">{g.role}</b> on {g.repositories}
                {g.packages && (
                  <>
                    {" "}
                    for <code className="font-mono text-xs wrap-anywhere">{g.packages}</code>
                  </>
                )}
                <span className="block text-xs text-soft">
                  given by {g.by || "somebody"} <Time at={g.at} />
                </span>
              </span>
              <Button look="danger" disabled={remove.isPending} onClick={() => remove.mutate(g.id)}>
                Take away
              </Button>
            </li>
          ))}
        </ul>
      )}
      {remove.error && (
        <div className="mb-3">
          <ErrorNote error={remove.error} />
        </div>
      )}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div className="grid gap-x-4 sm:grid-cols-2">
          <Field label="Role">
            <Choice label="Role" value={role} onChange={setRole} options={roleOptions.slice(0, limited)} />
          </Field>
          <Field label="On" hint="A name, or a pattern with *.">
            <TextInput required value={on} onChange={(e) => setOn(e.target.value)} />
          </Field>
        </div>
        <Field label="Only for packages" hint="A pattern; left empty: for all.">
          <TextInput placeholder="pkg:npm/@skerry/*" value={packages} onChange={(e) => setPackages(e.target.value)} />
        </Field>
        {add.error && (
          <div className="mb-3">
            <ErrorNote error={add.error} />
          </div>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={close}>Close</Button>
          <Button type="submit" look="strong" disabled={add.isPending}>
            Give it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
