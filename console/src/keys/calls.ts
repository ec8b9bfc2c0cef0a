import { raw, value, type Schemas } from "../api/client";

export const keysCalls = {
  keys: () => value(raw.GET("/api/v1/keys")),
  addKey: (body: Schemas["NewKey"]) => value(raw.POST("/api/v1/keys", { body })),
  removeKey: (key: string) => value(raw.DELETE("/api/v1/keys/{key}", { params: { path: { key } } })),
};
