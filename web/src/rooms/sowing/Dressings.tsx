import { useQuery } from "@tanstack/react-query";
import { dressingsQuery, type Ref } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { shortDay } from "../../ui/dates";
import { grams, kilos } from "../../ui/format";

/** Solid feed of a batch by day: what each gets, in all, and on a hectare; every sum opens how it came about. */
export function Dressings({ batchId }: { batchId: Ref }) {
  const { data } = useQuery(dressingsQuery(batchId));
  const { show } = useWorking();
  if (!data?.length) return null;
  return (
    <section className="mt-3" aria-label="Dressings">
      <h3 className="font-semibold">Dressings</h3>
      <ul>
        {data.map((one) => (
          <li key={one.task_id} className="flex flex-wrap items-baseline gap-x-3 border-hair border-b py-1">
            <span className="note w-20 flex-none">{shortDay(one.on)}</span>
            <span className="min-w-0 flex-1 basis-40">
              {one.product}, {one.each_words} {one.done ? <span className="note">done</span> : null}
            </span>
            <button
              type="button"
              className="btn-link"
              onClick={() => show({ title: one.product, value: grams(one.kg * 1000), steps: one.working }, true)}
            >
              {grams(one.kg * 1000)}
            </button>
            <span className="note">
              {one.kg_per_ha === null ? "" : `${kilos(one.kg_per_ha)}/ha`} {one.nutrients_words}
            </span>
          </li>
        ))}
      </ul>
      <p className="note">In a band beside the plants, off leaf and stem, and covered. Gloves.</p>
    </section>
  );
}
