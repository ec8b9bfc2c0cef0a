import { useMutation, useQuery } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { rightsCalls, rightsQueries } from "./calls";
import { Dialog } from "../ui/dialog";
import { moment } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle } from "../ui/parts";
import { OneOf } from "../pointing/point";
import { Secret } from "./users";
import { type Column, Table } from "../ui/table";
import { Form, TextField, ChoiceField, PickField } from "../ui/form";

const day = 86400;

export function TokensPage({ me }: { me: Schemas["Me"] }) {
  usePageTitle("Tokens");
  const [params, setParams] = useSearchParams();
  const everybody = me.admin && params.get("of") === "everybody";
  const [adding, setAdding] = useState(false);
  const query = useQuery({
    ...rightsQueries.tokens(everybody),
    refetchInterval: 5000,
  });
  return (
    <Panel
      title={<span className="text-lg">Tokens</span>}
      aside={
        <span className="flex flex-wrap items-center gap-3">
          {me.admin && (
            <OneOf
              label="Whose"
              value={everybody ? "everybody" : "mine"}
              onChange={(v) => setParams(v === "everybody" ? { of: v } : {}, { replace: true })}
              options={[
                ["mine", "mine"],
                ["everybody", "everybody's"],
              ]}
            />
          )}
          <Button look="strong" onClick={() => setAdding(true)}>
            <Plus size={15} /> New token
          </Button>
        </span>
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No tokens">
              Build tools sign in with a token in the place of a password. Make one for each machine, so that one can be
              revoked alone.
            </Empty>
          ) : (
            <TokenTable all={all} everybody={everybody} />
          )
        }
      </Loaded>
      {adding && <NewToken me={me} close={() => setAdding(false)} />}
    </Panel>
  );
}

const ownerColumn: Column<Schemas["Token"]> = {
  head: "Owner",
  by: (t) => t.owner,
  cell: (t) => (
    <>
      {t.owner}
      {t.robot && <span className="ml-1.5 text-xs text-soft">robot</span>}
    </>
  ),
};

const tokenColumns: Column<Schemas["Token"]>[] = [
  { head: "Name", look: "font-medium wrap-anywhere", by: (t) => t.name, cell: (t) => t.name },
  { head: "Can", by: (t) => t.can.join(), cell: (t) => t.can.join(", ") || "all its owner may" },
  {
    head: "On",
    look: "max-w-64",
    cell: (t) => (
      <>
        {t.on.join(", ") || "all repositories"}
        {t.only.length > 0 && (
          <span className="block font-mono text-xs text-soft wrap-anywhere">{t.only.join(", ")}</span>
        )}
      </>
    ),
  },
  {
    head: "Ends",
    by: (t) => t.expiresAt,
    cell: (t) => (
      <>
        <Time at={t.expiresAt} />
        {t.endsSoon && (
          <span className="ml-1.5 rounded bg-glow-wash px-1.5 text-xs text-glow">
            {new Date(t.expiresAt) < new Date() ? "ended" : "soon"}
          </span>
        )}
      </>
    ),
  },
  {
    head: "Last use",
    by: (t) => t.usedAt,
    cell: (t) =>
      t.usedAt ? (
        <>
          <Time at={t.usedAt} />
          <span className="block max-w-56 truncate text-xs text-soft" title={t.usedClient}>
            from {t.usedFrom} by {t.usedClient || "an unnamed client"}
          </span>
        </>
      ) : (
        <span className="text-soft">never</span>
      ),
  },
];

function TokenTable({ all, everybody }: { all: Schemas["Token"][]; everybody: boolean }) {
  const changed = useChanged();
  const revoke = useMutation({
    mutationFn: (t: Schemas["Token"]) => rightsCalls.revokeToken(t.name, everybody ? t.owner : undefined),
    onSuccess: () => changed({ kind: "access" }),
  });
  return (
    <>
      {revoke.error && (
        <div className="p-4">
          <ErrorNote error={revoke.error} />
        </div>
      )}
      <Table
        name="Tokens"
        rows={all}
        rowKey={(t) => `${t.owner} ${t.name}`}
        columns={[
          ...(everybody ? [ownerColumn] : []),
          ...tokenColumns,
          {
            head: " ",
            right: true,
            cell: (t) => (
              <Button look="danger" disabled={revoke.isPending} onClick={() => revoke.mutate(t)}>
                Revoke
              </Button>
            ),
          },
        ]}
      />
    </>
  );
}

function NewToken({ me, close }: { me: Schemas["Me"]; close: () => void }) {
  const changed = useChanged();
  const users = useQuery({ ...rightsQueries.users(), enabled: me.admin });
  const [made, setMade] = useState<Schemas["MadeToken"]>();
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  if (made) {
    return (
      <Dialog
        open
        onOpenChange={(open) => open || close()}
        title={`Token ${made.name}`}
        description="It is shown this once. Keep it in a personal file or the environment, never in one that is shared."
      >
        <Secret text={made.secret} label="Copy the token" />
        <p className="mb-4 text-sm text-soft">It ends on {moment(made.expiresAt)}.</p>
        <div className="flex justify-end">
          <Button look="strong" onClick={close}>
            I have kept it
          </Button>
        </div>
      </Dialog>
    );
  }
  return (
    <Dialog
      open
      onOpenChange={(open) => open || close()}
      title="New token"
      description="A secret for one machine or tool. It never gives more than its owner has."
    >
      <Form
        start={{ owner: me.name, name: "", can: "read", on: "", only: "", days: "90" }}
        run={({ owner, name, can, on, only, days }) =>
          rightsCalls.addToken({
            name,
            can: can === "all" ? [] : [can],
            on: words(on),
            only: words(only),
            seconds: Number(days) * day,
            ...(owner === me.name ? {} : { for: owner }),
          })
        }
        done={(token) => {
          setMade(token);
          return changed({ kind: "access" });
        }}
        submit="Make it"
      >
        <div className="grid gap-x-4 sm:grid-cols-2">
          {me.admin && (
            <PickField
              name="owner"
              label="For"
              options={[
                [me.name, `${me.name} (you)`],
                ...(users.data ?? []).filter((u) => u.name !== me.name).map((u): [string, string] => [u.name, u.name]),
              ]}
            />
          )}
          <TextField name="name" label="Name" hint="Lower-case letters, digits and hyphens." required autoFocus />
          <ChoiceField
            name="can"
            label="It can"
            options={[
              ["read", "read"],
              ["publish", "read and publish"],
              ["all", "all that its owner may"],
            ]}
          />
          <ChoiceField
            name="days"
            label="It lasts"
            options={[
              ["1", "a day"],
              ["30", "30 days"],
              ["90", "90 days"],
              ["365", "a year"],
            ]}
          />
        </div>
        <TextField name="on" label="Only on repositories" hint="Names or patterns such as shore-*; left empty: all." />
        <TextField name="only" label="Only for packages" hint="Patterns such as pkg:npm/@skerry/*; left empty: all." />
      </Form>
    </Dialog>
  );
}
