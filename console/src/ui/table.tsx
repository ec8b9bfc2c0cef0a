import {
  columnVisibilityFeature,
  createSortedRowModel,
  rowSortingFeature,
  tableFeatures,
  useTable,
  type ColumnDef,
  type ColumnVisibilityState,
} from "@tanstack/react-table";
import { ArrowDown, ArrowUp, Check, Columns3 } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { type ReactNode, useMemo, useRef, useState } from "react";
import { useDrawn } from "./drawn";
import { rowKeys } from "./parts";

/** Column is one of a table. */
export type Column<T> = {
  /** head stands above it, and tells it from the others. */
  head: string;
  cell: (row: T) => ReactNode;
  /** by is what its rows can be ordered by. */
  by?: (row: T) => string | number | undefined;
  right?: boolean;
  look?: string;
  /** from is the width of a window from which it is shown. */
  from?: "sm" | "md";
  /** away: it is not shown until somebody asks for it. */
  away?: boolean;
};

const features = tableFeatures({ columnVisibilityFeature, rowSortingFeature, sortedRowModel: createSortedRowModel() });

const froms = { sm: "hidden sm:table-cell", md: "hidden md:table-cell" };

/** fewColumns: of a table with no more there is nothing to choose. */
const fewColumns = 4;

/** compare orders words as people do, and numbers by size. */
function compare(a: string | number, b: string | number): number {
  if (typeof a === "number" && typeof b === "number") return a - b;
  return String(a).localeCompare(String(b), "en", { numeric: true, sensitivity: "base" });
}

/** useShown remembers for this browser which columns of a table are shown. */
function useShown<T>(name: string, columns: Column<T>[]) {
  const key = `columns of ${name}`;
  const [shown, setShown] = useState<ColumnVisibilityState>(() => {
    const first = Object.fromEntries(columns.filter((c) => c.away).map((c) => [c.head, false]));
    try {
      return { ...first, ...(JSON.parse(localStorage.getItem(key) ?? "{}") as ColumnVisibilityState) };
    } catch {
      return first;
    }
  });
  const set = (next: ColumnVisibilityState) => {
    localStorage.setItem(key, JSON.stringify(next));
    setShown(next);
  };
  return [shown, set] as const;
}

/**
 * Table shows rows that can be ordered by a click on what stands above a
 * column, and whose columns can be chosen. Of many only those in sight are
 * drawn. The arrow keys move between what is marked data-row in its cells.
 */
export function Table<T extends object>({
  name,
  rows,
  columns,
  rowKey,
  look,
  across,
  partly,
  dense,
  estimate = dense ? 37 : 45,
}: {
  /** name says of what it is a table; the choice of columns is kept under it. */
  name: string;
  rows: T[];
  columns: Column<T>[];
  rowKey: (row: T) => string | number;
  look?: (row: T) => string;
  /** across is what stands in a row after its first cell instead of the others. */
  across?: (row: T) => ReactNode;
  /** partly: there are more rows than came so far, so that they cannot be ordered here. */
  partly?: boolean;
  dense?: boolean;
  estimate?: number;
}) {
  const [shown, setShown] = useShown(name, columns);
  const heads = columns.map((c) => `${c.head}${c.by ? "" : " "}`).join("\n");
  // What orders a column is the same as long as its head is.
  const defs = useMemo(
    () =>
      columns.map((c): ColumnDef<typeof features, T> => ({
        id: c.head,
        accessorFn: c.by ?? (() => undefined),
        enableSorting: c.by !== undefined,
        sortFn: (a, b, id) => compare(a.getValue<string | number>(id), b.getValue<string | number>(id)),
        sortUndefined: "last",
      })),
    [heads],
  );
  const table = useTable({
    features,
    columns: defs,
    data: rows,
    state: { columnVisibility: shown },
    onColumnVisibilityChange: (next) => setShown(typeof next === "function" ? next(shown) : next),
    enableSorting: !partly,
    autoResetSorting: false,
  });
  const visible = columns.filter((c) => table.getColumn(c.head)?.getIsVisible());
  const sorted = table.getRowModel().rows;
  const body = useRef<HTMLTableSectionElement>(null);
  const d = useDrawn(sorted.length, estimate, body);
  const pad = dense ? "px-3 py-1.5 first:pl-4 last:pr-4" : "px-4 py-2";
  const place = (c: Column<T>) => `${pad} ${c.right ? "text-right" : ""} ${c.from ? froms[c.from] : ""}`;
  const choosing = columns.length > fewColumns;
  // What chooses columns stands above the buttons of rows, or has a column of its own.
  const extra = choosing && visible.at(-1)?.head.trim() !== "";
  const width = visible.length + (extra ? 1 : 0);
  return (
    <div className="relative overflow-x-auto" role="region" aria-label={`${name}, a table that scrolls`} tabIndex={0}>
      <table className="w-full text-left text-sm" onKeyDown={rowKeys}>
        <thead className="text-xs text-soft">
          <tr className="border-b border-rule">
            {visible.map((c, i) => {
              const way = table.getColumn(c.head)!.getIsSorted();
              return (
                <th
                  key={c.head}
                  aria-sort={way ? (way === "asc" ? "ascending" : "descending") : undefined}
                  className={`${place(c)} font-medium`}
                >
                  <span className={`flex items-center gap-1 ${c.right ? "justify-end" : ""}`}>
                    {c.by && !partly ? (
                      <button
                        type="button"
                        onClick={() => table.getColumn(c.head)!.toggleSorting()}
                        className="inline-flex min-h-6 cursor-pointer items-center gap-1 text-left whitespace-nowrap hover:text-ink"
                      >
                        {c.head}
                        {way === "asc" && <ArrowUp size={12} aria-hidden />}
                        {way === "desc" && <ArrowDown size={12} aria-hidden />}
                      </button>
                    ) : (
                      c.head.trim()
                    )}
                    {i === visible.length - 1 && choosing && !extra && (
                      <Choose columns={columns} shown={shown} onChange={setShown} />
                    )}
                  </span>
                </th>
              );
            })}
            {extra && (
              <th className="w-8 pr-2">
                <Choose columns={columns} shown={shown} onChange={setShown} />
              </th>
            )}
          </tr>
        </thead>
        <tbody ref={body}>
          {d.before > 0 && <Gap columns={width} height={d.before} />}
          {d.lines.map(({ index, bind }) => {
            const row = sorted[index]!.original;
            const wide = across?.(row);
            return (
              <tr
                key={rowKey(row)}
                {...bind}
                className={`border-b border-rule align-baseline last:border-0 hover:bg-wash/50 ${look?.(row) ?? ""}`}
              >
                {(wide ? visible.slice(0, 1) : visible).map((c) => (
                  <td
                    key={c.head}
                    className={`${place(c)} ${c.right ? "whitespace-nowrap tabular-nums" : ""} ${c.look ?? ""}`}
                  >
                    {c.cell(row)}
                  </td>
                ))}
                {wide && width > 1 && (
                  <td colSpan={width - 1} className={`${pad} text-soft max-sm:text-xs`}>
                    {wide}
                  </td>
                )}
                {!wide && extra && <td />}
              </tr>
            );
          })}
          {d.after > 0 && <Gap columns={width} height={d.after} />}
        </tbody>
      </table>
    </div>
  );
}

/** Gap stands for rows that are not in sight. */
function Gap({ columns, height }: { columns: number; height: number }) {
  return (
    <tr aria-hidden>
      <td colSpan={columns} style={{ height, padding: 0 }} />
    </tr>
  );
}

/** Choose says which columns are shown; the first one always is. */
function Choose<T>({
  columns,
  shown,
  onChange,
}: {
  columns: Column<T>[];
  shown: ColumnVisibilityState;
  onChange: (shown: ColumnVisibilityState) => void;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label="Choose columns"
        title="Choose columns"
        className="ml-auto inline-flex size-6 shrink-0 cursor-pointer items-center justify-center rounded text-soft hover:bg-wash hover:text-ink"
      >
        <Columns3 size={14} aria-hidden />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-20 min-w-40 rounded-lg border border-rule bg-sheet p-1 text-sm shadow-lg"
        >
          {columns
            .slice(1)
            .filter((c) => c.head.trim())
            .map((c) => (
              <DropdownMenu.CheckboxItem
                key={c.head}
                checked={shown[c.head] ?? true}
                onCheckedChange={(on) => onChange({ ...shown, [c.head]: on })}
                onSelect={(e) => e.preventDefault()}
                className="flex cursor-pointer items-center gap-2 rounded py-1 pr-3 pl-7 outline-none data-[highlighted]:bg-wash"
              >
                <DropdownMenu.ItemIndicator className="-ml-5">
                  <Check size={14} />
                </DropdownMenu.ItemIndicator>
                {c.head}
              </DropdownMenu.CheckboxItem>
            ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
