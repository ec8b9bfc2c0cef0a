import { raw, value, type Schemas } from "../api/client";

export const mirrorsCalls = {
  mirror: (name: string, hours: number) =>
    value(raw.GET("/api/v1/repositories/{name}/mirror", { params: { path: { name }, query: { hours } } })),
  checkMirror: (body: Schemas["Check"]) => value(raw.POST("/api/v1/mirrors/check", { body })),
  tryPatterns: (name: string, body: Schemas["Try"]) =>
    value(raw.POST("/api/v1/repositories/{name}/try", { params: { path: { name } }, body })),
  forget: (name: string, purl: string) =>
    value(raw.POST("/api/v1/repositories/{name}/forget", { params: { path: { name } }, body: { purl } })),
  prefetchRuns: (name: string) =>
    value(raw.GET("/api/v1/repositories/{name}/prefetch", { params: { path: { name } } })),
  prefetch: (name: string) => value(raw.POST("/api/v1/repositories/{name}/prefetch", { params: { path: { name } } })),
};
