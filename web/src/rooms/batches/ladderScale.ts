import type { Schemas } from "../../api/client";

type Rung = Schemas["RungOut"];

/** The bars' log scale: folded below what matters, open where the counts are. */
export interface LogScale {
  x: (value: number) => number;
  fold: number;
  width: number;
  ticks: number[];
  foldTicks: number[];
}

const FOLD_WIDTH = 84;

export function makeLogScale(rungs: Rung[], width: number, promised: number): LogScale {
  const counts = rungs.filter((rung) => rung.kind === "stage" || rung.kind === "start" || rung.key === "seeds");
  const values = counts.flatMap((rung) => [rung.value, rung.needed ?? rung.value, rung.band?.low ?? rung.value]);
  const low = Math.max(1, Math.min(...values, promised || Number.POSITIVE_INFINITY) * 0.86);
  const high = Math.max(2, Math.max(...values, promised) * 1.06);
  const [a, b] = [Math.log(low), Math.log(high)];
  const x = (value: number) => {
    if (value <= 1) return 0;
    if (value < low) return (Math.log(value) / a) * FOLD_WIDTH;
    return FOLD_WIDTH + ((Math.log(Math.min(value, high)) - a) / (b - a)) * (width - FOLD_WIDTH);
  };
  return { x, fold: FOLD_WIDTH, width, ticks: ticksBetween(low, high), foldTicks: [1, 100].filter((t) => t < low) };
}

function ticksBetween(low: number, high: number): number[] {
  const rough = (high - low) / 5;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((n) => n * power).find((n) => n >= rough) ?? power;
  const found = [];
  for (let tick = Math.ceil(low / step) * step; tick <= high; tick += step) found.push(tick);
  return found;
}
