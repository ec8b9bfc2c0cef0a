import { raw, value, type Schemas } from "../api/client";
import { ask, askPages } from "../api/query";

export const retentionCalls = {
  removeVersion: (name: string, purl: string) =>
    value(raw.POST("/api/v1/repositories/{name}/removals", { params: { path: { name } }, body: { purl } })),
  setPolicy: (body: Schemas["SetPolicy"]) => value(raw.PUT("/api/v1/policies", { body })),
  removePolicy: (policy: string) => value(raw.DELETE("/api/v1/policies/{policy}", { params: { path: { policy } } })),
  planLines: (body: Schemas["PlanRequest"]) =>
    value(
      raw.POST("/api/v1/sweeps/plans/lines", { body, parseAs: "blob", headers: { Accept: "text/csv" } }),
    ) as Promise<unknown> as Promise<Blob>,
  runSweep: (body: Schemas["RunSweep"]) => value(raw.POST("/api/v1/sweeps", { body })),
  stopSweep: (id: number) => value(raw.POST("/api/v1/sweeps/{id}/stop", { params: { path: { id } } })),
  undoSweep: (id: number, purls: string[]) =>
    value(raw.POST("/api/v1/sweeps/{id}/undo", { params: { path: { id } }, body: { purls } })),
  setPin: (body: Schemas["SetPin"]) => value(raw.PUT("/api/v1/pins", { body })),
  reclaim: () => value(raw.POST("/api/v1/reclaimings", { params: { query: { now: false } } })),
};

export type ItemState = Schemas["SweepItem"]["state"];

export const retentionQueries = {
  policies: () =>
    ask(["policies"], { policy: true, sweep: true, repository: true }, (signal) =>
      value(raw.GET("/api/v1/policies", { signal })),
    ),
  policy: (policy: string) =>
    ask(["policy", policy], { policy: true, sweep: true }, (signal) =>
      value(raw.GET("/api/v1/policies/{policy}", { params: { path: { policy } }, signal })),
    ),
  /** forms are what a policy is written with. */
  forms: () => ask(["reasons"], {}, (signal) => value(raw.GET("/api/v1/reasons", { signal }))),
  /** plan is what a policy would do; it is costly, so what is published meanwhile does not ask for it again. */
  plan: (key: readonly unknown[], body: Schemas["PlanRequest"]) =>
    ask(["plan", ...key], { policy: true, pin: true, sweep: true }, (signal) =>
      value(raw.POST("/api/v1/sweeps/plans", { body, signal })),
    ),
  sweeps: () =>
    ask(["sweeps"], { sweep: true }, (signal) =>
      value(raw.GET("/api/v1/sweeps", { params: { query: { limit: 100 } }, signal })),
    ),
  sweep: (id: number) =>
    ask(["sweep", id], { sweep: true }, (signal) =>
      value(raw.GET("/api/v1/sweeps/{id}", { params: { path: { id }, query: { limit: 1 } }, signal })),
    ),
  items: (id: number, state: ItemState | undefined) =>
    askPages(
      ["sweep", id, "items", state ?? ""],
      { sweep: true },
      -1,
      (after, signal) =>
        value(
          raw.GET("/api/v1/sweeps/{id}", { params: { path: { id }, query: { state, after, limit: 100 } }, signal }),
        ),
      (last) => last.after,
    ),
  pins: () => ask(["pins"], { pin: true, package: true }, (signal) => value(raw.GET("/api/v1/pins", { signal }))),
  reclaimings: () =>
    ask(["reclaimings"], { sweep: true }, (signal) => value(raw.GET("/api/v1/reclaimings", { signal }))),
};
