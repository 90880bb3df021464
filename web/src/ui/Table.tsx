import { useNavigate } from "@tanstack/react-router";
import {
  columnFilteringFeature,
  columnVisibilityFeature,
  createColumnHelper,
  createFilteredRowModel,
  createSortedRowModel,
  globalFilteringFeature,
  rowSortingFeature,
  tableFeatures,
  useTable,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import {
  isValidElement,
  memo,
  type ReactNode,
  type Ref,
  type RefObject,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { few } from "./format";
import { useAddress, useSpare } from "./hooks";

export interface Column<Row> {
  key: string;
  head: string;
  /** What the column sorts and filters by. */
  value: (row: Row) => string | number | null;
  cell?: (row: Row) => ReactNode;
  num?: boolean;
  /** Hidden until asked for. */
  spare?: boolean;
}

interface Props<Row> {
  name: string;
  label: string;
  columns: Column<Row>[];
  rows: Row[];
  rowKey: (row: Row) => number | string;
  on?: (row: Row) => boolean;
  /** What comes first while nobody sorts: the lower the earlier; equals stay as they come. */
  rank?: (row: Row) => number;
  tools?: ReactNode;
  /** A few rows beside other things: without filter and columns to choose. */
  bare?: boolean;
}

const features = tableFeatures({
  columnFilteringFeature,
  globalFilteringFeature,
  columnVisibilityFeature,
  rowSortingFeature,
  filteredRowModel: createFilteredRowModel(),
  sortedRowModel: createSortedRowModel(),
});

const LONG = 60;
const SPARE = 8; // rows drawn beyond what is seen
const ROW = 29; // px, until it is drawn

/** Tables are for comparing: they sort, filter, keep their columns, draw only what is seen, and are cards where they do not fit. */
export function Table<Row extends object>({
  name,
  label,
  columns,
  rows,
  rowKey,
  on,
  rank,
  tools,
  bare = false,
}: Props<Row>) {
  const [filter, setFilter] = useInAddress("filter", bare);
  const [sorted, setSorted] = useInAddress("sort", bare);
  const [hidden, setHidden] = useHidden(name, columns);
  const data = useMemo(() => (rank ? [...rows].sort((a, b) => rank(a) - rank(b)) : rows), [rows, rank]);
  const defs = useMemo(() => {
    const helper = createColumnHelper<typeof features, Row>();
    return helper.columns(
      columns.map((column) =>
        helper.accessor((row: Row) => column.value(row), {
          id: column.key,
          sortFn: (a, b) => compare(column.value(a.original), column.value(b.original)),
        }),
      ),
    );
  }, [columns]);
  const texts = useMemo(() => seenIn(columns), [columns]);
  const first = columns[0]?.key;
  const down = sorted.startsWith("-");
  const by = sorted.replace(/^-/, "");
  // The same words are the same state: else every step of scrolling would filter and sort anew.
  const state = useMemo(
    () => ({
      globalFilter: filter,
      sorting: columns.some((column) => column.key === by) ? [{ id: by, desc: down }] : [],
      columnVisibility: Object.fromEntries(hidden.map((key) => [key, false])),
    }),
    [filter, columns, by, down, hidden],
  );
  const table = useTable({
    features,
    columns: defs,
    data,
    enableMultiSort: false,
    getColumnCanGlobalFilter: (column) => column.id === first, // one column asks for the whole row
    globalFilterFn: (row, _, words: string) =>
      words
        .toLowerCase()
        .split(/\s+/)
        .filter(Boolean)
        .every((word) => texts(row.original as Row).includes(word)),
    state,
  });
  const found = table.getRowModel().rows;
  const shown = useMemo(() => columns.filter((column) => !hidden.includes(column.key)), [columns, hidden]);
  const holder = useRef<HTMLDivElement>(null);
  const body = useRef<HTMLTableSectionElement>(null);
  const { cards, width } = useCards(holder, shown.length, found);
  const long = found.length > LONG;
  const [margin, setMargin] = useState(0);
  // Asking where the rows begin makes the browser lay out everything: when something above them may have changed.
  useLayoutEffect(() => setMargin(topOf(body.current)), [rows, cards, width, filter, hidden]);
  const { widths, height } = useSizes(holder, long && !cards, `${width} ${shown.map((column) => column.key).join()}`);
  const spare = useSpare(SPARE, height || ROW);
  const virtual = useVirtualizer({
    count: found.length,
    getScrollElement: () => document.getElementById("work"),
    estimateSize: () => (cards ? 3 * ROW : height || ROW),
    scrollMargin: margin,
    overscan: spare,
    useFlushSync: false, // drawing in a task of its own: the spare rows bridge the frame between
    // Asking a row for its height while it is put in makes the browser lay out everything: it is told a moment later anyway.
    measureElement: (_, told, all) => told?.borderBoxSize[0]?.blockSize ?? all.options.estimateSize(0),
    enabled: long,
  });
  // Rows as high as was reckoned need no correcting while they pass.
  useLayoutEffect(() => {
    if (height) virtual.measure();
  }, [height, virtual]);
  const at = found.findIndex((row) => on?.(row.original as Row));
  // What is chosen from elsewhere is brought into sight, once.
  useEffect(() => {
    if (at >= 0 && long) virtual.scrollToIndex(at, { align: "center" });
  }, [at, long, virtual]);
  const items = long ? virtual.getVirtualItems() : found.map((_, index) => ({ index, start: margin, end: margin }));
  const above = long ? Math.max(0, (items[0]?.start ?? margin) - margin) : 0;
  const below = long ? Math.max(0, virtual.getTotalSize() - ((items.at(-1)?.end ?? margin) - margin)) : 0;
  const sort = (key: string) => setSorted(by === key ? (down ? "" : `-${key}`) : key);
  return (
    <div className="flex flex-col">
      {bare ? null : (
        <div className="flex flex-wrap items-center gap-3 pb-2">
          <input
            className="input !w-56"
            placeholder="Filter"
            aria-label={`Filter ${label}`}
            value={filter}
            onChange={(event) => setFilter(event.target.value)}
          />
          <span className="note" role="status">
            {found.length === rows.length ? few(rows.length, "row") : `${found.length} of ${few(rows.length, "row")}`}
          </span>
          {cards ? (
            <label className="note flex items-center gap-1">
              Sorted by
              <select className="input !w-auto" value={by} onChange={(event) => setSorted(event.target.value)}>
                <option value="">what matters first</option>
                {shown.map((column) => (
                  <option key={column.key} value={column.key}>
                    {column.head}
                  </option>
                ))}
              </select>
            </label>
          ) : null}
          <details className="relative">
            <summary className="btn-link cursor-pointer list-none">Columns</summary>
            <div className="absolute z-20 grid gap-1 border border-ink bg-panel p-2">
              {columns.map((column) => (
                <label key={column.key} className="flex gap-2 whitespace-nowrap">
                  <input
                    type="checkbox"
                    checked={!hidden.includes(column.key)}
                    onChange={(event) =>
                      setHidden(
                        event.target.checked ? hidden.filter((key) => key !== column.key) : [...hidden, column.key],
                      )
                    }
                  />
                  {column.head}
                </label>
              ))}
            </div>
          </details>
          <span className="flex-1" />
          {tools}
        </div>
      )}
      <section ref={holder} aria-label={label} className={cards ? "" : "overflow-x-clip"}>
        <table className={`tbl ${cards ? "cards" : ""} ${widths ? "table-fixed" : ""}`}>
          {widths ? (
            <colgroup>
              {shown.map((column, n) => (
                <col key={column.key} style={{ width: widths[n] }} />
              ))}
            </colgroup>
          ) : null}
          <thead className={cards ? "sr-only" : ""}>
            <tr>
              {shown.map((column) => (
                <th
                  key={column.key}
                  scope="col"
                  className={`sticky top-0 z-10 bg-paper ${column.num ? "num" : ""}`}
                  aria-sort={by === column.key ? (down ? "descending" : "ascending") : "none"}
                >
                  <button type="button" tabIndex={cards ? -1 : 0} onClick={() => sort(column.key)}>
                    {column.head}
                    <span aria-hidden="true">{by === column.key ? (down ? " ▾" : " ▴") : ""}</span>
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody ref={body}>
            {above > 0 ? <tr className="gap" style={{ height: above }} /> : null}
            {items.map(({ index }) => {
              const row = found[index]?.original as Row | undefined;
              if (row === undefined) return null;
              return (
                <Line
                  key={rowKey(row)}
                  row={row}
                  columns={shown}
                  chosen={on?.(row) ?? false}
                  cards={cards}
                  plain={spare < SPARE}
                  index={index}
                  measure={long ? virtual.measureElement : null}
                />
              );
            })}
            {below > 0 ? <tr className="gap" style={{ height: below }} /> : null}
          </tbody>
        </table>
      </section>
    </div>
  );
}

/** Where a part begins inside what scrolls [px]. */
function topOf(part: HTMLElement | null): number {
  const main = document.getElementById("work");
  if (!part || !main) return 0;
  return part.getBoundingClientRect().top - main.getBoundingClientRect().top + main.scrollTop;
}

interface LineProps<Row> {
  row: Row;
  columns: Column<Row>[];
  chosen: boolean;
  cards: boolean;
  /** Only its words, while the list is torn along: links and flags come when it rests. */
  plain: boolean;
  index: number;
  measure: Ref<HTMLTableRowElement>;
}

/** One row; it is drawn again only when something of it changes, however far the list is scrolled. */
const Line = memo(function Line<Row>({ row, columns, chosen, cards, plain, index, measure }: LineProps<Row>) {
  return (
    <tr data-on={chosen} data-index={index} ref={measure}>
      {columns.map((column) => {
        const full = column.cell ? column.cell(row) : column.value(row);
        const shown = plain && isValidElement(full) ? wordsOf(full) || column.value(row) : full;
        if (cards && (shown === "" || shown === null)) return null;
        return (
          <td key={column.key} className={column.num && !cards ? "num" : ""} data-head={column.head}>
            {shown}
          </td>
        );
      })}
    </tr>
  );
}) as <Row>(props: LineProps<Row>) => ReactNode;

const WRITTEN_MS = 350;

/** A word that stands in the address too, so that a link or Back finds the list as it was. */
function useInAddress(key: "filter" | "sort", apart: boolean): [string, (value: string) => void] {
  const navigate = useNavigate();
  const address = useAddress();
  const there = apart ? "" : (address[key] ?? "");
  const [value, setValue] = useState(there);
  const written = useRef(there);
  // Somebody came by a link with another word.
  useEffect(() => {
    if (there !== written.current) {
      written.current = there;
      setValue(there);
    }
  }, [there]);
  useEffect(() => {
    if (apart || value === written.current) return;
    const later = window.setTimeout(() => {
      written.current = value;
      navigate({ to: ".", search: (old) => ({ ...old, [key]: value || undefined }), replace: true });
    }, WRITTEN_MS);
    return () => window.clearTimeout(later);
  }, [value, key, navigate, apart]);
  return [value, setValue];
}

/** Whether the columns find no room side by side: then each row is a card. */
function useCards(
  holder: RefObject<HTMLDivElement | null>,
  columns: number,
  rows: unknown,
): { cards: boolean; width: number } {
  const [needs, setNeeds] = useState(0); // px, once it was seen not to fit
  const [width, setWidth] = useState(Number.POSITIVE_INFINITY);
  useLayoutEffect(() => setNeeds(0), [columns]);
  useLayoutEffect(() => {
    const element = holder.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(element.clientWidth));
    watch.observe(element);
    setWidth(element.clientWidth);
    return () => watch.disconnect();
  }, [holder]);
  const cards = needs > width;
  useLayoutEffect(() => {
    const table = holder.current?.querySelector("table");
    if (!cards && table && table.scrollWidth > width + 1) setNeeds(table.scrollWidth);
    // Asking for the width makes the browser lay out everything: not at each step of scrolling.
  }, [holder, cards, width, columns, rows]);
  return { cards, width };
}

/** What somebody reads in a row, in small letters: the filter finds what is seen, and what the row sorts by. */
function seenIn<Row>(columns: Column<Row>[]): (row: Row) => string {
  const known = new Map<Row, string>();
  return (row) => {
    let text = known.get(row);
    if (text === undefined) {
      const parts = columns.flatMap((column) => [
        column.cell ? wordsOf(column.cell(row)) : "",
        column.value(row) ?? "",
      ]);
      text = parts.join(" ").replace(/\s+/g, " ").toLowerCase();
      known.set(row, text);
    }
    return text;
  };
}

/** The words of a piece of page, as far as they stand in it as text. */
export function wordsOf(node: ReactNode): string {
  if (typeof node === "string" || typeof node === "number") return String(node);
  if (Array.isArray(node)) return node.map(wordsOf).join(" ");
  if (isValidElement<{ children?: ReactNode }>(node)) return wordsOf(node.props.children);
  return "";
}

function compare(a: string | number | null, b: string | number | null): number {
  if (a === b) return 0;
  if (a === null) return 1;
  if (b === null) return -1;
  return typeof a === "number" && typeof b === "number"
    ? a - b
    : String(a).localeCompare(String(b), "en", { numeric: true });
}

interface Sizes {
  widths: number[] | null;
  height: number;
}

const UNKNOWN: Sizes = { widths: null, height: 0 };

/** Of a long table, of which only some rows are drawn at a time: how wide its columns and how high a row was first drawn, so that none jumps. */
function useSizes(holder: RefObject<HTMLDivElement | null>, long: boolean, of: string): Sizes {
  const [kept, setKept] = useState<(Sizes & { of: string }) | null>(null);
  useLayoutEffect(() => {
    if (!long || kept?.of === of) return;
    const heads = [...(holder.current?.querySelectorAll("th") ?? [])];
    const rows = [...(holder.current?.querySelectorAll("tr[data-index]") ?? [])];
    const heights = rows.map((row) => row.getBoundingClientRect().height).sort((a, b) => a - b);
    const height = heights[heights.length >> 1] ?? 0;
    if (heads.length && height) setKept({ of, widths: heads.map((head) => head.offsetWidth), height });
  });
  return long && kept?.of === of ? kept : UNKNOWN;
}

function useHidden<Row>(name: string, columns: Column<Row>[]): [string[], (keys: string[]) => void] {
  const kept = `aldrip.columns.${name}`;
  const [hidden, setRaw] = useState<string[]>(() => {
    const found = localStorage.getItem(kept);
    return found
      ? (JSON.parse(found) as string[])
      : columns.filter((column) => column.spare).map((column) => column.key);
  });
  return [
    hidden,
    (keys) => {
      localStorage.setItem(kept, JSON.stringify(keys));
      setRaw(keys);
    },
  ];
}
