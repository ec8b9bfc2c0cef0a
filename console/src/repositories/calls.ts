import { raw, value, type Schemas } from "../api/client";
import { ask, inRepository } from "../api/query";

export const repositoriesCalls = {
  addRepository: (body: Schemas["NewRepository"]) => value(raw.POST("/api/v1/repositories", { body })),
  editRepository: (name: string, body: Schemas["RepositoryChange"]) =>
    value(raw.PATCH("/api/v1/repositories/{name}", { params: { path: { name } }, body })),
  removeRepository: (name: string, withContents: boolean) =>
    value(raw.DELETE("/api/v1/repositories/{name}", { params: { path: { name }, query: { withContents } } })),
  bringRepositoryBack: (name: string) =>
    value(raw.POST("/api/v1/repositories/{name}/undo", { params: { path: { name } } })),
  addClaim: (body: Schemas["NewClaim"]) => value(raw.POST("/api/v1/claims", { body })),
  liftClaim: (body: Schemas["NewClaim"]) => value(raw.POST("/api/v1/claims/lift", { body })),
};

export const repositoriesQueries = {
  repositories: () =>
    ask(["repositories"], { repository: true, package: true, mirror: true, access: true }, (signal) =>
      value(raw.GET("/api/v1/repositories", { signal })),
    ),
  repository: (name: string) =>
    ask<Schemas["Repository"]>(
      ["repository", name],
      {
        repository: true, // a chain is told of by what becomes of its members
        package: (change, now) => inRepository(name, now?.kind === "chain")(change),
        mirror: inRepository(name),
        access: true,
      },
      (signal) => value(raw.GET("/api/v1/repositories/{name}", { params: { path: { name } }, signal })),
    ),
  removed: () =>
    ask(["removed-repositories"], { repository: true }, (signal) =>
      value(raw.GET("/api/v1/removals/repositories", { signal })),
    ),
  claims: () => ask(["claims"], { repository: true }, (signal) => value(raw.GET("/api/v1/claims", { signal }))),
  claimedNames: (name: string, q: string) =>
    ask(["claimed", name, q], { repository: true, package: true }, (signal) =>
      value(raw.GET("/api/v1/repositories/{name}/claimed-names", { params: { path: { name }, query: { q } }, signal })),
    ),
};
