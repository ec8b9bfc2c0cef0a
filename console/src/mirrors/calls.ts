import { raw, value, type Schemas } from "../api/client";
import { ask, inRepository } from "../api/query";

export const mirrorsCalls = {
  checkMirror: (body: Schemas["Check"]) => value(raw.POST("/api/v1/mirrors/check", { body })),
  tryPatterns: (name: string, body: Schemas["Try"]) =>
    value(raw.POST("/api/v1/repositories/{name}/try", { params: { path: { name } }, body })),
  forget: (name: string, purl: string) =>
    value(raw.POST("/api/v1/repositories/{name}/forget", { params: { path: { name } }, body: { purl } })),
  prefetch: (name: string) => value(raw.POST("/api/v1/repositories/{name}/prefetch", { params: { path: { name } } })),
};

export const mirrorsQueries = {
  mirror: (name: string, hours: number) =>
    ask(["mirror", name, hours], { mirror: inRepository(name), repository: inRepository(name) }, (signal) =>
      value(raw.GET("/api/v1/repositories/{name}/mirror", { params: { path: { name }, query: { hours } }, signal })),
    ),
  prefetchRuns: (name: string) =>
    ask(["prefetch", name], { mirror: inRepository(name) }, (signal) =>
      value(raw.GET("/api/v1/repositories/{name}/prefetch", { params: { path: { name } }, signal })),
    ),
};
