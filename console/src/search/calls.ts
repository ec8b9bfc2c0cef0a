import { raw, value, type Schemas } from "../api/client";
import { ask, askPages, type Change } from "../api/query";

export const searchCalls = {
  saveSearch: (name: string, body: Schemas["SaveSearch"]) =>
    value(raw.PUT("/api/v1/searches/{name}", { params: { path: { name } }, body })),
  forgetSearch: (name: string) => value(raw.DELETE("/api/v1/searches/{name}", { params: { path: { name } } })),
};

/** ofPackage picks changes of the package that a package URL names. */
function ofPackage(purl: string) {
  const [, ecosystem, path = ""] = /^pkg:([^/]+)\/(.*)$/.exec(purl) ?? [];
  const bare = decodeURIComponent(path.replace(/@[^/]*$/, ""));
  return (change: Change) =>
    !change.name ||
    (change.ecosystem === ecosystem &&
      (change.namespace ? `${change.namespace}/${change.name}` : change.name) === bare);
}

export const searchQueries = {
  /** newest finds the first packages that fit. */
  newest: (q: string, limit: number) =>
    ask(["search", q, "", limit], { package: true, repository: true, access: true }, (signal) =>
      value(raw.GET("/api/v1/packages", { params: { query: { q, limit, skip: 0 } }, signal })),
    ),
  search: (q: string, repository: string, limit: number) =>
    askPages(
      ["search", q, repository],
      { package: true, repository: true, access: true },
      0,
      (skip, signal) =>
        value(
          raw.GET("/api/v1/packages", {
            params: { query: { q, repository: repository || undefined, limit, skip } },
            signal,
          }),
        ),
      (last, all) => (last.more ? all.length * limit : undefined),
    ),
  ecosystems: () => ask(["ecosystems"], {}, (signal) => value(raw.GET("/api/v1/ecosystems", { signal }))),
  completions: (q: string) =>
    ask(["completions", q], {}, (signal) =>
      value(raw.GET("/api/v1/searches/completions", { params: { query: { q } }, signal })),
    ),
  searches: () => ask(["searches"], { access: true }, (signal) => value(raw.GET("/api/v1/searches", { signal }))),
  readme: (purl: string, repository: string) =>
    ask(["readme", purl, repository], { package: ofPackage(purl) }, (signal) =>
      value(raw.GET("/api/v1/readme", { params: { query: { purl, repository } }, signal })),
    ),
  labelMoves: (purl: string, repository: string) =>
    ask(["label-moves", purl, repository], { package: ofPackage(purl) }, (signal) =>
      value(raw.GET("/api/v1/package/labels", { params: { query: { purl, repository } }, signal })),
    ),
  /** package is one, its versions by pages. */
  package: (purl: string) =>
    askPages(
      ["package", purl],
      { package: ofPackage(purl), repository: true, promotion: true },
      "",
      (after, signal) => value(raw.GET("/api/v1/package", { params: { query: { purl, after, limit: 100 } }, signal })),
      (last) => last.next,
    ),
  /** version is a package with one version alone. */
  version: (purl: string, version: string) =>
    ask(["package", purl, version], { package: ofPackage(purl), repository: true, promotion: true }, (signal) =>
      value(
        raw.GET("/api/v1/package", {
          params: { query: { purl: `${purl}@${encodeURIComponent(version)}`, limit: 100 } },
          signal,
        }),
      ),
    ),
};
