import { raw, value } from "../api/client";

export const buildsCalls = {
  builds: (q: string, before?: number) =>
    value(raw.GET("/api/v1/builds", { params: { query: { q, before, limit: 50 } } })),
  build: (build: string, number: string) =>
    value(raw.GET("/api/v1/builds/{build}/{number}", { params: { path: { build, number } } })),
  removeBuild: (build: string, number: string) =>
    value(raw.DELETE("/api/v1/builds/{build}/{number}", { params: { path: { build, number } } })),
  buildNames: () => value(raw.GET("/api/v1/builds/names")),
  giveBuildName: (build: string, owner: string) =>
    value(raw.PUT("/api/v1/builds/names/{build}", { params: { path: { build } }, body: { owner } })),
  attachDocument: (build: string, number: string, file: File) =>
    value(
      raw.POST("/api/v1/builds/{build}/{number}/documents", {
        params: { path: { build, number }, query: { name: file.name } },
        body: file as unknown as string, // the description knows only that it is bytes
        bodySerializer: (body) => body,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  /** document is the content of one, as it was attached. */
  document: (build: string, number: string, document: number) =>
    value(
      raw.GET("/api/v1/builds/{build}/{number}/documents/{document}", {
        params: { path: { build, number, document } },
        parseAs: "blob",
      }),
    ) as Promise<Blob>,
  compareBuilds: (build: string, number: string, to: string) =>
    value(
      raw.GET("/api/v1/builds/{build}/{number}/difference", { params: { path: { build, number }, query: { to } } }),
    ),
};
