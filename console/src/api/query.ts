import {
  infiniteQueryOptions,
  queryOptions,
  useQueryClient,
  type InfiniteData,
  type Query,
  type QueryKey,
} from "@tanstack/react-query";
import { useCallback } from "react";

/** kinds are what changes on the server are about; the stream of them names each by one. */
export const kinds = [
  "package",
  "repository",
  "access",
  "mirror",
  "build",
  "track",
  "promotion",
  "policy",
  "sweep",
  "pin",
  "store",
  "node",
  "quota",
  "advisory",
  "waiver",
  "vetting",
  "feed",
  "key",
  "transfer",
  "relay",
  "target",
  "bundle",
  "figure",
] as const;

/** Change says what is not as it was. What it does not name may be any. */
export type Change = {
  kind: (typeof kinds)[number];
  repository?: string;
  ecosystem?: string;
  namespace?: string;
  name?: string;
};

/**
 * About says which changes make an answer out of date: all of a kind, or those
 * that a function picks by what they name and by the answer as it is now.
 */
export type About<T = never> = {
  [K in Change["kind"]]?: true | ((change: Change, now: T | undefined) => boolean);
};

declare module "@tanstack/react-query" {
  interface Register {
    queryMeta: { about?: About<unknown> };
  }
}

/** ask is a question to the API; nobody waiting for its answer any more ends it. */
export function ask<T>(key: QueryKey, about: About<T>, run: (signal: AbortSignal) => Promise<T>) {
  return queryOptions({
    queryKey: key,
    queryFn: ({ signal }) => run(signal),
    meta: { about: about as About<unknown> },
  });
}

/** askPages is a question whose answer comes by pages: next is where the one after a page begins. */
export function askPages<T, P>(
  key: QueryKey,
  about: About<InfiniteData<T>>,
  first: P,
  run: (from: P, signal: AbortSignal) => Promise<T>,
  next: (last: T, all: T[]) => P | undefined,
) {
  return infiniteQueryOptions({
    queryKey: key,
    queryFn: ({ pageParam, signal }) => run(pageParam as P, signal),
    initialPageParam: first,
    getNextPageParam: next,
    meta: { about: about as About<unknown> },
  });
}

/** inRepository picks what is in a repository; a chain may show what is in any. */
export function inRepository(name: string, isChain = false) {
  return (change: Change) => isChain || !change.repository || change.repository === name.replace(/@.*$/, "");
}

/** outdated says whether a change makes the answer to a question out of date. */
function outdated(query: Pick<Query, "meta" | "state">, change: Change): boolean {
  const about = query.meta?.about?.[change.kind];
  return about === true || (about?.(change, query.state.data) ?? false);
}

/** useChanged gives what tells of changes made here: what they make out of date is asked again. */
export function useChanged() {
  const queries = useQueryClient();
  return useCallback(
    (...changes: Change[]) =>
      queries.invalidateQueries({ predicate: (query) => changes.some((change) => outdated(query, change)) }),
    [queries],
  );
}
