import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

export const quotaCalls = {
  set: (about: string, body: Schemas["QuotaChange"]) =>
    value(raw.PUT("/api/v1/quotas/{about}", { params: { path: { about } }, body })),
  remove: (about: string) => value(raw.DELETE("/api/v1/quotas/{about}", { params: { path: { about } } })),
};

export const quotaQueries = {
  quotas: () =>
    ask(["quotas"], { quota: true, repository: true, sweep: true }, (signal) =>
      value(raw.GET("/api/v1/quotas", { signal })),
    ),
  quota: (about: string) =>
    ask(["quota", about], { quota: true, sweep: true }, (signal) =>
      value(raw.GET("/api/v1/quotas/{about}", { params: { path: { about } }, signal })),
    ),
};
