import { raw, value, type Schemas } from "../api/client";

export const retentionCalls = {
  removeVersion: (name: string, purl: string) =>
    value(raw.POST("/api/v1/repositories/{name}/removals", { params: { path: { name } }, body: { purl } })),
  policies: () => value(raw.GET("/api/v1/policies")),
  policy: (policy: string) => value(raw.GET("/api/v1/policies/{policy}", { params: { path: { policy } } })),
  setPolicy: (body: Schemas["SetPolicy"]) => value(raw.PUT("/api/v1/policies", { body })),
  removePolicy: (policy: string) => value(raw.DELETE("/api/v1/policies/{policy}", { params: { path: { policy } } })),
  planSweep: (body: Schemas["PlanRequest"]) => value(raw.POST("/api/v1/sweeps/plans", { body })),
  planLines: (body: Schemas["PlanRequest"]) =>
    value(
      raw.POST("/api/v1/sweeps/plans/lines", { body, parseAs: "blob", headers: { Accept: "text/csv" } }),
    ) as Promise<unknown> as Promise<Blob>,
  sweeps: (policy?: string) => value(raw.GET("/api/v1/sweeps", { params: { query: { policy, limit: 100 } } })),
  runSweep: (body: Schemas["RunSweep"]) => value(raw.POST("/api/v1/sweeps", { body })),
  sweep: (id: number, state?: Schemas["SweepItem"]["state"], after = -1) =>
    value(raw.GET("/api/v1/sweeps/{id}", { params: { path: { id }, query: { state, after, limit: 100 } } })),
  stopSweep: (id: number) => value(raw.POST("/api/v1/sweeps/{id}/stop", { params: { path: { id } } })),
  undoSweep: (id: number, purls: string[]) =>
    value(raw.POST("/api/v1/sweeps/{id}/undo", { params: { path: { id } }, body: { purls } })),
  pins: () => value(raw.GET("/api/v1/pins")),
  setPin: (body: Schemas["SetPin"]) => value(raw.PUT("/api/v1/pins", { body })),
  reclaimings: () => value(raw.GET("/api/v1/reclaimings")),
  reclaim: () => value(raw.POST("/api/v1/reclaimings", { params: { query: { now: false } } })),
};
