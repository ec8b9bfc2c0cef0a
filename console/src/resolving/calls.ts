import { raw, value } from "../api/client";

export const resolvingCalls = {
  folder: (name: string, ecosystem: string, path: string, after?: string) =>
    value(
      raw.GET("/api/v1/repositories/{name}/folder", {
        params: { path: { name }, query: { ecosystem, path, after, limit: 200 } },
      }),
    ),
  explain: (name: string, purl: string) =>
    value(raw.GET("/api/v1/repositories/{name}/explain", { params: { path: { name }, query: { purl } } })),
};
