import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

export const backupCalls = {
  begin: (body: Schemas["NewBackup"]) => value(raw.POST("/api/v1/backups", { body })),
};

export const backupQueries = {
  backups: () => ask(["backups"], {}, (signal) => value(raw.GET("/api/v1/backups", { signal }))),
};
