import { raw, value, type Schemas } from "../api/client";
import { ask, askPages } from "../api/query";

/** EventFilter selects lines of the activity record; what is left out selects all. */
export type EventFilter = { since?: string; who?: string; action?: string; repository?: string; subject?: string };

/** Action is what a right lets somebody do. */
export type Action = "read" | "publish" | "promote" | "remove" | "manage";

export const rightsCalls = {
  signIn: (body: Schemas["SignIn"]) => value(raw.POST("/api/v1/session", { body })),
  signOut: () => value(raw.DELETE("/api/v1/session")),
  addToken: (body: Schemas["NewToken"]) => value(raw.POST("/api/v1/tokens", { body })),
  revokeToken: (token: string, owner?: string) =>
    value(raw.DELETE("/api/v1/tokens/{token}", { params: { path: { token }, query: { for: owner } } })),
  changePassword: (body: Schemas["PasswordChange"]) => value(raw.PUT("/api/v1/me/password", { body })),
  signOutEverywhere: (owner: string, tokens: boolean) =>
    value(raw.POST("/api/v1/sign-out", { params: { query: { for: owner, tokens } } })),
  addUser: (body: Schemas["NewUser"]) => value(raw.POST("/api/v1/users", { body })),
  editUser: (name: string, body: Schemas["UserChange"]) =>
    value(raw.PATCH("/api/v1/users/{name}", { params: { path: { name } }, body })),
  removeUser: (name: string) => value(raw.DELETE("/api/v1/users/{name}", { params: { path: { name } } })),
  givePassword: (name: string) => value(raw.POST("/api/v1/users/{name}/password", { params: { path: { name } } })),
  addTeam: (body: Schemas["NewTeam"]) => value(raw.POST("/api/v1/teams", { body })),
  editTeam: (name: string, body: Schemas["TeamChange"]) =>
    value(raw.PATCH("/api/v1/teams/{name}", { params: { path: { name } }, body })),
  removeTeam: (name: string) => value(raw.DELETE("/api/v1/teams/{name}", { params: { path: { name } } })),
  addGrant: (body: Schemas["NewGrant"]) => value(raw.POST("/api/v1/grants", { body })),
  removeGrant: (id: number) => value(raw.DELETE("/api/v1/grants/{id}", { params: { path: { id } } })),
  verifyEvents: () => value(raw.GET("/api/v1/events/chain")),
};

export const rightsQueries = {
  me: () => ask(["me"], { access: true }, (signal) => value(raw.GET("/api/v1/me", { signal }))),
  tokens: (everybody: boolean) =>
    ask(["tokens", everybody], { access: true }, (signal) =>
      value(everybody ? raw.GET("/api/v1/tokens/all", { signal }) : raw.GET("/api/v1/tokens", { signal })),
    ),
  firstSteps: () =>
    ask(["first-steps"], { repository: true, package: true, access: true }, (signal) =>
      value(raw.GET("/api/v1/first-steps", { signal })),
    ),
  users: () => ask(["users"], { access: true }, (signal) => value(raw.GET("/api/v1/users", { signal }))),
  teams: () => ask(["teams"], { access: true }, (signal) => value(raw.GET("/api/v1/teams", { signal }))),
  grants: () => ask(["grants"], { access: true }, (signal) => value(raw.GET("/api/v1/grants", { signal }))),
  check: (name: string, who: string, action: Action, purl?: string) =>
    ask(["check", name, who, action, purl ?? ""], { access: true, repository: true }, (signal) =>
      value(
        raw.GET("/api/v1/repositories/{name}/check", {
          params: { path: { name }, query: { who, action, purl } },
          signal,
        }),
      ),
    ),
  events: (filter: EventFilter) =>
    askPages(
      ["events", filter],
      {},
      undefined as number | undefined,
      (before, signal) =>
        value(raw.GET("/api/v1/events", { params: { query: { ...filter, before, limit: 100 } }, signal })),
      (last) => (last.length === 100 ? last[last.length - 1]!.id : undefined),
    ),
  eventActions: () => ask(["event-actions"], {}, (signal) => value(raw.GET("/api/v1/events/actions", { signal }))),
};
