import { raw, value } from "../api/client";
import { ask, inRepository } from "../api/query";

export const resolvingCalls = {
  explain: (name: string, purl: string) =>
    value(raw.GET("/api/v1/repositories/{name}/explain", { params: { path: { name }, query: { purl } } })),
};

export const resolvingQueries = {
  /** folder is a page of one; a chain shows what is in other repositories. */
  folder: (name: string, isChain: boolean, ecosystem: string, path: string, after: string) =>
    ask(
      ["folder", name, ecosystem, path, after],
      {
        repository: inRepository(name, isChain),
        package: (change) =>
          inRepository(name, isChain)(change) && (!change.ecosystem || change.ecosystem === ecosystem),
      },
      (signal) =>
        value(
          raw.GET("/api/v1/repositories/{name}/folder", {
            params: { path: { name }, query: { ecosystem, path, after, limit: 200 } },
            signal,
          }),
        ),
    ),
};
