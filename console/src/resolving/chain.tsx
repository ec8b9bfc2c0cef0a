import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesCalls, repositoriesQueries } from "../repositories/calls";
import { Explain } from "./explained";
import { Order } from "../ui/order";
import { Button, ErrorNote, Panel } from "../ui/parts";

/** ChainOrder shows what stands behind a chain, and lets a name be tried in it. */
export function ChainOrder({ repository: r }: { repository: Schemas["Repository"] }) {
  const changed = useChanged();
  const saved = r.chain!.members;
  const [members, setMembers] = useState<Schemas["Member"][] | null>(null);
  const all = useQuery(repositoriesQueries.repositories());
  const save = useMutation({
    mutationFn: () => repositoriesCalls.editRepository(r.name, { chain: { members: members! } }),
    onSuccess: async () => {
      await changed({ kind: "repository" });
      setMembers(null);
    },
  });
  const manage = r.may.includes("manage");
  const describe = (name: string) => {
    const of = all.data?.find((o) => o.name === name);
    if (!of) return null;
    if (of.kind === "house") return `house, holds ${of.holds === "both" ? "snapshots and releases" : of.holds}`;
    if (of.kind === "chain") return `chain: ${of.chain!.members.map((m) => m.name).join(", ")}`;
    const failing = of.mirror!.contacts.filter((c) => c.state === "failing").length === of.mirror!.contacts.length;
    return (
      <span className={failing ? "text-bad" : ""}>
        mirror of {of.mirror!.upstreams[0]}
        {failing && ", which fails"}
      </span>
    );
  };
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[repeat(2,minmax(0,1fr))]">
      <Panel
        title="Order"
        aside={<span className="text-xs text-soft">the first that has a version answers for all of it</span>}
      >
        <Order
          members={members ?? saved}
          onChange={manage ? setMembers : undefined}
          describe={describe}
          candidates={(all.data ?? []).filter((o) => o.name !== r.name).map((o) => o.name)}
        />
        {save.error && (
          <div className="p-3">
            <ErrorNote error={save.error} />
          </div>
        )}
        {manage && (
          <div className="flex items-center gap-3 border-t border-rule p-3">
            <Button look="strong" disabled={!members || save.isPending} onClick={() => save.mutate()}>
              Save the order
            </Button>
            {members && <Button onClick={() => setMembers(null)}>Leave it as it was</Button>}
            <span role="status" className="text-sm text-soft">
              {members ? "Not saved yet." : save.isSuccess ? "Saved; it is in force now." : "Drag, or Alt with ↑ ↓."}
            </span>
          </div>
        )}
        <p className="border-t border-rule px-4 py-2.5 text-sm text-soft">
          Published here: releases go to {r.chain!.releasesTo || "nowhere"}, snapshots to{" "}
          {r.chain!.snapshotsTo || "nowhere"}.
        </p>
      </Panel>
      <Panel title="Try a name">
        <Explain repository={r.name} ecosystem={r.ecosystems.length === 1 ? r.ecosystems[0] : undefined} />
      </Panel>
    </div>
  );
}
