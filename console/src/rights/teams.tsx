import { useMutation, useQuery } from "@tanstack/react-query";
import { Plus, X } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { rightsCalls, rightsQueries } from "./calls";
import { Button, Empty, ErrorNote, Loaded, Panel } from "../ui/parts";
import { FormDialog, TextField } from "../ui/form";
import { Picker } from "../ui/combobox";

/** Teams shows the teams and who is in them. */
export function Teams({ me }: { me: Schemas["Me"] }) {
  const query = useQuery(rightsQueries.teams());
  const users = useQuery(rightsQueries.users());
  const [adding, setAdding] = useState(false);
  return (
    <Panel
      title="Teams"
      aside={
        me.admin && (
          <Button look="strong" onClick={() => setAdding(true)}>
            <Plus size={15} /> New team
          </Button>
        )
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No teams yet">Give roles to a team, and whoever joins it has them.</Empty>
          ) : (
            <ul>
              {all.map((t) => (
                <Team key={t.name} team={t} admin={me.admin} users={(users.data ?? []).map((u) => u.name)} />
              ))}
            </ul>
          )
        }
      </Loaded>
      {adding && <NewTeam close={() => setAdding(false)} />}
    </Panel>
  );
}

function Team({ team: t, admin, users }: { team: Schemas["Team"]; admin: boolean; users: string[] }) {
  const changed = useChanged();
  const [sure, setSure] = useState(false);
  const after = { onSuccess: () => changed({ kind: "access" }) };
  const edit = useMutation({
    mutationFn: (change: Schemas["TeamChange"]) => rightsCalls.editTeam(t.name, change),
    ...after,
  });
  const remove = useMutation({ mutationFn: () => rightsCalls.removeTeam(t.name), ...after });
  const others = users.filter((u) => !t.members.includes(u));
  const error = edit.error ?? remove.error;
  return (
    <li className="border-b border-rule px-4 py-3 last:border-0">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <span className="min-w-40">
          <b className="font-medium">{t.name}</b>
          <span className="block text-xs text-soft">{t.description}</span>
        </span>
        <span className="flex grow flex-wrap items-center gap-1.5">
          {t.members.length === 0 && <span className="text-sm text-soft">nobody is in it</span>}
          {t.members.map((m) => (
            <span key={m} className="inline-flex items-center gap-1 rounded border border-rule px-2 py-0.5 text-sm">
              {m}
              {admin && (
                <button
                  type="button"
                  aria-label={`Take ${m} out of ${t.name}`}
                  className="cursor-pointer text-soft hover:text-bad"
                  onClick={() => edit.mutate({ leave: [m] })}
                >
                  <X size={13} />
                </button>
              )}
            </span>
          ))}
          {admin && others.length > 0 && (
            <span className="w-40">
              <Picker
                label={`Who joins ${t.name}`}
                placeholder="let somebody join…"
                value=""
                onChange={(m) => edit.mutate({ join: [m] })}
                options={others.map((o) => [o, o])}
              />
            </span>
          )}
        </span>
        {admin &&
          (sure ? (
            <Button look="danger" onClick={() => remove.mutate()}>
              Really, with its grants
            </Button>
          ) : (
            <Button look="bare" onClick={() => setSure(true)}>
              Remove
            </Button>
          ))}
      </div>
      {error && (
        <div className="mt-2">
          <ErrorNote error={error} />
        </div>
      )}
    </li>
  );
}

function NewTeam({ close }: { close: () => void }) {
  const changed = useChanged();
  return (
    <FormDialog
      title="New team"
      description="Users and robots who have the same rights."
      start={{ name: "", description: "" }}
      run={rightsCalls.addTeam}
      done={() => changed({ kind: "access" })}
      close={close}
      submit="Make it"
    >
      <TextField name="name" label="Name" hint="Lower-case letters, digits and hyphens." required autoFocus />
      <TextField name="description" label="Description" />
    </FormDialog>
  );
}
