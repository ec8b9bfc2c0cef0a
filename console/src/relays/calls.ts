import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

const named = (name: string) => ({ params: { path: { name } } });

export const relaysCalls = {
  add: (body: Schemas["NewRelay"]) => value(raw.POST("/api/v1/relays", { body })),
  edit: (name: string, body: Schemas["RelayChange"]) =>
    value(raw.PATCH("/api/v1/relays/{name}", { ...named(name), body })),
  remove: (name: string) => value(raw.DELETE("/api/v1/relays/{name}", named(name))),
  check: (name: string) => value(raw.POST("/api/v1/relays/{name}/check", named(name))),
  run: (name: string) => value(raw.POST("/api/v1/relays/{name}/run", named(name))),
};

export const relaysQueries = {
  relays: () => ask(["relays"], { relay: true }, (signal) => value(raw.GET("/api/v1/relays", { signal }))),
  relay: (name: string) =>
    ask(["relay", name], { relay: true }, (signal) =>
      value(raw.GET("/api/v1/relays/{name}", { ...named(name), signal })),
    ),
  versions: (name: string, state: Schemas["RelayedVersion"]["state"]) =>
    ask(["relay", name, "versions", state], { relay: true }, (signal) =>
      value(raw.GET("/api/v1/relays/{name}/versions", { params: { path: { name }, query: { state } }, signal })),
    ),
};
