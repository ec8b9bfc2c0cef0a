import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

export const storeCalls = {
  add: (body: Schemas["NewStore"]) => value(raw.POST("/api/v1/stores", { body })),
  edit: (store: string, body: Schemas["StoreChange"]) =>
    value(raw.PATCH("/api/v1/stores/{store}", { params: { path: { store } }, body })),
  remove: (store: string) => value(raw.DELETE("/api/v1/stores/{store}", { params: { path: { store } } })),
  check: (store: string) => value(raw.POST("/api/v1/stores/{store}/checks", { params: { path: { store } } })),
  verify: (body: Schemas["NewVerification"]) => value(raw.POST("/api/v1/verifications", { body })),
  move: (body: Schemas["NewStoreMove"]) => value(raw.POST("/api/v1/store-moves", { body })),
};

export const storeQueries = {
  stores: () =>
    ask(["stores"], { store: true, repository: true }, (signal) => value(raw.GET("/api/v1/stores", { signal }))),
  verifications: () =>
    ask(["verifications"], { store: true }, (signal) => value(raw.GET("/api/v1/verifications", { signal }))),
  damages: () => ask(["damages"], { store: true }, (signal) => value(raw.GET("/api/v1/damages", { signal }))),
  moves: () => ask(["store-moves"], { store: true }, (signal) => value(raw.GET("/api/v1/store-moves", { signal }))),
};
