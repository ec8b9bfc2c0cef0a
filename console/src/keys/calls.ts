import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

export const keysCalls = {
  addKey: (body: Schemas["NewKey"]) => value(raw.POST("/api/v1/keys", { body })),
  removeKey: (key: string) => value(raw.DELETE("/api/v1/keys/{key}", { params: { path: { key } } })),
};

export const keysQueries = {
  keys: () => ask(["keys"], { key: true }, (signal) => value(raw.GET("/api/v1/keys", { signal }))),
};
