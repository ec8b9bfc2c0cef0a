import { raw, value } from "../api/client";
import { ask } from "../api/query";

export const scheduleQueries = {
  nextTimes: (schedule: string, zone: string) =>
    ask(["schedule", schedule, zone], {}, (signal) =>
      value(raw.GET("/api/v1/schedule", { params: { query: { schedule, zone } }, signal })),
    ),
};
