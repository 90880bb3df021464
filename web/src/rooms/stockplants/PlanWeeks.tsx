import type { Schemas } from "../../api/client";
import { addDays, isoWeek } from "../../ui/dates";
import { count } from "../../ui/format";

type Week = Schemas["PlanWeekOut"];
const WEEK = 26; // px
const HEAD = 14;
const FOOT = 18;

interface Part {
  of: (week: Week) => number;
  look: "full" | "dots" | "empty" | "hatched";
}
interface Band {
  name: string;
  tall: number;
  parts: Part[];
  /** A stroke across: what is wanted. */
  line?: (week: Week) => number;
}

const BANDS: Band[] = [
  {
    name: "mothers",
    tall: 60,
    parts: [
      { of: (one) => one.raised, look: "full" },
      { of: (one) => one.rooted, look: "dots" },
    ],
  },
  {
    name: "cut",
    tall: 80,
    parts: [
      { of: (one) => one.stuck, look: "full" },
      { of: (one) => one.to_mothers, look: "dots" },
      { of: (one) => one.wasted, look: "empty" },
    ],
  },
  {
    name: "rooted and ready",
    tall: 70,
    parts: [
      { of: (one) => one.ready, look: "full" },
      { of: (one) => one.short, look: "hatched" },
    ],
    line: (one) => one.wanted,
  },
];
const HATCH = "plan-short";
const DOTS = "plan-own";
const FILL = { full: "", dots: `url(#${DOTS})`, empty: "none", hatched: `url(#${HATCH})` };
const LOOK = {
  full: "fill-stand stroke-line",
  dots: "stroke-line",
  empty: "stroke-ink3 [stroke-dasharray:2_2]",
  hatched: "stroke-ink",
};

/** A plan of mothers in one picture: mothers by generation, where every cutting goes, what is ready against what is wanted. */
export function PlanWeeks({ weeks, first }: { weeks: Week[]; first: string }) {
  const tops = BANDS.map((band) =>
    Math.max(1, ...weeks.map((one) => Math.max(band.line?.(one) ?? 0, sum(band.parts.map((part) => part.of(one)))))),
  );
  const short = weeks.filter((one) => one.short > 0);
  const told = short.map((one) => `${count(Math.round(one.short))} short in week ${weekOf(first, one.week)}`);
  return (
    <>
      <div
        role="img"
        aria-label={`Mothers, cuttings and rooted cuttings by week: ${told.join(", ") || "none short"}`}
        className="mt-2 flex flex-wrap gap-y-3"
      >
        <svg width="0" height="0" className="absolute" aria-hidden="true">
          <defs>
            <pattern id={HATCH} width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
              <rect width="2.4" height="6" className="fill-ink" />
            </pattern>
            <pattern id={DOTS} width="5" height="5" patternUnits="userSpaceOnUse">
              <rect width="5" height="5" className="fill-stand" />
              <circle cx="2.5" cy="2.5" r="1.2" className="fill-ink" />
            </pattern>
          </defs>
        </svg>
        {weeks.map((one) => (
          <OneWeek key={one.week} one={one} tops={tops} day={addDays(first, one.week * 7)} />
        ))}
      </div>
      <p className="note flex flex-wrap gap-x-4">
        <span>
          Above: mothers, at most {count(Math.round(tops[0] ?? 0))}. Between: what is cut, at most{" "}
          {count(Math.round(tops[1] ?? 0))}. Below: rooted and ready, at most {count(Math.round(tops[2] ?? 0))}.
        </span>
        <Key look="full" words="from plantlets; stuck; ready" />
        <Key look="dots" words="of their own first cuts" />
        <Key look="empty" words="cut for nobody" />
        <Key look="hatched" words="short of what is wanted" />
      </p>
    </>
  );
}

function OneWeek({ one, tops, day }: { one: Week; tops: number[]; day: string }) {
  let at = 0;
  const bands = BANDS.map((band, n) => {
    const top = tops[n] ?? 1;
    const high = (value: number) => (value / top) * band.tall;
    const floor = at + HEAD + band.tall;
    at = floor + 4;
    return { ...band, high, floor };
  });
  const title = `week ${isoWeek(day).week}: ${count(Math.round(one.raised + one.rooted))} mothers, ${count(Math.round(one.stuck))} stuck, ${count(Math.round(one.wasted))} for nobody, ${count(Math.round(one.ready))} ready of ${count(Math.round(one.wanted))}`;
  return (
    <svg width={WEEK} height={at + FOOT} className="block" aria-hidden="true">
      <title>{title}</title>
      {bands.map((band) => {
        let base = band.floor;
        const wanted = band.line?.(one) ?? 0;
        return (
          <g key={band.name}>
            {band.parts.map((part) => {
              const tall = band.high(part.of(one));
              base -= tall;
              return tall > 0.3 ? (
                <rect
                  key={part.look}
                  x={2}
                  width={WEEK - 4}
                  y={base}
                  height={tall}
                  className={LOOK[part.look]}
                  {...(FILL[part.look] ? { fill: FILL[part.look] } : {})}
                />
              ) : null;
            })}
            {wanted > 0 ? (
              <line
                x1={0}
                x2={WEEK}
                y1={band.floor - band.high(wanted)}
                y2={band.floor - band.high(wanted)}
                className="stroke-ink"
                strokeWidth={2}
              />
            ) : null}
            <line x1={0} x2={WEEK} y1={band.floor} y2={band.floor} className="stroke-ink" />
          </g>
        );
      })}
      <text x={WEEK / 2} y={at + 12} textAnchor="middle" className="cond fill-ink2 text-note">
        {isoWeek(day).week}
      </text>
    </svg>
  );
}

function Key({ look, words }: { look: Part["look"]; words: string }) {
  return (
    <span className="inline-flex items-center gap-1.5">
      <svg width="14" height="12" aria-hidden="true">
        <rect x="1" y="1" width="12" height="10" className={LOOK[look]} {...(FILL[look] ? { fill: FILL[look] } : {})} />
      </svg>
      {words}
    </span>
  );
}

const sum = (many: number[]) => many.reduce((all, one) => all + one, 0);
const weekOf = (first: string, week: number) => isoWeek(addDays(first, week * 7)).week;
