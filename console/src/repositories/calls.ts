import { raw, value, type Schemas } from "../api/client";

export const repositoriesCalls = {
  repositories: () => value(raw.GET("/api/v1/repositories")),
  repository: (name: string) => value(raw.GET("/api/v1/repositories/{name}", { params: { path: { name } } })),
  addRepository: (body: Schemas["NewRepository"]) => value(raw.POST("/api/v1/repositories", { body })),
  editRepository: (name: string, body: Schemas["RepositoryChange"]) =>
    value(raw.PATCH("/api/v1/repositories/{name}", { params: { path: { name } }, body })),
  removeRepository: (name: string, withContents: boolean) =>
    value(raw.DELETE("/api/v1/repositories/{name}", { params: { path: { name }, query: { withContents } } })),
  removedRepositories: () => value(raw.GET("/api/v1/removals/repositories")),
  bringRepositoryBack: (name: string) =>
    value(raw.POST("/api/v1/repositories/{name}/undo", { params: { path: { name } } })),
  claims: () => value(raw.GET("/api/v1/claims")),
  addClaim: (body: Schemas["NewClaim"]) => value(raw.POST("/api/v1/claims", { body })),
  liftClaim: (body: Schemas["NewClaim"]) => value(raw.POST("/api/v1/claims/lift", { body })),
  claimedNames: (name: string, q: string) =>
    value(raw.GET("/api/v1/repositories/{name}/claimed-names", { params: { path: { name }, query: { q } } })),
};
