import { raw, value } from "../api/client";
import { ask } from "../api/query";

export const nodesCalls = {
  drain: (node: string, draining: boolean) =>
    value(raw.PATCH("/api/v1/nodes/{node}", { params: { path: { node } }, body: { draining } })),
};

export const nodesQueries = {
  nodes: () => ask(["nodes"], { node: true }, (signal) => value(raw.GET("/api/v1/nodes", { signal }))),
};
