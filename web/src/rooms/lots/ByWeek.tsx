import { useQuery } from "@tanstack/react-query";
import { Fragment, type RefObject, useLayoutEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { requirementsQuery } from "../../api/queries";
import { isoWeek, shortDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { Empty, Faults } from "../../ui/parts";

type Row = Schemas["RequiredOut"];

const SPANS = ["6", "12", "26", "52"];

/** An amount as it is read across a row: whole where it is large, a decimal where it is small, nothing where nothing is needed. */
const amount = (value: number, whole: boolean) =>
  value <= 0
    ? ""
    : value < 10 && !whole
      ? (Math.round(value * 10) / 10 || "<0.1").toString()
      : count(Math.round(value));

const total = (amounts: number[]) => amounts.reduce((all, one) => all + one, 0);

const NAME = 170; // px, of the first column and of a number, at the usual size of text
const NUMBER = 64;

/** How many weeks find room beside each other; the others are one column, so that nothing but the page scrolls. */
function useRoom(holder: RefObject<HTMLElement | null>, weeks: number): number {
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const element = holder.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(element.clientWidth));
    watch.observe(element);
    setWidth(element.clientWidth);
    return () => watch.disconnect();
  }, [holder]);
  const size = Number.parseFloat(getComputedStyle(document.documentElement).fontSize) / 16;
  const room = Math.floor((width / size - NAME) / NUMBER) - 1;
  return weeks <= room ? weeks : Math.max(1, room - 1);
}

/** What the weeks ahead take of each thing, the week in which it must be there. */
export function ByWeek() {
  const [weeks, setWeeks] = useState("12");
  const { data, error } = useQuery(requirementsQuery(Number(weeks)));
  const holder = useRef<HTMLDivElement>(null);
  const shown = useRoom(holder, data?.weeks.length ?? 0);
  const kinds = [...new Set(data?.rows.map((row) => row.kind))];
  return (
    <div ref={holder}>
      <p className="mb-2 flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          Weeks ahead
          <select className="input !w-auto" value={weeks} onChange={(event) => setWeeks(event.target.value)}>
            {SPANS.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        </label>
        <a href={`/api/requirements/export?weeks=${weeks}`}>Export CSV</a>
        <a href={`/api/requirements/export?weeks=${weeks}&kind=xlsx`}>Workbook</a>
        <span className="note">
          Of batches that are planned or stand; what should have begun already counts in this week. Stock is not taken
          off: that is what “To buy” does.
        </span>
      </p>
      <Faults error={error} />
      {data && !data.rows.length ? (
        <Empty title="Nothing is planned for these weeks">
          <p>What planned batches take of seed, trays, mixes, benches and hours stands here by week.</p>
        </Empty>
      ) : null}
      {data?.rows.length ? (
        <section aria-label="Requirements by week">
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">Week of</th>
                {data.weeks.slice(0, shown).map((monday, n) => (
                  <th key={monday} scope="col" className={`num ${n ? "" : "!font-bold"}`} title={shortDay(monday)}>
                    {isoWeek(monday).week}
                  </th>
                ))}
                {shown < data.weeks.length ? (
                  <th scope="col" className="num">
                    Later
                  </th>
                ) : null}
                <th scope="col" className="num">
                  In all
                </th>
              </tr>
            </thead>
            <tbody>
              {kinds.map((kind) => (
                <Fragment key={kind}>
                  <tr>
                    <th
                      scope="colgroup"
                      colSpan={shown + (shown < data.weeks.length ? 3 : 2)}
                      className="!pt-3 !text-ink"
                    >
                      {kind}
                    </th>
                  </tr>
                  {data.rows
                    .filter((row) => row.kind === kind)
                    .map((row) => (
                      <Line key={`${row.what} ${row.unit}`} row={row} weeks={data.weeks} shown={shown} />
                    ))}
                </Fragment>
              ))}
            </tbody>
          </table>
        </section>
      ) : null}
    </div>
  );
}

function Line({ row, weeks, shown }: { row: Row; weeks: string[]; shown: number }) {
  const whole = row.amounts.every(Number.isInteger);
  const mean = row.kind === "Benches"; // what stands for a week is not added up
  return (
    <tr>
      <th scope="row" className="!border-hair max-w-56 !font-sans !text-ink !whitespace-normal">
        {row.what} <span className="note">{row.unit}</span>
      </th>
      {row.amounts.slice(0, shown).map((value, n) => (
        <td key={weeks[n]} className={`num ${n ? "" : "font-bold"}`}>
          {amount(value, whole)}
        </td>
      ))}
      {shown < weeks.length ? (
        <td className="num">{mean ? "" : amount(total(row.amounts.slice(shown)), whole)}</td>
      ) : null}
      <td className="num">{mean ? "" : amount(row.total, whole)}</td>
    </tr>
  );
}
