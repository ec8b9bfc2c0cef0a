import { useQuery, type UseQueryResult } from "@tanstack/react-query";
import { Check, Copy, Inbox, TriangleAlert } from "lucide-react";
import { type ButtonHTMLAttributes, type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from "react";
import { Failure, type Schemas } from "../api/client";
import { searchQueries } from "../search/calls";
import { ago, moment } from "./format";

const looks = {
  plain: "border border-rule bg-sheet text-ink hover:bg-wash",
  strong: "bg-deep text-deep-ink hover:opacity-90",
  danger: "border border-bad text-bad hover:bg-bad-wash",
  bare: "text-soft hover:bg-wash hover:text-ink",
};

export function Button({
  look = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof looks }) {
  return (
    <button
      type="button"
      className={`inline-flex h-8 cursor-pointer items-center gap-1.5 rounded px-3 text-sm font-medium whitespace-nowrap disabled:cursor-default disabled:opacity-50 ${looks[look]} ${className}`}
      {...rest}
    />
  );
}

/** Time shows how long ago something was; the exact time stands in its title. */
export function Time({ at }: { at: string }) {
  const [, tick] = useState(0);
  useEffect(() => {
    const timer = setInterval(() => tick((n) => n + 1), 30_000);
    return () => clearInterval(timer);
  }, []);
  return (
    <time dateTime={at} title={moment(at)} className="whitespace-nowrap">
      {ago(at)}
    </time>
  );
}

export function CopyButton({ text, label }: { text: string; label: string }) {
  const [done, setDone] = useState(false);
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className="inline-flex cursor-pointer items-center rounded p-1 text-soft hover:bg-wash hover:text-ink"
      onClick={() => {
        void navigator.clipboard.writeText(text).then(() => {
          setDone(true);
          setTimeout(() => setDone(false), 1500);
        });
      }}
    >
      {done ? <Check size={14} className="text-good" /> : <Copy size={14} />}
    </button>
  );
}

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="flex flex-col items-center gap-2 px-4 py-12 text-center text-soft">
      <Inbox size={28} strokeWidth={1.5} aria-hidden />
      <p className="font-medium text-ink">{title}</p>
      {children && <div className="max-w-lg text-sm [&_a]:underline">{children}</div>}
    </div>
  );
}

export function ErrorNote({ error, retry }: { error: unknown; retry?: () => void }) {
  const failure = error instanceof Failure ? error : new Failure(0, "unknown", String(error));
  return (
    <div role="alert" className="flex items-start gap-3 rounded border border-bad/40 bg-bad-wash px-4 py-3 text-sm">
      <TriangleAlert size={18} className="mt-0.5 shrink-0 text-bad" aria-hidden />
      <div className="grow">
        <p className="font-medium first-letter:uppercase">{failure.message}</p>
        {failure.hint && <p className="text-soft">{failure.hint}</p>}
      </div>
      {retry && <Button onClick={retry}>Try again</Button>}
    </div>
  );
}

/** Loaded shows what a query gives, or that it is under way, or what went wrong. */
export function Loaded<T>({ query, children }: { query: UseQueryResult<T>; children: (value: T) => ReactNode }) {
  if (query.data !== undefined) return <>{children(query.data)}</>;
  if (query.error) return <ErrorNote error={query.error} retry={() => void query.refetch()} />;
  return (
    <p className="px-1 py-6 text-sm text-soft" aria-busy="true">
      Loading…
    </p>
  );
}

export function Panel({ title, aside, children }: { title?: ReactNode; aside?: ReactNode; children: ReactNode }) {
  return (
    <section className="rounded-lg border border-rule bg-sheet">
      {title && (
        <header className="flex min-h-11 flex-wrap items-center justify-between gap-2 border-b border-rule px-4 py-1.5">
          <h2 className="font-semibold">{title}</h2>
          {aside}
        </header>
      )}
      {children}
    </section>
  );
}

/** Holds shows what a repository takes: a filled half for what is in. */
export function Holds({ holds }: { holds: string }) {
  const part = (on: boolean) => (on ? "bg-deep" : "bg-transparent");
  return (
    <span className="inline-flex items-center gap-2 whitespace-nowrap">
      <span aria-hidden className="inline-flex h-2.5 w-6 overflow-hidden rounded-xs border border-deep">
        <span className={`w-1/2 border-r border-deep ${part(holds !== "releases")}`} />
        <span className={`w-1/2 ${part(holds !== "snapshots")}`} />
      </span>
      <span className="max-sm:sr-only">{holds === "both" ? "snapshots and releases" : holds}</span>
    </span>
  );
}

/** UpstreamMark says how the upstreams of a mirror are: a lamp, and words. */
export function UpstreamMark({ mirror }: { mirror: Schemas["Mirror"] }) {
  const failing = mirror.contacts.filter((c) => c.state === "failing").length;
  const answers = mirror.contacts.some((c) => c.state === "ok");
  const [look, text] =
    failing === mirror.contacts.length
      ? ["bg-bad", "upstream fails"]
      : failing > 0
        ? ["bg-glow", "falls back"]
        : answers
          ? ["bg-good", "upstream answers"]
          : ["bg-rule", "not asked yet"];
  return (
    <span
      className="inline-flex items-center gap-1.5 text-sm whitespace-nowrap"
      title={mirror.contacts
        .map((c) => `${c.url}: ${c.state}${c.state === "failing" ? `, it ${c.failure}` : ""}`)
        .join("\n")}
    >
      <span aria-hidden className={`size-2.5 rounded-full ${look}`} />
      <span className={failing ? "text-bad" : "text-soft"}>{text}</span>
    </span>
  );
}

export function Maturity({ snapshot }: { snapshot: boolean }) {
  return (
    <span
      className={`rounded-xs px-1.5 py-0.5 text-xs font-medium whitespace-nowrap ring-1 ring-inset ${snapshot ? "bg-glow-wash text-glow ring-glow/25" : "bg-wash text-deep ring-deep/25"}`}
    >
      {snapshot ? "snapshot" : "release"}
    </span>
  );
}

/**
 * rowKeys moves between the links of a table with the arrow keys, Home and End.
 */
export function rowKeys(event: KeyboardEvent<HTMLElement>) {
  const steps: Record<string, (i: number, n: number) => number> = {
    ArrowDown: (i, n) => Math.min(i + 1, n - 1),
    ArrowUp: (i) => Math.max(i - 1, 0),
    Home: () => 0,
    End: (_, n) => n - 1,
  };
  const step = steps[event.key];
  if (!step) return;
  const rows = [...event.currentTarget.querySelectorAll<HTMLElement>("[data-row]")];
  const next = rows[step(rows.indexOf(document.activeElement as HTMLElement), rows.length)];
  if (next) {
    event.preventDefault();
    next.focus();
  }
}

/** useArrivals tells which of the keys were not there when it was last called. */
export function useArrivals(keys: string[]): Set<string> {
  const known = useRef<Set<string> | null>(null);
  const fresh = useRef(new Set<string>());
  if (known.current === null) {
    if (keys.length > 0) known.current = new Set(keys);
  } else {
    for (const key of keys) {
      if (!known.current.has(key)) {
        known.current.add(key);
        fresh.current.add(key);
      }
    }
  }
  return fresh.current;
}

export function usePageTitle(title: string) {
  useEffect(() => {
    document.title = `${title} · Crelvo`;
  }, [title]);
}

/** useEcosystems gives the kinds of package that the service knows. */
export function useEcosystems() {
  return useQuery({ ...searchQueries.ecosystems(), staleTime: Infinity });
}

export { useQuery };
