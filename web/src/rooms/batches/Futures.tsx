import type { Schemas } from "../../api/client";
import { count, inHundred } from "../../ui/format";

const WIDTH = 300;
const TALL = 64;
const HEAD = 10;
const ROOM = 44; // px that a figure takes on either side of its middle

/** How likely each outcome is, with the promise standing in it: what falls short is hatched, and both sides are said. */
export function Futures({ forecast }: { forecast: Schemas["ForecastOut"] }) {
  const { futures, needed, chance } = forecast;
  if (!futures || needed <= 0) return null;
  const { first, width, chances } = futures;
  const end = first + width * chances.length;
  // The promise is always in the picture, however far the outcomes lie from it.
  const low = Math.min(first, needed - width);
  const high = Math.max(end, needed + width);
  const x = (value: number) => ((value - low) / (high - low)) * WIDTH;
  const top = Math.max(...chances);
  const rim = chances.map((one, n) => {
    const y = HEAD + TALL - (one / top) * TALL;
    return `${x(first + n * width)},${y} ${x(first + (n + 1) * width)},${y}`;
  });
  const outline = `${x(first)},${HEAD + TALL} ${rim.join(" ")} ${x(end)},${HEAD + TALL}`;
  const at = x(needed);
  const [short, filled] = [inHundred(1 - chance), inHundred(chance)];
  const middle = Math.min(WIDTH - ROOM / 2, Math.max(ROOM / 2, at));
  // The ends are named where the promise does not stand in their place.
  const marks = [
    { value: low, x: 0, anchor: "start" as const, there: middle > 2 * ROOM },
    { value: needed, x: middle, anchor: "middle" as const, there: true },
    { value: high, x: WIDTH, anchor: "end" as const, there: middle < WIDTH - 2 * ROOM },
  ].filter((one) => one.there);
  const words = `${short} in 100 fall short of ${count(needed)}, ${filled} in 100 fill it`;
  return (
    <figure>
      <figcaption className="cond flex justify-between text-note leading-tight">
        <span>
          <b>{short} in 100</b>
          <br />
          fall short
        </span>
        <span className="text-right">
          <b>{filled} in 100</b>
          <br />
          fill the promise
        </span>
      </figcaption>
      <svg viewBox={`0 0 ${WIDTH} ${HEAD + TALL + 18}`} className="block w-full" role="img" aria-label={words}>
        <defs>
          <pattern id="fall-short" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <line x1="0" y1="0" x2="0" y2="5" className="stroke-ink" strokeWidth="2" />
          </pattern>
          <clipPath id="below-promise">
            <rect x={0} y={0} width={at} height={HEAD + TALL} />
          </clipPath>
        </defs>
        <polygon points={outline} className="fill-plan stroke-line" />
        <polygon points={outline} fill="url(#fall-short)" clipPath="url(#below-promise)" />
        <line x1={0} x2={WIDTH} y1={HEAD + TALL} y2={HEAD + TALL} className="stroke-ink" />
        <line x1={at} x2={at} y1={HEAD - 8} y2={HEAD + TALL} className="stroke-ink" strokeWidth={2.5} />
        {marks.map(({ value, x, anchor }) => (
          <text
            key={anchor}
            x={x}
            y={HEAD + TALL + 13}
            textAnchor={anchor}
            className={`cond text-note ${anchor === "middle" ? "fill-ink font-bold" : "fill-ink3"}`}
          >
            {count(Math.max(0, Math.round(value)))}
          </text>
        ))}
      </svg>
    </figure>
  );
}
