import { useQuery } from "@tanstack/react-query";
import { sumsQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { addDays, type Day, isoWeek } from "../../ui/dates";
import { count } from "../../ui/format";
import { NARROW_HEAD } from "./boardLayout";

const TALL = 40; // px
const MOST_KINDS = 4; // of trays; the others are in the list by week

interface Sum {
  name: string;
  unit: string;
  /** Digits after the point, while it is small. */
  digits: number;
  byWeek: number[];
  /** What there is of it in a week, where that is known. */
  limit: number | null;
}

/** Below the places: hours of planned work and trays in use, a bar a week. */
export function SumLanes({ from, to, start, end }: { from: Day; to: Day; start: Day; end: Day }) {
  const { data } = useQuery(sumsQuery(from, to));
  if (!data) return null;
  const lanes: Sum[] = [
    { name: "Hours of work", unit: "h", digits: 1, byWeek: data.hours, limit: data.hours_week },
    ...data.trays
      .slice(0, MOST_KINDS)
      .map((one) => ({ name: one.name, unit: "in use", digits: 0, byWeek: one.by_week, limit: null })),
  ];
  return (
    <div className="mt-2 border-rule border-t">
      {lanes.map((lane) => (
        <SumLane key={lane.name} lane={lane} first={data.first} start={start} end={end} />
      ))}
    </div>
  );
}

function SumLane({ lane, first, start, end }: { lane: Sum; first: Day; start: Day; end: Day }) {
  const { scale } = useSpan();
  const head = scale.left < 60 ? NARROW_HEAD : 0;
  const weeks = lane.byWeek
    .map((value, n) => ({ value, day: addDays(first, n * 7) }))
    .filter((one) => one.day < end && addDays(one.day, 7) > start);
  const top = Math.max(1, lane.limit ?? 0, ...weeks.map((one) => one.value));
  const most = weeks.reduce((a, b) => (b.value > a.value ? b : a), weeks[0] ?? { value: 0, day: start });
  if (!most.value) return null;
  const amount = (value: number) => (lane.digits && value < 100 ? value.toFixed(lane.digits) : count(value));
  const over = lane.limit !== null && most.value > lane.limit;
  const told = `most ${amount(most.value)} ${lane.unit} in week ${isoWeek(most.day).week}${over ? `, ${amount(most.value - (lane.limit ?? 0))} over` : ""}`;
  const y = (value: number) => head + 4 + TALL - (value / top) * TALL;
  const inside = (value: number) => (value / top) * TALL > 15; // a thin bar has its figure above it
  return (
    <section
      aria-label={`${lane.name}: ${told}`}
      className="relative border-hair border-b"
      style={{ height: head + TALL + 6 }}
    >
      {head ? (
        <div className="cond absolute top-0 left-0 z-10 flex w-full gap-2 truncate bg-frame px-2 text-note">
          <b className="text-ink">{lane.name}</b>
          <span className={`truncate ${over ? "font-bold text-ink" : "text-ink2"}`}>{told}</span>
        </div>
      ) : (
        <div className="absolute top-1 left-4 w-[88px] overflow-hidden leading-tight" title={told}>
          <div className="cond truncate text-body font-bold leading-[15px]">{lane.name}</div>
          <div className={`cond text-note ${over ? "font-bold text-ink" : "text-ink2"}`}>
            {amount(most.value)} {lane.unit}, w {isoWeek(most.day).week}
          </div>
        </div>
      )}
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: the section is named */}
      <svg width={scale.width} height={head + TALL + 6} className="absolute inset-0 select-none">
        {weeks.map((one) => {
          const x = Math.max(scale.left, scale.x(one.day));
          const right = Math.min(scale.left + scale.open, scale.x(addDays(one.day, 7)));
          return one.value && right > x + 2 ? (
            <g key={one.day}>
              <title>{`week ${isoWeek(one.day).week}: ${amount(one.value)} ${lane.unit}`}</title>
              <rect
                x={x + 1}
                width={right - x - 2}
                y={y(one.value)}
                height={head + 4 + TALL - y(one.value)}
                className={lane.limit !== null && one.value > lane.limit ? "fill-ink" : "fill-stand"}
              />
              {right - x > 34 ? (
                <text
                  x={(x + right) / 2}
                  y={y(one.value) + (inside(one.value) ? 12 : -2)}
                  textAnchor="middle"
                  className={`cond text-note ${inside(one.value) && lane.limit !== null && one.value > lane.limit ? "fill-panel" : "fill-ink"}`}
                >
                  {amount(one.value)}
                </text>
              ) : null}
            </g>
          ) : null;
        })}
        {lane.limit !== null ? (
          <line
            x1={scale.left}
            x2={scale.left + scale.open}
            y1={y(lane.limit)}
            y2={y(lane.limit)}
            className="stroke-ink"
            strokeDasharray="1 3"
          />
        ) : null}
      </svg>
    </section>
  );
}
