import { raw, value, type Schemas } from "../api/client";

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
  tracks: () => value(raw.GET("/api/v1/tracks")),
  track: (track: string) =>
    value(raw.GET("/api/v1/tracks/{track}", { params: { path: { track }, query: { limit: 10 } } })),
  addTrack: (body: Schemas["Track"]) => value(raw.POST("/api/v1/tracks", { body })),
  editTrack: (track: string, body: Schemas["Track"]) =>
    value(raw.PUT("/api/v1/tracks/{track}", { params: { path: { track } }, body })),
  removeTrack: (track: string) => value(raw.DELETE("/api/v1/tracks/{track}", { params: { path: { track } } })),
  destinations: () => value(raw.GET("/api/v1/destinations")),
  setDestination: (body: Schemas["NewDestination"]) => value(raw.POST("/api/v1/destinations", { body })),
  removeDestination: (destination: string) =>
    value(raw.DELETE("/api/v1/destinations/{destination}", { params: { path: { destination } } })),
  arrivals: (name: string, since: string) =>
    value(
      raw.GET("/api/v1/repositories/{name}/arrivals", { params: { path: { name }, query: { since, limit: 500 } } }),
    ),
  promote: (body: Schemas["NewPromotion"]) => value(raw.POST("/api/v1/promotions", { body })),
  promotions: (query: PromotionFilter, before?: number) =>
    value(raw.GET("/api/v1/promotions", { params: { query: { ...query, before, limit: 50 } } })),
  promotion: (id: number) => value(raw.GET("/api/v1/promotions/{id}", { params: { path: { id } } })),
  decide: (id: number, body: Schemas["Say"]) =>
    value(raw.POST("/api/v1/promotions/{id}/decision", { params: { path: { id } }, body })),
  cancelPromotion: (id: number, reason: string) =>
    value(raw.POST("/api/v1/promotions/{id}/cancel", { params: { path: { id } }, body: { reason } })),
  undoPromotion: (id: number, reason: string) =>
    value(raw.POST("/api/v1/promotions/{id}/undo", { params: { path: { id } }, body: { reason } })),
  sendOnAgain: (id: number) => value(raw.POST("/api/v1/promotions/{id}/send", { params: { path: { id } } })),
};
