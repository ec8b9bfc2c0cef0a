import { raw, value, type Schemas } from "../api/client";

/** EventFilter selects lines of the activity record; what is left out selects all. */
export type EventFilter = { since?: string; who?: string; action?: string; repository?: string; subject?: string };

export const rightsCalls = {
  me: () => value(raw.GET("/api/v1/me")),
  signIn: (body: Schemas["SignIn"]) => value(raw.POST("/api/v1/session", { body })),
  signOut: () => value(raw.DELETE("/api/v1/session")),
  tokens: () => value(raw.GET("/api/v1/tokens")),
  addToken: (body: Schemas["NewToken"]) => value(raw.POST("/api/v1/tokens", { body })),
  revokeToken: (token: string, owner?: string) =>
    value(raw.DELETE("/api/v1/tokens/{token}", { params: { path: { token }, query: { for: owner } } })),
  allTokens: () => value(raw.GET("/api/v1/tokens/all")),
  changePassword: (body: Schemas["PasswordChange"]) => value(raw.PUT("/api/v1/me/password", { body })),
  signOutEverywhere: (owner: string, tokens: boolean) =>
    value(raw.POST("/api/v1/sign-out", { params: { query: { for: owner, tokens } } })),
  firstSteps: () => value(raw.GET("/api/v1/first-steps")),
  users: () => value(raw.GET("/api/v1/users")),
  addUser: (body: Schemas["NewUser"]) => value(raw.POST("/api/v1/users", { body })),
  editUser: (name: string, body: Schemas["UserChange"]) =>
    value(raw.PATCH("/api/v1/users/{name}", { params: { path: { name } }, body })),
  removeUser: (name: string) => value(raw.DELETE("/api/v1/users/{name}", { params: { path: { name } } })),
  givePassword: (name: string) => value(raw.POST("/api/v1/users/{name}/password", { params: { path: { name } } })),
  teams: () => value(raw.GET("/api/v1/teams")),
  addTeam: (body: Schemas["NewTeam"]) => value(raw.POST("/api/v1/teams", { body })),
  editTeam: (name: string, body: Schemas["TeamChange"]) =>
    value(raw.PATCH("/api/v1/teams/{name}", { params: { path: { name } }, body })),
  removeTeam: (name: string) => value(raw.DELETE("/api/v1/teams/{name}", { params: { path: { name } } })),
  grants: () => value(raw.GET("/api/v1/grants")),
  addGrant: (body: Schemas["NewGrant"]) => value(raw.POST("/api/v1/grants", { body })),
  removeGrant: (id: number) => value(raw.DELETE("/api/v1/grants/{id}", { params: { path: { id } } })),
  checkGrant: (
    name: string,
    who: string,
    action: "read" | "publish" | "promote" | "remove" | "manage",
    purl?: string,
  ) =>
    value(raw.GET("/api/v1/repositories/{name}/check", { params: { path: { name }, query: { who, action, purl } } })),
  events: (query: EventFilter, before?: number) =>
    value(raw.GET("/api/v1/events", { params: { query: { ...query, before, limit: 100 } } })),
  eventActions: () => value(raw.GET("/api/v1/events/actions")),
  verifyEvents: () => value(raw.GET("/api/v1/events/chain")),
};
