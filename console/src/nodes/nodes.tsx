import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { nodesCalls, nodesQueries } from "./calls";
import { Confirm } from "../ui/dialog";
import { bytes } from "../ui/format";
import { Button, Loaded, Panel, Time } from "../ui/parts";
import { type Column, Table } from "../ui/table";

const looks: Record<Schemas["Node"]["state"], string> = {
  serving: "bg-good",
  draining: "bg-glow",
  drained: "bg-glow",
  lost: "bg-bad",
};

/** Nodes shows the programs that serve together, and takes one out. */
export function Nodes() {
  const query = useQuery({ ...nodesQueries.nodes(), refetchInterval: 5_000 });
  const changed = useChanged();
  const [draining, setDraining] = useState<Schemas["Node"]>();
  const columns: Column<Schemas["Node"]>[] = [
    {
      head: "Node",
      by: (n) => n.name,
      cell: (n) => (
        <>
          <span className="font-medium">{n.name}</span>
          {n.here && <span className="ml-2 text-xs text-soft">answers this</span>}
          <span className="block font-mono text-xs text-soft">{n.address}</span>
        </>
      ),
    },
    { head: "Version", from: "md", by: (n) => n.version, cell: (n) => n.version },
    { head: "Since", from: "md", by: (n) => n.since, cell: (n) => <Time at={n.since} /> },
    {
      head: "State",
      by: (n) => n.state,
      cell: (n) => (
        <span className="inline-flex items-center gap-2">
          <span aria-hidden className={`size-2.5 rounded-full ${looks[n.state]}`} />
          {n.state}
        </span>
      ),
    },
    { head: "Requests", right: true, by: (n) => n.requests, cell: (n) => n.requests },
    { head: "In a minute", right: true, from: "sm", by: (n) => n.answered, cell: (n) => n.answered },
    { head: "Memory", right: true, from: "sm", by: (n) => n.memory, cell: (n) => bytes(n.memory) },
    { head: "Does", from: "md", cell: (n) => n.doing.join(", ") },
    {
      head: "Take out",
      right: true,
      cell: (n) =>
        n.state === "serving" ? (
          <Button onClick={() => setDraining(n)}>Take out…</Button>
        ) : n.state === "lost" ? (
          ""
        ) : (
          <Button onClick={() => void nodesCalls.drain(n.id, false).then(() => changed({ kind: "node" }))}>
            Let it serve
          </Button>
        ),
    },
  ];
  return (
    <Panel title="Nodes">
      <Loaded query={query}>
        {(all) => <Table name="Nodes" dense rows={all} rowKey={(n) => n.id} columns={columns} />}
      </Loaded>
      {draining && (
        <Confirm
          title={`Take ${draining.name} out?`}
          text="It says that it is not ready, so that what stands before it sends it nothing more, finishes what it does, and begins nothing in the background. Then it can be stopped."
          what="Take it out"
          run={() => nodesCalls.drain(draining.id, true).then(() => changed({ kind: "node" }))}
          close={() => setDraining(undefined)}
        />
      )}
    </Panel>
  );
}
