import { raw, value } from "../api/client";
import { ask } from "../api/query";

export const statusQueries = {
  status: () =>
    ask(
      ["status"],
      {
        repository: true,
        mirror: true,
        access: true,
        promotion: true,
        policy: true,
        sweep: true,
        figure: true,
        advisory: true,
        waiver: true,
        vetting: true,
      },
      (signal) => value(raw.GET("/api/v1/status", { signal })),
    ),
};
