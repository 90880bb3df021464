import type { Schemas } from "../../api/client";
import { shortDay } from "../../ui/dates";
import { chance, few, grams, quantity } from "../../ui/format";

type Tried = Schemas["TriedOut"];

/** The ladder that a method implies: from what is handed over down to what is begun with, bars to one scale. */
export function TriedLadder({ tried }: { tried: Tried }) {
  const most = Math.max(...tried.rungs.flatMap((rung) => [rung.into, rung.out]), tried.start, tried.needed);
  return (
    <figure aria-label="The ladder of this method">
      <p>
        {quantity(tried.needed, tried.unit)} asked: start <b>{quantity(tried.start, tried.start_unit)}</b>
        {tried.trays ? `, ${few(tried.trays, "tray")}` : ""}
        {tried.seed_g ? `, ${grams(tried.seed_g)} of seed` : ""}; {tried.days}
        {tried.give_days >= 0.5 ? ` ± ${Math.round(tried.give_days)}` : ""} days; met with {chance(tried.chance)}.
      </p>
      <ol className="mt-2">
        {[...tried.rungs].reverse().map((rung) => (
          <li key={rung.key} className="py-1">
            <span className="flex items-baseline justify-between gap-2">
              <span className="font-semibold">{rung.name}</span>
              <span className="num font-semibold">{quantity(rung.out, rung.unit)}</span>
            </span>
            <span aria-hidden="true" className="block h-2.5 bg-plan">
              <span className="block h-2.5 bg-stand" style={{ width: `${(rung.out / most) * 100}%` }} />
            </span>
            <span className="note flex justify-between gap-2">
              <span>
                {shortDay(rung.start)}
                {rung.end > rung.start ? ` to ${shortDay(rung.end)}` : ""}
              </span>
              <span>{rung.place || (rung.place_kind && rung.amount ? `no ${rung.place_kind} here` : "")}</span>
            </span>
          </li>
        ))}
      </ol>
      {tried.problems.map((problem) => (
        <p key={problem} className="mt-2 border-ink border-l-4 pl-2">
          {problem}
        </p>
      ))}
    </figure>
  );
}
