import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import type { Schemas } from "../../api/client";
import { settsQuery } from "../../api/queries";
import { Faults } from "../../ui/parts";
import { Figures } from "./Figures";

const MEASURES = [
  ["tuber_g", "a tuber", "1.1 kg"],
  ["sett_g", "a sett", "100 g"],
  ["footprint_cm2", "a sett on the bed", "40 cm²"],
  ["bed_width_cm", "bed wide", "60 cm"],
  ["an_hour", "setts an hour", "120"],
  ["dip_kg", "in one dip", "10 kg"],
  ["dip_l", "of", "20 L"],
] as const;

/** The work of a batch of setts, from the tubers to the ridge; every figure opens how it came about. */
export function Setts({ card }: { card: Schemas["CardOut"] }) {
  const [typed, setTyped] = useState<Record<string, string>>({});
  const { data, error } = useQuery(settsQuery(card.batch_id, useDeferredValue(typed)));
  if (!data?.length) return error ? <Faults error={error} /> : null;
  return (
    <section className="mt-3" aria-label="From tubers to ridges">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h2>From tubers to ridges</h2>
        {MEASURES.map(([name, words, usual]) => (
          <label key={name} className="flex items-baseline gap-2">
            <span className="note">{words}</span>
            <input
              className="input !h-8 !w-24"
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
      <p className="note">
        Each piece with skin and a bud. The dip, its strength, its time and what is worn for it are those of its label.
        Cut pieces dry for a day in the shade before they are laid.
      </p>
    </section>
  );
}
