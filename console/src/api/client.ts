import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

const raw = createClient<paths>({ baseUrl: "/" });

/** Failure is what an operation answers when it does not do what was asked. */
export class Failure extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly hint?: string,
  ) {
    super(message);
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

async function value<T>(answer: Promise<Answer<T>>): Promise<T> {
  let settled: Answer<T>;
  try {
    settled = await answer;
  } catch {
    throw new Failure(0, "unreachable", "The service does not answer.", "Check that it is running; this page tries again by itself.");
  }
  if (settled.error !== undefined || !settled.response.ok) {
    const p = settled.error as Partial<Problem> | undefined;
    throw new Failure(settled.response.status, p?.code ?? "unknown", p?.detail ?? `The service answered ${settled.response.status}.`, p?.hint);
  }
  return settled.data as T;
}

/** EventFilter selects lines of the activity record; what is left out selects all. */
export type EventFilter = { since?: string; who?: string; action?: string; repository?: string; subject?: string };

export type PromotionState = Schemas["Promotion"]["state"];

/** PromotionFilter selects promotions; what is left out selects all. */
export type PromotionFilter = { track?: string; to?: string; state?: PromotionState; by?: string; q?: string; since?: string; mine?: boolean };

export const api = {
  me: () => value(raw.GET("/api/v1/me")),
  signIn: (body: Schemas["SignIn"]) => value(raw.POST("/api/v1/session", { body })),
  signOut: () => value(raw.DELETE("/api/v1/session")),
  repositories: () => value(raw.GET("/api/v1/repositories")),
  repository: (name: string) => value(raw.GET("/api/v1/repositories/{name}", { params: { path: { name } } })),
  addRepository: (body: Schemas["NewRepository"]) => value(raw.POST("/api/v1/repositories", { body })),
  editRepository: (name: string, body: Schemas["RepositoryChange"]) =>
    value(raw.PATCH("/api/v1/repositories/{name}", { params: { path: { name } }, body })),
  removeRepository: (name: string, withContents: boolean) =>
    value(raw.DELETE("/api/v1/repositories/{name}", { params: { path: { name }, query: { withContents } } })),
  removedRepositories: () => value(raw.GET("/api/v1/removed-repositories")),
  bringRepositoryBack: (name: string) => value(raw.POST("/api/v1/repositories/{name}/undo", { params: { path: { name } } })),
  look: (name: string, body: Schemas["Look"]) => value(raw.POST("/api/v1/repositories/{name}/look", { params: { path: { name } }, body })),
  folder: (name: string, ecosystem: string, path: string, after?: string) =>
    value(raw.GET("/api/v1/repositories/{name}/folder", { params: { path: { name }, query: { ecosystem, path, after, limit: 200 } } })),
  clients: () => value(raw.GET("/api/v1/clients")),
  point: (name: string, client: string, ecosystem: string, publish: boolean, purl?: string) =>
    value(raw.GET("/api/v1/repositories/{name}/point", { params: { path: { name }, query: { client, ecosystem, publish, purl } } })),
  search: (q: string, repository?: string, limit = 50, skip = 0) =>
    value(raw.GET("/api/v1/packages", { params: { query: { q, repository, limit, skip } } })),
  ecosystems: () => value(raw.GET("/api/v1/ecosystems")),
  completions: (q: string) => value(raw.GET("/api/v1/search-completions", { params: { query: { q } } })),
  searches: () => value(raw.GET("/api/v1/searches")),
  saveSearch: (name: string, body: Schemas["SaveSearch"]) => value(raw.PUT("/api/v1/searches/{name}", { params: { path: { name } }, body })),
  forgetSearch: (name: string) => value(raw.DELETE("/api/v1/searches/{name}", { params: { path: { name } } })),
  readme: (purl: string, repository: string) => value(raw.GET("/api/v1/readme", { params: { query: { purl, repository } } })),
  withdraw: (name: string, body: Schemas["Withdraw"]) => value(raw.POST("/api/v1/repositories/{name}/withdraw", { params: { path: { name } }, body })),
  removeVersion: (name: string, purl: string) => value(raw.POST("/api/v1/repositories/{name}/removals", { params: { path: { name } }, body: { purl } })),
  package: (purl: string, after?: string, limit = 100) => value(raw.GET("/api/v1/package", { params: { query: { purl, after, limit } } })),
  mirror: (name: string, hours: number) =>
    value(raw.GET("/api/v1/repositories/{name}/mirror", { params: { path: { name }, query: { hours } } })),
  checkMirror: (body: Schemas["Check"]) => value(raw.POST("/api/v1/mirror-check", { body })),
  tryPatterns: (name: string, body: Schemas["Try"]) =>
    value(raw.POST("/api/v1/repositories/{name}/try", { params: { path: { name } }, body })),
  forget: (name: string, purl: string) =>
    value(raw.POST("/api/v1/repositories/{name}/forget", { params: { path: { name } }, body: { purl } })),
  prefetchRuns: (name: string) => value(raw.GET("/api/v1/repositories/{name}/prefetch", { params: { path: { name } } })),
  prefetch: (name: string) => value(raw.POST("/api/v1/repositories/{name}/prefetch", { params: { path: { name } } })),
  nextTimes: (schedule: string, zone: string) => value(raw.GET("/api/v1/schedule", { params: { query: { schedule, zone } } })),
  explain: (name: string, purl: string) =>
    value(raw.GET("/api/v1/repositories/{name}/explain", { params: { path: { name }, query: { purl } } })),
  claims: () => value(raw.GET("/api/v1/claims")),
  addClaim: (body: Schemas["NewClaim"]) => value(raw.POST("/api/v1/claims", { body })),
  liftClaim: (body: Schemas["NewClaim"]) => value(raw.POST("/api/v1/claims/lift", { body })),
  claimedNames: (name: string, q: string) =>
    value(raw.GET("/api/v1/repositories/{name}/claimed-names", { params: { path: { name }, query: { q } } })),
  tokens: () => value(raw.GET("/api/v1/tokens")),
  addToken: (body: Schemas["NewToken"]) => value(raw.POST("/api/v1/tokens", { body })),
  revokeToken: (token: string, owner?: string) =>
    value(raw.DELETE("/api/v1/tokens/{token}", { params: { path: { token }, query: { for: owner } } })),
  allTokens: () => value(raw.GET("/api/v1/all-tokens")),
  changePassword: (body: Schemas["PasswordChange"]) => value(raw.PUT("/api/v1/me/password", { body })),
  signOutEverywhere: (owner: string, tokens: boolean) => value(raw.POST("/api/v1/sign-out", { params: { query: { for: owner, tokens } } })),
  firstSteps: () => value(raw.GET("/api/v1/first-steps")),
  users: () => value(raw.GET("/api/v1/users")),
  addUser: (body: Schemas["NewUser"]) => value(raw.POST("/api/v1/users", { body })),
  editUser: (name: string, body: Schemas["UserChange"]) => value(raw.PATCH("/api/v1/users/{name}", { params: { path: { name } }, body })),
  removeUser: (name: string) => value(raw.DELETE("/api/v1/users/{name}", { params: { path: { name } } })),
  givePassword: (name: string) => value(raw.POST("/api/v1/users/{name}/password", { params: { path: { name } } })),
  teams: () => value(raw.GET("/api/v1/teams")),
  addTeam: (body: Schemas["NewTeam"]) => value(raw.POST("/api/v1/teams", { body })),
  editTeam: (name: string, body: Schemas["TeamChange"]) => value(raw.PATCH("/api/v1/teams/{name}", { params: { path: { name } }, body })),
  removeTeam: (name: string) => value(raw.DELETE("/api/v1/teams/{name}", { params: { path: { name } } })),
  grants: () => value(raw.GET("/api/v1/grants")),
  addGrant: (body: Schemas["NewGrant"]) => value(raw.POST("/api/v1/grants", { body })),
  removeGrant: (id: number) => value(raw.DELETE("/api/v1/grants/{id}", { params: { path: { id } } })),
  checkGrant: (name: string, who: string, action: "read" | "publish" | "promote" | "remove" | "manage", purl?: string) =>
    value(raw.GET("/api/v1/repositories/{name}/check", { params: { path: { name }, query: { who, action, purl } } })),
  builds: (q: string, before?: number) => value(raw.GET("/api/v1/builds", { params: { query: { q, before, limit: 50 } } })),
  build: (build: string, number: string) => value(raw.GET("/api/v1/builds/{build}/{number}", { params: { path: { build, number } } })),
  removeBuild: (build: string, number: string) => value(raw.DELETE("/api/v1/builds/{build}/{number}", { params: { path: { build, number } } })),
  buildNames: () => value(raw.GET("/api/v1/builds/names")),
  giveBuildName: (build: string, owner: string) => value(raw.PUT("/api/v1/builds/names/{build}", { params: { path: { build } }, body: { owner } })),
  attachDocument: (build: string, number: string, file: File) =>
    value(raw.POST("/api/v1/builds/{build}/{number}/documents", {
      params: { path: { build, number }, query: { name: file.name } },
      body: file as unknown as string, // the description knows only that it is bytes
      bodySerializer: (body) => body,
      headers: { "Content-Type": "application/octet-stream" },
    })),
  /** document is the content of one, as it was attached. */
  document: (build: string, number: string, document: number) =>
    value(raw.GET("/api/v1/builds/{build}/{number}/documents/{document}", { params: { path: { build, number, document } }, parseAs: "blob" })) as Promise<Blob>,
  compareBuilds: (build: string, number: string, to: string) =>
    value(raw.GET("/api/v1/builds/{build}/{number}/difference", { params: { path: { build, number }, query: { to } } })),
  tracks: () => value(raw.GET("/api/v1/tracks")),
  track: (track: string) => value(raw.GET("/api/v1/tracks/{track}", { params: { path: { track }, query: { limit: 10 } } })),
  addTrack: (body: Schemas["Track"]) => value(raw.POST("/api/v1/tracks", { body })),
  editTrack: (track: string, body: Schemas["Track"]) => value(raw.PUT("/api/v1/tracks/{track}", { params: { path: { track } }, body })),
  removeTrack: (track: string) => value(raw.DELETE("/api/v1/tracks/{track}", { params: { path: { track } } })),
  keys: () => value(raw.GET("/api/v1/keys")),
  addKey: (body: Schemas["NewKey"]) => value(raw.POST("/api/v1/keys", { body })),
  removeKey: (key: string) => value(raw.DELETE("/api/v1/keys/{key}", { params: { path: { key } } })),
  destinations: () => value(raw.GET("/api/v1/destinations")),
  setDestination: (body: Schemas["NewDestination"]) => value(raw.POST("/api/v1/destinations", { body })),
  removeDestination: (destination: string) => value(raw.DELETE("/api/v1/destinations/{destination}", { params: { path: { destination } } })),
  receiving: (repository: string) => value(raw.GET("/api/v1/receiving", { params: { query: { repository } } })),
  arrivals: (name: string, since: string) => value(raw.GET("/api/v1/repositories/{name}/arrivals", { params: { path: { name }, query: { since, limit: 500 } } })),
  promote: (body: Schemas["NewPromotion"]) => value(raw.POST("/api/v1/promotions", { body })),
  promotions: (query: PromotionFilter, before?: number) => value(raw.GET("/api/v1/promotions", { params: { query: { ...query, before, limit: 50 } } })),
  promotion: (id: number) => value(raw.GET("/api/v1/promotions/{id}", { params: { path: { id } } })),
  decide: (id: number, body: Schemas["Say"]) => value(raw.POST("/api/v1/promotions/{id}/decision", { params: { path: { id } }, body })),
  cancelPromotion: (id: number, reason: string) => value(raw.POST("/api/v1/promotions/{id}/cancel", { params: { path: { id } }, body: { reason } })),
  undoPromotion: (id: number, reason: string) => value(raw.POST("/api/v1/promotions/{id}/undo", { params: { path: { id } }, body: { reason } })),
  sendOnAgain: (id: number) => value(raw.POST("/api/v1/promotions/{id}/send", { params: { path: { id } } })),
  status: () => value(raw.GET("/api/v1/status")),
  policies: () => value(raw.GET("/api/v1/policies")),
  policy: (policy: string) => value(raw.GET("/api/v1/policies/{policy}", { params: { path: { policy } } })),
  setPolicy: (body: Schemas["SetPolicy"]) => value(raw.PUT("/api/v1/policies", { body })),
  removePolicy: (policy: string) => value(raw.DELETE("/api/v1/policies/{policy}", { params: { path: { policy } } })),
  planSweep: (body: Schemas["PlanRequest"]) => value(raw.POST("/api/v1/sweep-plans", { body })),
  planLines: (body: Schemas["PlanRequest"]) =>
    value(raw.POST("/api/v1/sweep-plans/lines", { body, parseAs: "blob", headers: { Accept: "text/csv" } })) as Promise<unknown> as Promise<Blob>,
  sweeps: (policy?: string) => value(raw.GET("/api/v1/sweeps", { params: { query: { policy, limit: 100 } } })),
  runSweep: (body: Schemas["RunSweep"]) => value(raw.POST("/api/v1/sweeps", { body })),
  sweep: (id: number, state?: Schemas["SweepItem"]["state"], after = -1) => value(raw.GET("/api/v1/sweeps/{id}", { params: { path: { id }, query: { state, after, limit: 100 } } })),
  stopSweep: (id: number) => value(raw.POST("/api/v1/sweeps/{id}/stop", { params: { path: { id } } })),
  undoSweep: (id: number, purls: string[]) => value(raw.POST("/api/v1/sweeps/{id}/undo", { params: { path: { id } }, body: { purls } })),
  pins: () => value(raw.GET("/api/v1/pins")),
  setPin: (body: Schemas["SetPin"]) => value(raw.PUT("/api/v1/pins", { body })),
  use: (query: { repository?: string; purl?: string; from?: string; by?: "day" | "client" | "who" | "version" | "repository" }) => value(raw.GET("/api/v1/use", { params: { query: { by: "day", ...query } } })),
  usedPackages: (order: "top" | "rising" | "falling" | "unused", from?: string) => value(raw.GET("/api/v1/used-packages", { params: { query: { order, from, limit: 20 } } })),
  whoUses: (purl: string, repository?: string) => value(raw.GET("/api/v1/version-users", { params: { query: { purl, repository } } })),
  space: (days: number) => value(raw.GET("/api/v1/space", { params: { query: { days } } })),
  reclaimings: () => value(raw.GET("/api/v1/reclaimings")),
  reclaim: () => value(raw.POST("/api/v1/reclaimings", { params: { query: { now: false } } })),
  events: (query: EventFilter, before?: number) => value(raw.GET("/api/v1/events", { params: { query: { ...query, before, limit: 100 } } })),
  eventActions: () => value(raw.GET("/api/v1/event-actions")),
  verifyEvents: () => value(raw.GET("/api/v1/event-chain")),
};
