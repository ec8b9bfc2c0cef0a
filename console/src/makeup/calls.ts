import { raw, value } from "../api/client";
import { ask } from "../api/query";

/** Side is a version that is compared, and where it stands. */
export type Side = { purl: string; repository: string };

/** comparePath is the console's address of what tells two versions apart. */
export function comparePath(before: Side, after: Side): string {
  return `/compare?${new URLSearchParams({ before: before.purl, beforeIn: before.repository, after: after.purl, afterIn: after.repository })}`;
}

/** What a version is made of never changes; where it is shared is told of by the way. */
export const makeupQueries = {
  makeup: ({ purl, repository }: Side, platform: string) =>
    ask(["makeup", purl, repository, platform], {}, (signal) =>
      value(raw.GET("/api/v1/makeup", { params: { query: { purl, repository, platform } }, signal })),
    ),
  comparison: (before: Side, after: Side, platform: string, files: boolean) =>
    ask(["comparison", before, after, platform, files], {}, (signal) =>
      value(
        raw.GET("/api/v1/comparison", {
          params: {
            query: {
              before: before.purl,
              beforeRepository: before.repository,
              after: after.purl,
              afterRepository: after.repository,
              platform,
              files,
            },
          },
          signal,
        }),
      ),
    ),
};
