import { raw, value } from "../api/client";
import { ask, askPages } from "../api/query";

export const buildsCalls = {
  removeBuild: (build: string, number: string) =>
    value(raw.DELETE("/api/v1/builds/{build}/{number}", { params: { path: { build, number } } })),
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
};

export const buildsQueries = {
  builds: (q: string) =>
    askPages(
      ["builds", q],
      { build: true, promotion: true, package: true },
      undefined as number | undefined,
      (before, signal) => value(raw.GET("/api/v1/builds", { params: { query: { q, before, limit: 50 } }, signal })),
      (last) => last.before,
    ),
  build: (build: string, number: string) =>
    ask(["build", build, number], { build: true, promotion: true, package: true }, (signal) =>
      value(raw.GET("/api/v1/builds/{build}/{number}", { params: { path: { build, number } }, signal })),
    ),
  names: () =>
    ask(["build-names"], { build: true, access: true }, (signal) => value(raw.GET("/api/v1/builds/names", { signal }))),
  comparison: (build: string, number: string, to: string) =>
    ask(["compare", build, number, to], {}, (signal) =>
      value(
        raw.GET("/api/v1/builds/{build}/{number}/difference", {
          params: { path: { build, number }, query: { to } },
          signal,
        }),
      ),
    ),
};
