import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import type { Schemas } from "../../api/client";
import { standQuery } from "../../api/queries";
import { Faults } from "../../ui/parts";
import { Figures } from "./Figures";

const MEASURES = [
  ["in_row", "plant to plant", "10 cm"],
  ["gaps", "may stay empty", "3 %"],
  ["pulled", "pulled an hour", "1500"],
  ["singled", "singled an hour", "900"],
] as const;

/** A stand that is thinned: sown thick, or at stand; every figure opens how it came about. */
export function Stand({ card }: { card: Schemas["CardOut"] }) {
  const [typed, setTyped] = useState<Record<string, string>>({});
  const { data, error } = useQuery(standQuery(card.batch_id, useDeferredValue(typed)));
  if (!data?.length) return error ? <Faults error={error} /> : null;
  return (
    <section className="mt-3" aria-label="Thick and thinned, or at stand">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h2>Thick and thinned, or at stand</h2>
        {MEASURES.map(([name, words, usual]) => (
          <label key={name} className="flex items-baseline gap-2">
            <span className="note">{words}</span>
            <input
              className="input !h-8 !w-20"
              placeholder={usual}
              value={typed[name] ?? ""}
              maxLength={20}
              onChange={(event) => setTyped({ ...typed, [name]: event.target.value })}
            />
          </label>
        ))}
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
