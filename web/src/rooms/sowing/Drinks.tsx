import { useQuery } from "@tanstack/react-query";
import { type Ref, waterQuery } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { shortDay } from "../../ui/dates";
import { area, count } from "../../ui/format";

const often = (times: number) => (times >= 14 ? "twice a day" : `${Number(times.toFixed(1))} times a week`);

/** What a batch drinks stage by stage, how often and how much at once; every figure opens how it came about. */
export function Drinks({ batchId }: { batchId: Ref }) {
  const { data } = useQuery(waterQuery(batchId));
  const { show } = useWorking();
  if (!data?.length) return null;
  return (
    <section className="mt-3" aria-label="Water by stage">
      <h3 className="font-semibold">Water by stage</h3>
      <ul>
        {data.map((one) => (
          <li key={one.stage} className="flex flex-wrap items-baseline gap-x-3 border-hair border-b py-1">
            <span className="w-48">
              {one.name} <span className="note">from {shortDay(one.start)}</span>
            </span>
            <button
              type="button"
              className="btn-link"
              onClick={() =>
                show({ title: one.name, value: `${area(one.litres_a_day)} L a day`, steps: one.working }, true)
              }
            >
              {area(one.litres_a_day)} L a day
            </button>
            <span className="min-w-0 flex-1 basis-48">
              {often(one.times_a_week)}, {area(one.litres_a_time)} L at once
            </span>
            <span className="note">
              {one.mm_a_day.toFixed(1)} mm on {area(one.m2)} m², {count(Math.round(one.litres))} L in all
            </span>
          </li>
        ))}
      </ul>
      <p className="note">By light and warmth of the place; a model. Lift a tray before you water.</p>
    </section>
  );
}
