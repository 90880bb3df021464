import { useEffect, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { AskField, AskForm } from "../../ui/AskForm";
import { count } from "../../ui/format";
import { useAsk } from "../../ui/useAsk";

type List = Schemas["PlantingListOut"];
const NONE = { name: "", area: "", row: "75 cm", in_row: "30 cm", sheet: "" };
const HEADS = [
  ["name", "Where"],
  ["area", "Area"],
  ["row", "Rows apart"],
  ["in_row", "In the row"],
  ["sheet", "Sheet wide"],
] as const;
const KEPT = "planting-list";
const kept = () => {
  try {
    return JSON.parse(sessionStorage.getItem(KEPT) ?? "null") as typeof START | null;
  } catch {
    return null;
  }
};
const START = { crop: "", overlap: "0.5 m", plots: [NONE, NONE, NONE] };

/** Which stacks go where: the earliest ground first, the largest tubers first; nothing is saved. */
export function PlantingList({ crops }: { crops: string[] }) {
  const [list, setList] = useState<List | null>(null);
  const [many, setMany] = useState(() => Math.max(3, kept()?.plots.length ?? 0));
  const named = (typed: typeof START) =>
    typed.plots.map((one, n) => ({ ...one, n })).filter((one) => one.name || one.area);
  const ask = useAsk({
    start: { ...START, crop: crops[0] ?? "", ...kept() },
    again: false,
    names: (field: string, typed: typeof START) =>
      field.replace(/^plots\.(\d+)/, (_, n) => `plots.${named(typed)[Number(n)]?.n ?? n}`),
    save: (typed: typeof START) =>
      take(
        api.POST("/api/tubers/planting-list", {
          body: { ...typed, plots: named(typed).map(({ n: _, ...one }) => one) },
        }),
      ),
    onDone: setList,
  });
  useEffect(() => {
    const watched = ask.form.watch((typed) => sessionStorage.setItem(KEPT, JSON.stringify(typed)));
    return () => watched.unsubscribe();
  }, [ask.form]);
  return (
    <>
      <AskForm ask={ask} button="Reckon the list">
        <AskField
          ask={ask}
          name="crop"
          label="Tubers of"
          type="select"
          options={crops.map((one) => [one, one] as const)}
        />
        <div>
          <table className="tbl max-sm:block sm:!w-auto">
            <thead className="max-sm:hidden">
              <tr>
                {HEADS.map(([name, words]) => (
                  <th key={name} scope="col">
                    {words}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody className="max-sm:block">
              {Array.from({ length: many }, (_, n) => (
                <tr key={n} className="max-sm:grid max-sm:grid-cols-2">
                  {HEADS.map(([name, words]) => (
                    <td key={name}>
                      <AskField
                        ask={ask}
                        name={`plots.${n}.${name}`}
                        label={`Place ${n + 1}, ${words.toLowerCase()}`}
                        quiet
                        className={`w-full ${name === "name" ? "sm:!w-40" : "sm:!w-24"}`}
                        maxLength={name === "name" ? 60 : 30}
                      />
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p className="note">
          Earliest ground first: glass and tunnels, then steep early slopes, then the flat. The largest tubers go first.
        </p>
        <button
          type="button"
          className="btn-link w-fit"
          onClick={() => {
            ask.form.setValue(`plots.${many}`, NONE);
            setMany(many + 1);
          }}
        >
          another place
        </button>
        <AskField ask={ask} name="overlap" label="Sheets lie over by" className="!w-24" />
      </AskForm>
      {list ? <Listed list={list} /> : null}
    </>
  );
}

function Listed({ list }: { list: List }) {
  return (
    <section className="mt-4 overflow-x-auto" tabIndex={0} aria-label="The list">
      <p className="text-[1.15rem]">{list.sentence}</p>
      <table className="tbl !w-auto justify-self-start">
        <thead>
          <tr>
            <th scope="col">Where</th>
            <th scope="col">Grade</th>
            <th scope="col">From stacks</th>
            <th scope="col" className="num">
              Trays
            </th>
            <th scope="col" className="num">
              Tubers
            </th>
            <th scope="col" className="num">
              kg
            </th>
            <th scope="col" className="num">
              t/ha
            </th>
          </tr>
        </thead>
        <tbody>
          {list.plantings.map((one) => (
            <tr key={`${one.plot} ${one.first}`}>
              <td>{one.plot}</td>
              <td>{one.grade}</td>
              <td>
                {one.first} – {one.last}
              </td>
              <td className="num">{count(one.trays)}</td>
              <td className="num">{count(one.tubers)}</td>
              <td className="num">{count(Math.round(one.kg))}</td>
              <td className="num">{one.t_per_ha.toFixed(2)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <ul className="mt-2">
        {list.plots.map((one) =>
          one.lacks || one.cover_m ? (
            <li key={one.name}>
              {one.name}: {one.lacks ? <b>{count(one.lacks)} tubers lacking</b> : null}
              {one.lacks && one.cover_m ? ", " : ""}
              {one.cover_m ? `${count(Math.round(one.cover_m))} m of sheet` : ""}
            </li>
          ) : null,
        )}
      </ul>
    </section>
  );
}
