import { raw, value, type Schemas } from "../api/client";
import { ask, inRepository } from "../api/query";

export const publishingCalls = {
  look: (name: string, body: Schemas["Look"], signal?: AbortSignal) =>
    value(raw.POST("/api/v1/repositories/{name}/look", { params: { path: { name } }, body, signal })),
  withdraw: (name: string, body: Schemas["Withdraw"]) =>
    value(raw.POST("/api/v1/repositories/{name}/withdraw", { params: { path: { name } }, body })),
};

export const publishingQueries = {
  receiving: (repository: string) =>
    ask(["receiving", repository], { package: inRepository(repository) }, (signal) =>
      value(raw.GET("/api/v1/receiving", { params: { query: { repository } }, signal })),
    ),
};
