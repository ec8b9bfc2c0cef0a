import type { ReactNode } from "react";
import { useSearchParams } from "react-router";
import { inAddress, useInAddress } from "./address";
import { Choice, TextInput } from "./dialog";
import { Button } from "./parts";

/** useFilters are the filters of a list, which stand in the page's address. */
export function useFilters() {
  const [params, setParams] = useSearchParams();
  return {
    any: params.size > 0,
    get: (key: string) => params.get(key) ?? "",
    set: (key: string, text: string) => {
      const next = inAddress();
      if (text) next.set(key, text);
      else next.delete(key);
      setParams(next, { replace: true });
    },
    clear: () => setParams({}, { replace: true }),
  };
}

type By = { by: ReturnType<typeof useFilters> };

/** Filters is the line above a list in which they are set, and cleared together. */
export function Filters({ by, children }: By & { children: ReactNode }) {
  return (
    <div className="flex flex-wrap items-center gap-2 border-b border-rule px-4 py-2">
      {children}
      {by.any && (
        <Button look="bare" onClick={by.clear}>
          Clear
        </Button>
      )}
    </div>
  );
}

type FilterProps = By & { name: string; label: string };

export function FilterText({ name, label, hint, wide }: Omit<FilterProps, "by"> & { hint: string; wide?: boolean }) {
  const [text, set] = useInAddress(name);
  return (
    <span className={wide ? "w-52" : "w-36"}>
      <TextInput aria-label={label} placeholder={hint} value={text} onChange={(e) => set(e.target.value)} />
    </span>
  );
}

export function FilterChoice({ by, name, label, options }: FilterProps & { options: [string, string][] }) {
  return (
    <span className="w-36">
      <Choice label={label} value={by.get(name)} onChange={(v) => by.set(name, v)} options={options} />
    </span>
  );
}

/** More loads what comes after the last line of a list. */
export function More({
  query,
  children = "Show older ones",
}: {
  query: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
  children?: ReactNode;
}) {
  if (!query.hasNextPage) return null;
  return (
    <div className="p-3 text-center">
      <Button onClick={() => void query.fetchNextPage()} disabled={query.isFetchingNextPage}>
        {children}
      </Button>
    </div>
  );
}
