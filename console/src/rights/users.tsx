import { useMutation, useQuery } from "@tanstack/react-query";
import { Bot, Plus, User } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { rightsCalls, rightsQueries } from "./calls";
import { Dialog } from "../ui/dialog";
import { count } from "../ui/format";
import { Button, CopyButton, ErrorNote, Loaded, Panel, Time } from "../ui/parts";
import { type Column, Table } from "../ui/table";
import { Form, TextField, ChoiceField } from "../ui/form";

const userColumns: Column<Schemas["User"]>[] = [
  {
    head: "Name",
    by: (u) => u.name,
    cell: (u) => {
      const Icon = u.kind === "robot" ? Bot : User;
      return (
        <>
          <span className="flex items-center gap-1.5 font-medium">
            <Icon size={14} className="text-soft" aria-label={u.kind} /> {u.name}
            {u.blockedAt && <span className="rounded bg-bad-wash px-1.5 text-xs font-normal text-bad">blocked</span>}
          </span>
          <span className="block text-xs text-soft">{u.description}</span>
        </>
      );
    },
  },
  {
    head: "Teams",
    by: (u) => u.teams.join() || undefined,
    cell: (u) => u.teams.join(", ") || <span className="text-soft">none</span>,
  },
  { head: "Tokens", right: true, by: (u) => u.tokens, cell: (u) => u.tokens },
  { head: "Sessions", right: true, by: (u) => u.sessions, cell: (u) => u.sessions },
  {
    head: "Last seen",
    by: (u) => u.seenAt,
    cell: (u) => (u.seenAt ? <Time at={u.seenAt} /> : <span className="text-soft">never</span>),
  },
];

/** UserTable shows users and robots. */
export function UserTable({ me }: { me: Schemas["Me"] }) {
  const query = useQuery(rightsQueries.users());
  const [adding, setAdding] = useState(false);
  const [chosen, setChosen] = useState("");
  const user = query.data?.find((u) => u.name === chosen);
  return (
    <Panel
      title="Users and robots"
      aside={
        me.admin && (
          <Button look="strong" onClick={() => setAdding(true)}>
            <Plus size={15} /> New user or robot
          </Button>
        )
      }
    >
      <Loaded query={query}>
        {(all) => (
          <Table
            name="Users"
            rows={all}
            rowKey={(u) => u.name}
            columns={[
              ...userColumns,
              {
                head: " ",
                right: true,
                cell: (u) => me.admin && <Button onClick={() => setChosen(u.name)}>Change</Button>,
              },
            ]}
          />
        )}
      </Loaded>
      {adding && <NewUser close={() => setAdding(false)} />}
      {user && <ChangeUser key={user.name} user={user} own={user.name === me.name} close={() => setChosen("")} />}
    </Panel>
  );
}

/** Secret shows what is shown once. */
export function Secret({ text, label }: { text: string; label: string }) {
  return (
    <div className="mb-3 flex items-center gap-2 rounded border border-rule bg-paper px-3 py-2">
      <code className="font-mono text-sm break-all">{text}</code>
      <CopyButton text={text} label={label} />
    </div>
  );
}

function NewUser({ close }: { close: () => void }) {
  const changed = useChanged();
  const [made, setMade] = useState<Schemas["MadeUser"]>();
  if (made) {
    return (
      <Dialog
        open
        onOpenChange={(open) => open || close()}
        title={`${made.name} is there`}
        description={
          made.password
            ? "The password is shown this once, and is to be changed at the first sign-in."
            : "A robot gets in with tokens: make one for it on the page of tokens."
        }
      >
        {made.password && <Secret text={made.password} label="Copy the password" />}
        <p className="mb-4 text-sm text-soft">
          It may do nothing yet: give it roles in the matrix, or let it join a team.
        </p>
        <div className="flex justify-end">
          <Button look="strong" onClick={close}>
            Done
          </Button>
        </div>
      </Dialog>
    );
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title="New user or robot"
      description="People sign in with a password; robots only with tokens."
    >
      <Form
        start={{ kind: "user" as Schemas["NewUser"]["kind"], name: "", description: "" }}
        run={rightsCalls.addUser}
        done={(user) => {
          setMade(user);
          return changed({ kind: "access" });
        }}
        submit="Make it"
      >
        <ChoiceField
          name="kind"
          label="It is"
          options={[
            ["user", "a user"],
            ["robot", "a robot"],
          ]}
        />
        <TextField name="name" label="Name" hint="Lower-case letters, digits and hyphens." required autoFocus />
        <TextField name="description" label="Description" />
      </Form>
    </Dialog>
  );
}

function ChangeUser({ user: u, own, close }: { user: Schemas["User"]; own: boolean; close: () => void }) {
  const changed = useChanged();
  const [sure, setSure] = useState(false);
  const [said, setSaid] = useState("");
  const after = { onSuccess: () => changed({ kind: "access" }) };
  const edit = useMutation({
    mutationFn: (change: Schemas["UserChange"]) => rightsCalls.editUser(u.name, change),
    ...after,
  });
  const password = useMutation({ mutationFn: () => rightsCalls.givePassword(u.name), ...after });
  const out = useMutation({
    mutationFn: (tokens: boolean) => rightsCalls.signOutEverywhere(u.name, tokens),
    onSuccess: (ended) => {
      setSaid(`Ended ${count(ended.sessions, "session")} and ${count(ended.tokens, "token")}.`);
      return changed({ kind: "access" });
    },
  });
  const remove = useMutation({
    mutationFn: () => rightsCalls.removeUser(u.name),
    onSuccess: () => {
      close();
      return changed({ kind: "access" });
    },
  });
  const error = edit.error ?? password.error ?? out.error ?? remove.error;
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title={u.name}
      description={`A ${u.kind}${u.teams.length ? `, in ${u.teams.join(" and ")}` : ""}.`}
    >
      <Form
        className="flex items-end gap-2 [&>label]:grow"
        start={{ description: u.description }}
        run={(change) => rightsCalls.editUser(u.name, change)}
        done={after.onSuccess}
        submit="Save"
        saves="Saved."
      >
        <TextField name="description" label="Description" />
      </Form>
      {password.data?.password && (
        <>
          <p className="mb-1 text-sm">The new password is shown this once, and is to be changed at the next sign-in.</p>
          <Secret text={password.data.password} label="Copy the password" />
        </>
      )}
      {said && (
        <p role="status" className="mb-3 text-sm text-soft">
          {said}
        </p>
      )}
      {error && (
        <div className="mb-3">
          <ErrorNote error={error} />
        </div>
      )}
      <div className="flex flex-wrap gap-2">
        {u.kind === "user" && !own && <Button onClick={() => password.mutate()}>Give a new password</Button>}
        <Button onClick={() => out.mutate(false)}>End its sessions</Button>
        <Button onClick={() => out.mutate(true)}>End its sessions and tokens</Button>
        {u.blockedAt ? (
          <Button onClick={() => edit.mutate({ blocked: false })}>Let it in again</Button>
        ) : (
          !own && (
            <Button look="danger" onClick={() => edit.mutate({ blocked: true })}>
              Block
            </Button>
          )
        )}
        {!own &&
          (sure ? (
            <Button look="danger" onClick={() => remove.mutate()}>
              Really remove it, with its tokens and grants
            </Button>
          ) : (
            <Button look="danger" onClick={() => setSure(true)}>
              Remove
            </Button>
          ))}
      </div>
    </Dialog>
  );
}
