import { raw, value } from "../api/client";
import { ask } from "../api/query";

type Question = { repository?: string; purl?: string; from?: string };

/** What is used is counted all the time, and never told of. */
export const usedQueries = {
  use: ({ repository, purl, from }: Question, by: "day" | "client" | "who" = "day") =>
    ask(["use", purl, repository, from, by], {}, (signal) =>
      value(raw.GET("/api/v1/use", { params: { query: { repository, purl, from, by } }, signal })),
    ),
  usedPackages: (order: "top" | "rising" | "falling" | "unused", from?: string) =>
    ask(["used", order, from], {}, (signal) =>
      value(raw.GET("/api/v1/packages/used", { params: { query: { order, from, limit: 20 } }, signal })),
    ),
  whoUses: (purl: string, repository: string) =>
    ask(["who-uses", purl, repository], { build: true }, (signal) =>
      value(raw.GET("/api/v1/packages/users", { params: { query: { purl, repository } }, signal })),
    ),
  space: (days: number) =>
    ask(["space", days], { sweep: true, repository: true, figure: true }, (signal) =>
      value(raw.GET("/api/v1/space", { params: { query: { days } }, signal })),
    ),
};
