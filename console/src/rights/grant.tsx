import { useMutation } from "@tanstack/react-query";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { rightsCalls } from "./calls";
import { Dialog } from "../ui/dialog";
import { Button, ErrorNote, Time } from "../ui/parts";
import { Form, TextField, ChoiceField } from "../ui/form";

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
  const after = () => changed({ kind: "access" });
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
      <Form
        start={{ role: "reader" as Schemas["NewGrant"]["role"], repositories: cell.place, packages: "" }}
        run={({ packages, ...grant }) =>
          rightsCalls.addGrant({ holder: cell.holder, ...grant, ...(packages ? { packages } : {}) })
        }
        done={after}
        again
        close={close}
        leave="Close"
        submit="Give it"
      >
        <div className="grid gap-x-4 sm:grid-cols-2">
          <ChoiceField name="role" label="Role" options={roleOptions.slice(0, limited)} />
          <TextField name="repositories" label="On" hint="A name, or a pattern with *." required />
        </div>
        <TextField
          name="packages"
          label="Only for packages"
          hint="A pattern; left empty: for all."
          placeholder="pkg:npm/@skerry/*"
        />
      </Form>
    </Dialog>
  );
}
