import { raw, value } from "../api/client";

export const pointingCalls = {
  clients: () => value(raw.GET("/api/v1/clients")),
  point: (name: string, client: string, ecosystem: string, publish: boolean, purl?: string) =>
    value(
      raw.GET("/api/v1/repositories/{name}/point", {
        params: { path: { name }, query: { client, ecosystem, publish, purl } },
      }),
    ),
};
