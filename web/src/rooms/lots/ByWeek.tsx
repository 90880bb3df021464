import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import type { Schemas } from "../../api/client";
import { requirementsQuery } from "../../api/queries";
import { isoWeek, shortDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { Empty, Faults } from "../../ui/parts";

type Row = Schemas["RequiredOut"];

const SPANS = ["6", "12", "26", "52"];

/** An amount as it is read across a row: whole where it is large, a decimal where it is small, nothing where nothing is needed. */
const amount = (value: number, unit: string) =>
  value <= 0
    ? ""
    : value < 10 && unit !== "pieces"
      ? (Math.round(value * 10) / 10 || "<0.1").toString()
      : count(Math.round(value));

/** What the weeks ahead take of each thing, the week in which it must be there. */
export function ByWeek() {
  const [weeks, setWeeks] = useState("12");
  const { data, error } = useQuery(requirementsQuery(Number(weeks)));
  const kinds = [...new Set(data?.rows.map((row) => row.kind))];
  return (
    <>
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
        <section aria-label="Requirements by week" tabIndex={0} className="overflow-x-auto">
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col" className="sticky left-0 bg-paper">
                  Week of
                </th>
                {data.weeks.map((monday, n) => (
                  <th key={monday} scope="col" className={`num ${n ? "" : "!font-bold"}`} title={shortDay(monday)}>
                    {isoWeek(monday).week}
                  </th>
                ))}
                <th scope="col" className="num">
                  In all
                </th>
              </tr>
            </thead>
            <tbody>
              {kinds.map((kind) => (
                <Fragment key={kind}>
                  <tr>
                    <th scope="colgroup" colSpan={data.weeks.length + 2} className="!pt-3 !text-ink">
                      {kind}
                    </th>
                  </tr>
                  {data.rows
                    .filter((row) => row.kind === kind)
                    .map((row) => (
                      <Line key={`${row.what} ${row.unit}`} row={row} weeks={data.weeks} />
                    ))}
                </Fragment>
              ))}
            </tbody>
          </table>
        </section>
      ) : null}
    </>
  );
}

function Line({ row, weeks }: { row: Row; weeks: string[] }) {
  return (
    <tr>
      <th scope="row" className="!border-hair sticky left-0 max-w-56 bg-paper !font-sans !text-ink !whitespace-normal">
        {row.what} <span className="note">{row.unit}</span>
      </th>
      {row.amounts.map((value, n) => (
        <td key={weeks[n]} className={`num ${n ? "" : "font-bold"}`}>
          {amount(value, row.unit)}
        </td>
      ))}
      <td className="num">{row.kind === "Benches" ? "" : amount(row.total, row.unit)}</td>
    </tr>
  );
}
