import { raw, value, type Schemas } from "../api/client";
import { ask, askPages } from "../api/query";

export const safetyCalls = {
  waive: (body: Schemas["NewWaiver"]) => value(raw.POST("/api/v1/waivers", { body })),
  endWaiver: (id: number) => value(raw.DELETE("/api/v1/waivers/{id}", { params: { path: { id } } })),
  importVEX: (file: File) =>
    value(
      raw.POST("/api/v1/waivers/vex", {
        body: file as unknown as string,
        bodySerializer: (body) => body as unknown as File,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  exportVEX: () => value(raw.GET("/api/v1/waivers/vex", { params: { query: { form: "openvex" } }, parseAs: "text" })),
  vet: (body: Schemas["NewVetting"]) => value(raw.POST("/api/v1/vettings", { body })),
  endVetting: (id: number) => value(raw.DELETE("/api/v1/vettings/{id}", { params: { path: { id } } })),
  askForVetting: (body: Schemas["VettingWish"]) => value(raw.POST("/api/v1/vettings/queue", { body })),
  readLocked: (file: File) =>
    value(
      raw.POST("/api/v1/locked", {
        params: { query: { name: file.name } },
        body: file as unknown as string,
        bodySerializer: (body) => body as unknown as File,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  check: (repository: string, purls: string[]) =>
    value(raw.POST("/api/v1/repositories/{name}/check", { params: { path: { name: repository } }, body: { purls } })),
  lookInside: (repository: string, purl: string) =>
    value(raw.POST("/api/v1/repositories/{name}/looks", { params: { path: { name: repository } }, body: { purl } })),
  addFeed: (body: Schemas["NewFeed"]) => value(raw.POST("/api/v1/feeds", { body })),
  runFeed: (name: string) => value(raw.POST("/api/v1/feeds/{name}/run", { params: { path: { name } } })),
  removeFeed: (name: string) => value(raw.DELETE("/api/v1/feeds/{name}", { params: { path: { name } } })),
  importFile: (file: File) =>
    value(
      raw.POST("/api/v1/advisories", {
        params: { query: { name: file.name } },
        body: file as unknown as string,
        bodySerializer: (body) => body as unknown as File,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
};

/** AdvisoryFilter says which advisories are wanted. */
export type AdvisoryFilter = { words: string; severity: string };

type From = { before?: string; skip?: string };

export const safetyQueries = {
  affected: () =>
    ask(["affected"], { advisory: true, waiver: true, package: true, repository: true, figure: true }, (signal) =>
      value(raw.GET("/api/v1/advisories/affected", { signal })),
    ),
  advisories: (filter: AdvisoryFilter) =>
    askPages(
      ["advisories", filter],
      { advisory: true },
      {} as From,
      (from, signal) =>
        value(
          raw.GET("/api/v1/advisories", {
            params: {
              query: {
                words: filter.words || undefined,
                severity: (filter.severity || undefined) as "low" | "medium" | "high" | "critical" | undefined,
                limit: 50,
                ...from,
              },
            },
            signal,
          }),
        ),
      (last) => {
        const end = last.advisories.at(-1);
        return last.more && end ? { before: end.modified, skip: end.id } : undefined;
      },
    ),
  advisory: (id: string) =>
    ask(["advisory", id], { advisory: true, waiver: true }, (signal) =>
      value(raw.GET("/api/v1/advisories/{id}", { params: { path: { id } }, signal })),
    ),
  waivers: (ended: boolean) =>
    ask(["waivers", ended], { waiver: true }, (signal) =>
      value(raw.GET("/api/v1/waivers", { params: { query: { ended } }, signal })),
    ),
  vettings: (ended: boolean) =>
    ask(["vettings", ended], { vetting: true }, (signal) =>
      value(raw.GET("/api/v1/vettings", { params: { query: { ended } }, signal })),
    ),
  awaiting: () =>
    ask(["awaiting"], { vetting: true, repository: true, advisory: true }, (signal) =>
      value(raw.GET("/api/v1/vettings/queue", { signal })),
    ),
  assessment: (repository: string, purl: string) =>
    ask(["assessment", repository, purl], { vetting: true, repository: true, advisory: true }, (signal) =>
      value(
        raw.GET("/api/v1/repositories/{name}/assessment", {
          params: { path: { name: repository }, query: { purl, needs: true } },
          signal,
        }),
      ),
    ),
  feeds: () => ask(["feeds"], { feed: true }, (signal) => value(raw.GET("/api/v1/feeds", { signal }))),
};
