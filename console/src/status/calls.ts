import { raw, value } from "../api/client";

export const statusCalls = {
  status: () => value(raw.GET("/api/v1/status")),
};
