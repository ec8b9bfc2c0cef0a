import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useMemo } from "react";
import { usedQueries } from "./calls";
import { count } from "../ui/format";
import { Loaded, Panel } from "../ui/parts";

const Chart = lazy(() => import("../ui/chart"));

/** fromDay is the first of so many days that end today. */
export function fromDay(days: number): string {
  return new Date(Date.now() - (days - 1) * 86_400_000).toISOString().slice(0, 10);
}

const whole = (n: number) => (Number.isInteger(n) ? String(n) : "");

/** Downloads draws how often something was downloaded, day by day, and with what. */
export function Downloads({
  title,
  days,
  purl,
  repository,
}: {
  title: string;
  days: number;
  purl?: string;
  repository?: string;
}) {
  const from = fromDay(days);
  const query = useQuery(usedQueries.use({ purl, repository, from }));
  const clients = useQuery(usedQueries.use({ purl, repository, from }, "client"));
  const who = useQuery(usedQueries.use({ purl, repository, from }, "who"));
  const drawn = useMemo(() => {
    const by = new Map((query.data ?? []).map((d) => [d.part, d]));
    const all = Array.from({ length: days }, (_, i) => fromDay(days - i));
    return {
      times: all.map((d) => Date.parse(d) / 1000 + 43_200),
      series: [
        { label: "downloads", color: "--deep", values: all.map((d) => by.get(d)?.downloads ?? 0), bars: true },
        { label: "users", color: "--glow", values: all.map((d) => by.get(d)?.users ?? 0) },
      ],
      total: (query.data ?? []).reduce((n, d) => n + d.downloads, 0),
    };
  }, [query.data, days]);
  const words = [
    ...(clients.data ?? []).map((c) => `${c.downloads} with ${c.part || "a client that is not known"}`),
    ...(who.data ?? []).map(
      (w) => `${w.downloads} by ${{ person: "people", robot: "robots" }[w.part] ?? "nobody that signed in"}`,
    ),
  ];
  return (
    <Panel
      title={title}
      aside={
        <span className="text-xs text-soft">
          {count(drawn.total, "download")} in {days} days
        </span>
      }
    >
      <Loaded query={query}>
        {() =>
          drawn.total === 0 ? (
            <p className="px-4 py-6 text-sm text-soft">Nobody downloaded anything of it in {days} days.</p>
          ) : (
            <figure className="px-3 pt-3 pb-2">
              <Suspense fallback={<div className="h-[150px]" aria-busy="true" />}>
                <Chart times={drawn.times} series={drawn.series} unit={whole} label={`${title}, by day`} />
              </Suspense>
              <figcaption className="mt-1 flex flex-wrap gap-x-4 px-1 text-xs text-soft">
                <span className="inline-flex items-center gap-1.5">
                  <span aria-hidden className="size-2.5 rounded-xs bg-deep" />
                  downloads
                </span>
                <span className="inline-flex items-center gap-1.5">
                  <span aria-hidden className="h-0.5 w-4 bg-glow" />
                  users that signed in
                </span>
                <span>{words.join(", ")}</span>
              </figcaption>
            </figure>
          )
        }
      </Loaded>
    </Panel>
  );
}
