import { raw, value, type Schemas } from "../api/client";
import { ask, askPages, inRepository } from "../api/query";

export type PromotionState = Schemas["Promotion"]["state"];

/** PromotionFilter selects promotions; what is left out selects all. */
export type PromotionFilter = {
  track?: string;
  to?: string;
  state?: PromotionState;
  by?: string;
  q?: string;
  since?: string;
  mine?: boolean;
};

export const promotionCalls = {
  addTrack: (body: Schemas["Track"]) => value(raw.POST("/api/v1/tracks", { body })),
  editTrack: (track: string, body: Schemas["Track"]) =>
    value(raw.PUT("/api/v1/tracks/{track}", { params: { path: { track } }, body })),
  removeTrack: (track: string) => value(raw.DELETE("/api/v1/tracks/{track}", { params: { path: { track } } })),
  promote: (body: Schemas["NewPromotion"]) => value(raw.POST("/api/v1/promotions", { body })),
  decide: (id: number, body: Schemas["Say"]) =>
    value(raw.POST("/api/v1/promotions/{id}/decision", { params: { path: { id } }, body })),
  cancelPromotion: (id: number, reason: string) =>
    value(raw.POST("/api/v1/promotions/{id}/cancel", { params: { path: { id } }, body: { reason } })),
  undoPromotion: (id: number, reason: string) =>
    value(raw.POST("/api/v1/promotions/{id}/undo", { params: { path: { id } }, body: { reason } })),
  sendOnAgain: (id: number) => value(raw.POST("/api/v1/promotions/{id}/send", { params: { path: { id } } })),
};

/** since is so many days ago, to the minute so that a question stays the same. */
function since(days: number): string {
  return new Date(Math.floor(Date.now() / 60_000) * 60_000 - days * 86_400_000).toISOString();
}

export const promotionQueries = {
  tracks: () =>
    ask(["tracks"], { track: true, repository: true }, (signal) => value(raw.GET("/api/v1/tracks", { signal }))),
  track: (track: string) =>
    ask<Schemas["TrackPicture"]>(
      ["track", track],
      {
        track: true,
        promotion: true,
        repository: true,
        build: true,
        package: (change, now) =>
          !now || !change.repository || now.stages.some((s) => s.repository === change.repository),
      },
      (signal) =>
        value(raw.GET("/api/v1/tracks/{track}", { params: { path: { track }, query: { limit: 10 } }, signal })),
    ),
  arrivals: (name: string, days: number) =>
    ask(["arrivals", name, days], { promotion: true, package: inRepository(name) }, (signal) =>
      value(
        raw.GET("/api/v1/repositories/{name}/arrivals", {
          params: { path: { name }, query: { since: since(days), limit: 500 } },
          signal,
        }),
      ),
    ),
  /** waiting are the promotions that wait for the one who asks. */
  waiting: () =>
    ask(["promotions", "mine"], { promotion: true, access: true }, (signal) =>
      value(raw.GET("/api/v1/promotions", { params: { query: { mine: true, limit: 50 } }, signal })),
    ),
  promotions: (filter: PromotionFilter, days = 0) =>
    askPages(
      ["promotions", filter, days],
      { promotion: true },
      undefined as number | undefined,
      (before, signal) =>
        value(
          raw.GET("/api/v1/promotions", {
            params: { query: { ...filter, since: days ? since(days) : undefined, before, limit: 50 } },
            signal,
          }),
        ),
      (last) => last.before,
    ),
  promotion: (id: number) =>
    ask(["promotion", id], { promotion: true, access: true }, (signal) =>
      value(raw.GET("/api/v1/promotions/{id}", { params: { path: { id } }, signal })),
    ),
  /** dryRun is what a promotion would do, and what its gates say now. */
  dryRun: (body: Schemas["NewPromotion"]) =>
    ask<Schemas["AskedPromotion"]>(
      ["dry-run", body],
      {
        track: true,
        promotion: true,
        build: true,
        package: (change, now) =>
          !now || !change.repository || change.repository === now.from || change.repository === now.to,
      },
      (signal) => value(raw.POST("/api/v1/promotions", { body: { ...body, dryRun: true }, signal })),
    ),
};
