import { raw, value } from "../api/client";
import { ask, inRepository } from "../api/query";

export const pointingQueries = {
  clients: () => ask(["clients"], {}, (signal) => value(raw.GET("/api/v1/clients", { signal }))),
  setup: (name: string, client: string, ecosystem: string, publish: boolean, purl?: string) =>
    ask(
      ["point", name, client, ecosystem, publish, purl ?? ""],
      { repository: inRepository(name), access: true },
      (signal) =>
        value(
          raw.GET("/api/v1/repositories/{name}/point", {
            params: { path: { name }, query: { client, ecosystem, publish, purl } },
            signal,
          }),
        ),
    ),
};
