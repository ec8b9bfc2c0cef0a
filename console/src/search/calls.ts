import { raw, value, type Schemas } from "../api/client";

export const searchCalls = {
  search: (q: string, repository?: string, limit = 50, skip = 0) =>
    value(raw.GET("/api/v1/packages", { params: { query: { q, repository, limit, skip } } })),
  ecosystems: () => value(raw.GET("/api/v1/ecosystems")),
  completions: (q: string) => value(raw.GET("/api/v1/searches/completions", { params: { query: { q } } })),
  searches: () => value(raw.GET("/api/v1/searches")),
  saveSearch: (name: string, body: Schemas["SaveSearch"]) =>
    value(raw.PUT("/api/v1/searches/{name}", { params: { path: { name } }, body })),
  forgetSearch: (name: string) => value(raw.DELETE("/api/v1/searches/{name}", { params: { path: { name } } })),
  readme: (purl: string, repository: string) =>
    value(raw.GET("/api/v1/readme", { params: { query: { purl, repository } } })),
  package: (purl: string, after?: string, limit = 100) =>
    value(raw.GET("/api/v1/package", { params: { query: { purl, after, limit } } })),
};
