import type { Schemas } from "../../api/client";
import { settsQuery } from "../../api/queries";
import { Measured } from "./Measured";

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
  return (
    <Measured title="From tubers to ridges" measures={MEASURES} query={(typed) => settsQuery(card.batch_id, typed)}>
      <p className="note">
        Each piece with skin and a bud. The dip, its strength, its time and what is worn for it are those of its label.
        Cut pieces dry for a day in the shade before they are laid.
      </p>
    </Measured>
  );
}
