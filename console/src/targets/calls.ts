import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

const named = (target: string) => ({ params: { path: { target } } });

export const targetsCalls = {
  set: (body: Schemas["NewTarget"]) => value(raw.POST("/api/v1/targets", { body })),
  check: (target: string) => value(raw.POST("/api/v1/targets/{target}/check", named(target))),
  remove: (target: string) => value(raw.DELETE("/api/v1/targets/{target}", named(target))),
};

export const targetsQueries = {
  targets: () => ask(["targets"], { target: true }, (signal) => value(raw.GET("/api/v1/targets", { signal }))),
};
