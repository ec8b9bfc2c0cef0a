import { raw, value } from "../api/client";

export const scheduleCalls = {
  nextTimes: (schedule: string, zone: string) =>
    value(raw.GET("/api/v1/schedule", { params: { query: { schedule, zone } } })),
};
