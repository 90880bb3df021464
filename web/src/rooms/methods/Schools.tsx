import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useDeferredValue, useState } from "react";
import { api, take } from "../../api/client";
import { count, grams } from "../../ui/format";
import { Faults } from "../../ui/parts";

/** The ways in which a crop may be raised, side by side for one quantity, each with the reason that somebody wrote. */
export function Schools({ crop, here }: { crop: string; here: string }) {
  const [typed, setTyped] = useState("");
  const quantity = useDeferredValue(typed);
  const { data: ways, error } = useQuery({
    queryKey: ["library", "schools", crop, quantity],
    queryFn: () => take(api.GET("/api/methods/schools", { params: { query: { crop, quantity } } })),
    placeholderData: keepPreviousData,
  });
  if (!ways || ways.length < (here ? 2 : 1)) return null;
  return (
    <section className="mt-4 max-w-3xl overflow-x-auto">
      <div className="flex flex-wrap items-baseline gap-3">
        <h2>{here ? "Beside the other ways" : "How it is raised"}</h2>
        <label className="note flex items-center gap-2">
          for
          <input
            className="input !w-24"
            aria-label="Quantity to compare"
            placeholder="1,000"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
        </label>
      </div>
      <Faults error={error} />
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">Way</th>
            <th scope="col">Gives</th>
            <th scope="col" className="num">
              Begins with
            </th>
            <th scope="col" className="num">
              Seed
            </th>
            <th scope="col" className="num">
              Days, begun today
            </th>
            <th scope="col">Why</th>
          </tr>
        </thead>
        <tbody>
          {ways?.map((way) => (
            <tr key={way.slug} className={way.slug === here ? "bg-panel" : ""}>
              <td>
                {way.slug === here ? (
                  <b>{way.name}</b>
                ) : (
                  <Link to="/methods" search={{ kind: "method", row: way.slug }}>
                    {way.name}
                  </Link>
                )}
                {way.own ? <span className="note"> own</span> : null}
              </td>
              <td>{way.form}</td>
              <td className="num">
                {way.start === null ? "" : `${count(way.start)} ${way.start_unit}`}
                {way.trays ? <div className="note">{count(way.trays)} trays</div> : null}
              </td>
              <td className="num">{way.seed_g === null ? "" : grams(way.seed_g)}</td>
              <td className="num">
                {way.days ?? ""}
                {way.give_days >= 0.5 ? ` ± ${Math.round(way.give_days)}` : ""}
              </td>
              <td className="note">
                {way.usual ? "the usual way. " : ""}
                {way.note}
                {way.problems.map((problem) => (
                  <span key={problem} className="block">
                    {problem}
                  </span>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
