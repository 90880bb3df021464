import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import type { Schemas } from "../../api/client";
import { chainQuery } from "../../api/queries";
import { Faults } from "../../ui/parts";
import { Figures } from "./Figures";

/** One sowing from kilos of seed to hours; every figure opens how it came about. */
export function Chain({ card }: { card: Schemas["CardOut"] }) {
  const [planted, setPlanted] = useState("");
  const [rate, setRate] = useState("");
  const { data, error } = useQuery(chainQuery(card.batch_id, useDeferredValue(planted), useDeferredValue(rate)));
  if (!data?.length) return error ? <Faults error={error} /> : null;
  return (
    <section className="mt-3" aria-label="From seed to hours">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h2>From seed to hours</h2>
        <label className="flex items-baseline gap-2">
          <span className="note">planted at</span>
          <input
            className="input !h-8 !w-40"
            placeholder="45 × 45 cm, 40,000/ha"
            value={planted}
            maxLength={40}
            onChange={(event) => setPlanted(event.target.value)}
          />
        </label>
        <label className="flex items-baseline gap-2">
          <span className="note">a rate you were told</span>
          <input
            className="input !h-8 !w-32"
            placeholder="600 g/ha"
            value={rate}
            maxLength={40}
            onChange={(event) => setRate(event.target.value)}
          />
        </label>
      </div>
      {error ? <Faults error={error} /> : null}
      <Figures rows={data} />
      {data.map((one) =>
        one.note ? (
          <p key={one.key} role="status" className="max-w-prose py-1">
            {one.note}
          </p>
        ) : null,
      )}
    </section>
  );
}
