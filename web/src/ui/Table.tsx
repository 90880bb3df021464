import { useVirtualizer } from "@tanstack/react-virtual";
import { isValidElement, type ReactNode, type RefObject, useLayoutEffect, useMemo, useRef, useState } from "react";
import { few } from "./format";

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
  tools?: ReactNode;
}

const LONG = 120;

/** Tables are for comparing: they sort, filter, keep their columns; long ones draw only what is seen. */
export function Table<Row>({ name, label, columns, rows, rowKey, on, tools }: Props<Row>) {
  const [filter, setFilter] = useState("");
  const [sort, setSort] = useState<{ key: string; down: boolean } | null>(null);
  const [hidden, setHidden] = useHidden(name, columns);
  const shown = columns.filter((column) => !hidden.includes(column.key));
  const texts = useMemo(() => seenIn(columns), [columns]);
  const found = useMemo(() => {
    const words = filter.toLowerCase().split(/\s+/).filter(Boolean);
    const hits = words.length ? rows.filter((row) => words.every((word) => texts(row).includes(word))) : rows;
    const by = sort && columns.find((column) => column.key === sort.key);
    if (!by) return hits;
    return [...hits].sort((a, b) => compare(by.value(a), by.value(b)) * (sort.down ? -1 : 1));
  }, [rows, columns, filter, sort, texts]);
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: found.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 29,
    overscan: 20,
    enabled: found.length > LONG,
  });
  const long = found.length > LONG;
  const widths = useWidths(scroller, long, shown.map((column) => column.key).join());
  const items = long ? virtual.getVirtualItems() : found.map((_, index) => ({ index, start: 0, end: 0 }));
  const above = long ? (items[0]?.start ?? 0) : 0;
  const below = long ? virtual.getTotalSize() - (items.at(-1)?.end ?? 0) : 0;
  return (
    <div className="flex min-h-0 flex-col">
      <div className="flex flex-wrap items-center gap-3 pb-2">
        <input
          className="input !w-56"
          placeholder="Filter"
          aria-label={`Filter ${label}`}
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
        />
        <span className="note">
          {found.length === rows.length ? few(rows.length, "row") : `${found.length} of ${few(rows.length, "row")}`}
        </span>
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
      <section
        ref={scroller}
        aria-label={label}
        tabIndex={0}
        className={long ? "min-h-0 max-h-[calc(100vh-230px)] overflow-auto" : "overflow-x-auto"}
      >
        <table className={`tbl ${widths ? "table-fixed" : ""}`}>
          {widths ? (
            <colgroup>
              {shown.map((column, n) => (
                <col key={column.key} style={{ width: widths[n] }} />
              ))}
            </colgroup>
          ) : null}
          <thead>
            <tr>
              {shown.map((column) => (
                <th
                  key={column.key}
                  scope="col"
                  className={`sticky top-0 z-10 bg-paper ${column.num ? "num" : ""}`}
                  aria-sort={sort?.key === column.key ? (sort.down ? "descending" : "ascending") : "none"}
                >
                  <button
                    type="button"
                    onClick={() => setSort({ key: column.key, down: sort?.key === column.key ? !sort.down : false })}
                  >
                    {column.head}
                    <span aria-hidden="true">{sort?.key === column.key ? (sort.down ? " ▾" : " ▴") : ""}</span>
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {above > 0 ? <tr style={{ height: above }} /> : null}
            {items.map((item) => {
              const row = found[item.index];
              if (row === undefined) return null;
              return (
                <tr
                  key={rowKey(row)}
                  data-on={on?.(row) ?? false}
                  ref={(node) => {
                    if (node && on?.(row)) node.scrollIntoView({ block: "nearest" });
                  }}
                >
                  {shown.map((column) => (
                    <td key={column.key} className={column.num ? "num" : ""}>
                      {column.cell ? column.cell(row) : column.value(row)}
                    </td>
                  ))}
                </tr>
              );
            })}
            {below > 0 ? <tr style={{ height: below }} /> : null}
          </tbody>
        </table>
      </section>
    </div>
  );
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

/** Of a long table, of which only some rows are drawn at a time: the widths of its columns as first drawn, so that none jumps. */
function useWidths(scroller: RefObject<HTMLDivElement | null>, long: boolean, of: string): number[] | null {
  const [kept, setKept] = useState<{ of: string; widths: number[] } | null>(null);
  useLayoutEffect(() => {
    if (!long || kept?.of === of) return;
    const heads = [...(scroller.current?.querySelectorAll("th") ?? [])];
    if (heads.length) setKept({ of, widths: heads.map((head) => head.offsetWidth) });
  });
  return long && kept?.of === of ? kept.widths : null;
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
