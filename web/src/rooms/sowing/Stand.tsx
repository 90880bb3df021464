import type { Schemas } from "../../api/client";
import { standQuery } from "../../api/queries";
import { Measured } from "./Measured";

const MEASURES = [
  ["in_row", "plant to plant", "10 cm"],
  ["gaps", "may stay empty", "3 %"],
  ["pulled", "pulled an hour", "1500"],
  ["singled", "singled an hour", "900"],
] as const;

/** A stand that is thinned: sown thick, or at stand; every figure opens how it came about. */
export function Stand({ card }: { card: Schemas["CardOut"] }) {
  return (
    <Measured
      title="Thick and thinned, or at stand"
      measures={MEASURES}
      query={(typed) => standQuery(card.batch_id, typed)}
    />
  );
}
