import { raw, value, type Schemas } from "../api/client";

export const publishingCalls = {
  look: (name: string, body: Schemas["Look"]) =>
    value(raw.POST("/api/v1/repositories/{name}/look", { params: { path: { name } }, body })),
  withdraw: (name: string, body: Schemas["Withdraw"]) =>
    value(raw.POST("/api/v1/repositories/{name}/withdraw", { params: { path: { name } }, body })),
  receiving: (repository: string) => value(raw.GET("/api/v1/receiving", { params: { query: { repository } } })),
};
