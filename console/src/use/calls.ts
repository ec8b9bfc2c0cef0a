import { raw, value } from "../api/client";

export const useCalls = {
  use: (query: {
    repository?: string;
    purl?: string;
    from?: string;
    by?: "day" | "client" | "who" | "version" | "repository";
  }) => value(raw.GET("/api/v1/use", { params: { query: { by: "day", ...query } } })),
  usedPackages: (order: "top" | "rising" | "falling" | "unused", from?: string) =>
    value(raw.GET("/api/v1/packages/used", { params: { query: { order, from, limit: 20 } } })),
  whoUses: (purl: string, repository?: string) =>
    value(raw.GET("/api/v1/packages/users", { params: { query: { purl, repository } } })),
  space: (days: number) => value(raw.GET("/api/v1/space", { params: { query: { days } } })),
};
