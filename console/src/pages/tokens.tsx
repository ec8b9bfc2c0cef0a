import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { api, type Schemas } from "../api/client";
import { Choice, Dialog, Field, TextInput } from "../ui/dialog";
import { moment } from "../ui/format";
import { Button, CopyButton, Empty, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";

const day = 86400;

export function TokensPage() {
  usePageTitle("Tokens");
  const queries = useQueryClient();
  const [adding, setAdding] = useState(false);
  const query = useQuery({ queryKey: ["tokens"], queryFn: api.tokens });
  const revoke = useMutation({ mutationFn: api.revokeToken, onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }) });
  return (
    <Panel title={<span className="text-lg">My tokens</span>} aside={<Button look="strong" onClick={() => setAdding(true)}><Plus size={15} /> New token</Button>}>
      {revoke.error && <div className="p-4"><ErrorNote error={revoke.error} /></div>}
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No tokens">Build tools sign in with a token in the place of a password. Make one for each machine, so that one can be revoked alone.</Empty>
          ) : (
            <div className="relative overflow-x-auto">
              <table className="w-full text-left text-sm">
                <thead className="text-xs text-soft">
                  <tr className="border-b border-rule">
                    {["Name", "Can", "On", "Ends", "Last use", ""].map((h) => <th key={h} className="px-4 py-2 font-medium">{h}</th>)}
                  </tr>
                </thead>
                <tbody>
                  {all.map((t) => (
                    <tr key={t.name} className="border-b border-rule last:border-0">
                      <td className="px-4 py-2 font-medium">{t.name}</td>
                      <td className="px-4 py-2">{t.can.join(", ") || "all you may"}</td>
                      <td className="px-4 py-2">{t.on.join(", ") || "all repositories"}</td>
                      <td className="px-4 py-2"><Time at={t.expiresAt} /></td>
                      <td className="px-4 py-2">{t.usedAt ? <><Time at={t.usedAt} /> <span className="text-xs text-soft">from {t.usedFrom}</span></> : <span className="text-soft">never</span>}</td>
                      <td className="px-4 py-2 text-right"><Button look="danger" disabled={revoke.isPending} onClick={() => revoke.mutate(t.name)}>Revoke</Button></td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
      <NewToken open={adding} onOpenChange={setAdding} />
    </Panel>
  );
}

function NewToken({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [can, setCan] = useState("read");
  const [days, setDays] = useState("90");
  const [made, setMade] = useState<Schemas["MadeToken"]>();
  const add = useMutation({
    mutationFn: () => api.addToken({ name, can: can === "all" ? [] : [can], seconds: Number(days) * day }),
    onSuccess: (token) => {
      setMade(token);
      void queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  const close = (value: boolean) => {
    onOpenChange(value);
    setMade(undefined);
    setName("");
    add.reset();
  };
  if (made) {
    return (
      <Dialog open={open} onOpenChange={close} title={`Token ${made.name}`} description="It is shown this once. Keep it in a personal file or the environment, never in one that is shared.">
        <div className="mb-3 flex items-center gap-2 rounded border border-rule bg-paper px-3 py-2">
          <code className="font-mono text-sm break-all">{made.secret}</code><CopyButton text={made.secret} label="Copy the token" />
        </div>
        <p className="mb-4 text-sm text-soft">It ends on {moment(made.expiresAt)}.</p>
        <div className="flex justify-end"><Button look="strong" onClick={() => close(false)}>I have kept it</Button></div>
      </Dialog>
    );
  }
  return (
    <Dialog open={open} onOpenChange={close} title="New token" description="A secret for one machine or tool.">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Field label="Name" hint="Lower-case letters, digits and hyphens."><TextInput required autoFocus value={name} onChange={(e) => setName(e.target.value)} /></Field>
        <Field label="It can"><Choice value={can} onChange={setCan} options={[["read", "read"], ["publish", "read and publish"], ["all", "all that I may"]]} /></Field>
        <Field label="It lasts"><Choice value={days} onChange={setDays} options={[["1", "a day"], ["30", "30 days"], ["90", "90 days"], ["365", "a year"]]} /></Field>
        {add.error && <div className="mb-3"><ErrorNote error={add.error} /></div>}
        <div className="flex justify-end gap-2">
          <Button onClick={() => close(false)}>Cancel</Button>
          <Button type="submit" look="strong" disabled={add.isPending}>Make it</Button>
        </div>
      </form>
    </Dialog>
  );
}
