import { raw, value } from "../api/client";
import { ask, askPages } from "../api/query";

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
  folder: ({ purl, repository }: Side, folder: string) =>
    askPages(
      ["set-folder", purl, repository, folder],
      {},
      "",
      (after: string, signal) =>
        value(raw.GET("/api/v1/contents", { params: { query: { purl, repository, folder, after } }, signal })),
      (page) => page.next,
    ),
  /** symbols are what a version has for debuggers, which is found out when it has come. */
  symbols: ({ purl, repository }: Side) =>
    ask(["symbols", purl, repository], { package: (change) => purl.includes(`/${change.name}@`) }, (signal) =>
      value(raw.GET("/api/v1/symbols", { params: { query: { purl, repository } }, signal })),
    ),
  /** preview is the beginning of a file that is a text. */
  preview: (path: string, length: number) =>
    ask(["preview", path], {}, async (signal) => {
      const answer = await fetch(path, { signal, headers: { Range: `bytes=0-${length - 1}` } });
      if (answer.status === 416) return ""; // it is empty
      if (!answer.ok) throw new Error(`it was answered ${answer.status}`);
      return answer.text();
    }),
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
