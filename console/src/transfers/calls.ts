import { raw, value, type Schemas } from "../api/client";
import { ask, askPages } from "../api/query";

/** Which versions of a transfer are wanted; "" is all. */
export type Which = Schemas["TransferItem"]["state"] | "outside" | "";

export const transfersCalls = {
  begin: (body: Schemas["NewTransferRun"]) => value(raw.POST("/api/v1/transfers", { body })),
  stop: (id: number) => value(raw.DELETE("/api/v1/transfers/{id}", { params: { path: { id } } })),
};

export const transfersQueries = {
  transfers: () => ask(["transfers"], { transfer: true }, (signal) => value(raw.GET("/api/v1/transfers", { signal }))),
  transfer: (id: number) =>
    ask(["transfer", id], { transfer: true }, (signal) =>
      value(raw.GET("/api/v1/transfers/{id}", { params: { path: { id } }, signal })),
    ),
  versions: (id: number, which: Which) =>
    askPages(
      ["transfer", id, "versions", which],
      { transfer: true },
      0,
      (after, signal) =>
        value(
          raw.GET("/api/v1/transfers/{id}/versions", {
            params: { path: { id }, query: { state: which || undefined, after } },
            signal,
          }),
        ),
      (last) => (last.more ? last.items.at(-1)?.n : undefined),
    ),
};
