import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useDeferredValue, useMemo, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { count, grams } from "../../ui/format";
import { Faults } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";

/** The ways in which a crop may be raised, side by side for one quantity, each with the reason that somebody wrote. */
export function Schools({ crop, here }: { crop: string; here: string }) {
  const [typed, setTyped] = useState("");
  const quantity = useDeferredValue(typed);
  const { data: ways, error } = useQuery({
    queryKey: ["library", "schools", crop, quantity],
    queryFn: () => take(api.GET("/api/methods/schools", { params: { query: { crop, quantity } } })),
    placeholderData: keepPreviousData,
  });
  const columns = useMemo(() => columnsOf(here), [here]);
  if (!ways || ways.length < (here ? 2 : 1)) return null;
  return (
    <section className="mt-4 max-w-3xl">
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
      <Table
        bare
        name="ways"
        label="ways"
        columns={columns}
        rows={ways}
        rowKey={(way) => way.slug}
        on={(way) => way.slug === here}
      />
    </section>
  );
}

type Way = Schemas["SchoolOut"];

function columnsOf(here: string): Column<Way>[] {
  return [
    {
      key: "way",
      head: "Way",
      value: (way) => way.name,
      cell: (way) => (
        <>
          {way.slug === here ? (
            <b>{way.name}</b>
          ) : (
            <Link to="/methods" search={{ kind: "method", row: way.slug }}>
              {way.name}
            </Link>
          )}
          {way.own ? <span className="note"> own</span> : null}
        </>
      ),
    },
    { key: "form", head: "Gives", value: (way) => way.form },
    {
      key: "start",
      head: "Begins with",
      value: (way) => way.start,
      cell: (way) =>
        way.start === null ? (
          ""
        ) : (
          <>
            {count(way.start)} {way.start_unit}
            {way.trays ? <span className="note block">{count(way.trays)} trays</span> : null}
          </>
        ),
      num: true,
    },
    {
      key: "seed",
      head: "Seed",
      value: (way) => way.seed_g,
      cell: (way) => (way.seed_g === null ? "" : grams(way.seed_g)),
      num: true,
    },
    {
      key: "days",
      head: "Days, begun today",
      value: (way) => way.days,
      cell: (way) => `${way.days ?? ""}${way.give_days >= 0.5 ? ` ± ${Math.round(way.give_days)}` : ""}`,
      num: true,
    },
    {
      key: "why",
      head: "Why",
      value: (way) => way.note,
      cell: (way) => (
        <span className="note">
          {way.usual ? "the usual way. " : ""}
          {way.note}
          {way.problems.map((problem) => (
            <span key={problem} className="block">
              {problem}
            </span>
          ))}
        </span>
      ),
    },
  ];
}
