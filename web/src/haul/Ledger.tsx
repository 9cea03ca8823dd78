// The ledger: a dense table over pages that the server sorts and filters; only visible rows exist.
import { useQueries } from "@tanstack/react-query";
import { type ColumnDef, flexRender, getCoreRowModel, useReactTable } from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";
import { typing } from "../shared/Shortcuts";

const PAGE = 200;
const ROW = 26;
export type Column<T> = {
  id: string;
  header: string;
  width: string;
  cell: (context: { row: { original: T } }) => React.ReactNode;
  sort?: string;
  number?: boolean;
  hint?: string;
};
export type Sorting = { by: string; down: boolean };

type Props<T> = {
  label: string;
  columns: Column<T>[];
  queryKey: readonly unknown[];
  load: (query: URLSearchParams) => Promise<{ total: number; items: T[] }>;
  sorting: Sorting;
  onSort: (sorting: Sorting) => void;
  idOf: (row: T) => string;
  selected: ReadonlyMap<string, unknown>;
  /** ids: all that is chosen now; rows: those of them that this choice was about, the last one clicked. */
  onSelect: (ids: string[], rows: T[], last: T, open: boolean) => void;
  empty: string;
};

export function Ledger<T>(props: Props<T>) {
  const { columns, load, queryKey, sorting, onSort, idOf, selected, onSelect } = props;
  const box = useRef<HTMLDivElement>(null);
  const [cursor, setCursor] = useState(-1);
  const [anchor, setAnchor] = useState(-1);
  const [range, setRange] = useState<[number, number]>([0, 0]);

  const pages = useMemo(() => {
    const out: number[] = [0];
    for (let p = range[0]; p <= range[1]; p++) if (p !== 0) out.push(p);
    return out;
  }, [range]);
  const results = useQueries({
    queries: pages.map((page) => ({
      queryKey: [...queryKey, sorting, page],
      queryFn: () =>
        load(
          new URLSearchParams({
            offset: String(page * PAGE),
            limit: String(PAGE),
            sort: sorting.by,
            descending: String(sorting.down),
          }),
        ),
      staleTime: 60_000,
    })),
  });
  const first = results[0];
  const total = first?.data?.total ?? 0;
  const byPage = useMemo(() => {
    const map = new Map<number, T[]>();
    pages.forEach((page, i) => {
      const items = results[i]?.data?.items;
      if (items) map.set(page, items);
    });
    return map;
  }, [pages, results]);
  const rowAt = (index: number): T | undefined => byPage.get(Math.floor(index / PAGE))?.[index % PAGE];

  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
    onChange: (v) => {
      const items = v.getVirtualItems();
      const from = Math.floor((items[0]?.index ?? 0) / PAGE);
      const to = Math.floor((items.at(-1)?.index ?? 0) / PAGE);
      setRange((old) => (old[0] === from && old[1] === to ? old : [from, to]));
    },
  });
  const table = useReactTable({
    data: [] as T[],
    columns: columns as ColumnDef<T>[],
    getCoreRowModel: getCoreRowModel(),
  });
  const template = columns.map((c) => c.width).join(" ");

  const choose = (index: number, extend: boolean, toggle: boolean, open: boolean) => {
    const row = rowAt(index);
    if (!row) return;
    setCursor(index);
    if (extend && anchor >= 0) {
      const chosen: T[] = [];
      for (let i = Math.min(anchor, index); i <= Math.max(anchor, index); i++) {
        const other = rowAt(i);
        if (other) chosen.push(other);
      }
      onSelect(chosen.map(idOf), chosen, row, open);
      return;
    }
    setAnchor(index);
    if (toggle) {
      const ids = new Set(selected.keys());
      const id = idOf(row);
      if (ids.has(id)) ids.delete(id);
      else ids.add(id);
      onSelect([...ids], [row], row, open);
      return;
    }
    onSelect([idOf(row)], [row], row, open);
  };

  const onKey = (e: React.KeyboardEvent) => {
    if (typing(e.target)) return;
    const steps: Record<string, number> = { ArrowDown: 1, ArrowUp: -1, PageDown: 20, PageUp: -20 };
    const step = steps[e.key];
    if (step !== undefined) {
      e.preventDefault();
      const next = Math.max(0, Math.min(total - 1, (cursor < 0 ? (step > 0 ? -1 : 0) : cursor) + step));
      virtual.scrollToIndex(next);
      choose(next, e.shiftKey, false, true);
    }
    if (e.key === "Home" || e.key === "End") {
      e.preventDefault();
      virtual.scrollToIndex(e.key === "Home" ? 0 : total - 1);
    }
    if (e.key === "Enter" && cursor >= 0) choose(cursor, false, false, true);
  };

  // a new list begins at its top
  const listKey = JSON.stringify([queryKey, sorting]);
  useEffect(() => {
    void listKey;
    box.current?.scrollTo({ top: 0 });
    setCursor(-1);
    setAnchor(-1);
  }, [listKey]);

  return (
    <div
      ref={box}
      role="grid"
      aria-label={props.label}
      aria-rowcount={total + 1}
      aria-multiselectable
      tabIndex={0}
      onKeyDown={onKey}
      className="relative min-h-0 grow overflow-auto bg-base-100"
      data-testid="ledger"
      data-total={total}
    >
      <div role="rowgroup" className="sticky top-0 z-10 border-b rule bg-base-200">
        <div
          role="row"
          className="grid h-7 items-center px-2"
          style={{ gridTemplateColumns: template }}
          aria-rowindex={1}
        >
          {table.getHeaderGroups()[0]?.headers.map((header, i) => {
            const column = columns[i] as Column<T>;
            const active = column.sort === sorting.by;
            return (
              <div
                key={header.id}
                role="columnheader"
                title={column.hint}
                aria-sort={active ? (sorting.down ? "descending" : "ascending") : undefined}
                className={`min-w-0 px-1 text-xs font-semibold ${column.number ? "text-right" : ""}`}
              >
                {column.sort ? (
                  <button
                    type="button"
                    tabIndex={-1}
                    className="inline-flex max-w-full items-center gap-0.5 hover:underline"
                    onClick={() =>
                      onSort({ by: column.sort as string, down: active ? !sorting.down : !!column.number })
                    }
                  >
                    <span className="truncate">
                      {flexRender(header.column.columnDef.header, header.getContext())}
                    </span>
                    {active && (sorting.down ? <ArrowDown size={11} /> : <ArrowUp size={11} />)}
                  </button>
                ) : (
                  flexRender(header.column.columnDef.header, header.getContext())
                )}
              </div>
            );
          })}
        </div>
      </div>
      {first?.isPending && (
        <p role="status" className="p-4 opacity-80">
          Loading rows …
        </p>
      )}
      {first?.error && (
        <p role="alert" className="p-4 text-error">
          {(first.error as Error).message}
        </p>
      )}
      {first?.data && total === 0 && <p className="p-4 opacity-80">{props.empty}</p>}
      <div role="rowgroup" style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rowAt(item.index);
          const chosen = row ? selected.has(idOf(row)) : false;
          return (
            // biome-ignore lint/a11y/useKeyWithClickEvents: keys are handled by the grid
            <div
              key={item.key}
              role="row"
              tabIndex={-1}
              aria-rowindex={item.index + 2}
              aria-selected={chosen}
              data-row={item.index}
              className={`absolute inset-x-0 grid cursor-default items-center border-b px-2 ${
                chosen
                  ? "border-primary bg-primary/25 shadow-[inset_3px_0_0_var(--color-primary)]"
                  : `border-base-200 ${item.index === cursor ? "bg-base-200" : "hover:bg-base-200"}`
              }`}
              style={{ gridTemplateColumns: template, height: ROW, transform: `translateY(${item.start}px)` }}
              onClick={(e) => choose(item.index, e.shiftKey, e.ctrlKey || e.metaKey, true)}
            >
              {columns.map((column) => (
                <div
                  key={column.id}
                  role="gridcell"
                  className={`min-w-0 truncate px-1 ${column.number ? "text-right" : ""}`}
                >
                  {row ? column.cell({ row: { original: row } }) : "·"}
                </div>
              ))}
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** A figure with a small bar, so that large ones stand out without reading. */
export function Bar({ value, most, text }: { value: number; most: number; text: string }) {
  const share = most > 0 ? Math.sqrt(value / most) : 0;
  return (
    <span className="flex items-center justify-end gap-1.5">
      <span className="h-1.5 w-8 overflow-hidden rounded-full bg-base-300" aria-hidden>
        <span className="block h-full bg-secondary" style={{ width: `${Math.min(100, share * 100)}%` }} />
      </span>
      <span className="min-w-0">{text}</span>
    </span>
  );
}
