import type { Schemas } from "../../api/client";
import { addDays, type Day, daysBetween } from "../../ui/dates";

/** What stands in a lane, or would stand there by what is proposed. */
export type Body = Omit<Schemas["BodyOut"], "state"> & { state: Schemas["BodyOut"]["state"] | "proposed" };

/** One body as steps: bottom and top (in the place's unit) over runs of days. */
export interface Laid {
  body: Body;
  steps: { from: Day; to: Day; bottom: number }[];
}

/**
 * Stack bodies on the lane's floor. Those that leave last lie lowest, so that a body seldom
 * drops because one below it leaves; drawing only, the sums come from the server.
 */
export function stack(bodies: Body[], start: Day, end: Day): Laid[] {
  const order = [...bodies].sort(
    (a, b) => b.end.localeCompare(a.end) || a.start.localeCompare(b.start) || a.batch_id - b.batch_id,
  );
  const days = Array.from({ length: daysBetween(start, end) + 1 }, (_, n) => addDays(start, n));
  const last = days.length - 1;
  const at = (day: Day) => Math.min(last, Math.max(0, daysBetween(start, day)));
  const heights = new Float64Array(last); // of what lies below, by day
  return order.map((body) => {
    const [from, to] = [at(body.start), at(body.end)];
    const steps: Laid["steps"] = [];
    let begun = from;
    for (let day = from; day < to; day++) {
      const height = heights[day] ?? 0;
      const next = day + 1 < to ? (heights[day + 1] ?? 0) : Number.NaN;
      if (!(Math.abs(next - height) < 1e-6)) {
        steps.push({ from: days[begun] ?? start, to: days[day + 1] ?? end, bottom: height });
        begun = day + 1;
      }
    }
    for (let day = from; day < to; day++) heights[day] = (heights[day] ?? 0) + body.amount;
    return { body, steps };
  });
}

/** The outline of a laid body in px. */
export function outline(laid: Laid, x: (day: Day) => number, y: (amount: number) => number): string {
  const { steps, body } = laid;
  let path = "";
  for (const [n, step] of steps.entries()) {
    path += `${n ? "L" : "M"} ${x(step.from).toFixed(1)} ${y(step.bottom + body.amount).toFixed(1)} L ${x(step.to).toFixed(1)} ${y(step.bottom + body.amount).toFixed(1)} `;
  }
  for (const step of [...steps].reverse()) {
    path += `L ${x(step.to).toFixed(1)} ${y(step.bottom).toFixed(1)} L ${x(step.from).toFixed(1)} ${y(step.bottom).toFixed(1)} `;
  }
  return `${path}Z`;
}

/** The widest step, where a label has the best chance to fit. */
export function widest(laid: Laid, x: (day: Day) => number): { x: number; width: number; bottom: number } {
  let best = { x: 0, width: 0, bottom: 0 };
  for (const step of laid.steps) {
    const width = x(step.to) - x(step.from);
    if (width > best.width) best = { x: x(step.from), width, bottom: step.bottom };
  }
  return best;
}

/** The day-by-day load as steps, for the folded part and thin lanes. */
export function loadPath(load: number[], start: Day, x: (day: Day) => number, y: (amount: number) => number): string {
  let path = `M ${x(start).toFixed(1)} ${y(0).toFixed(1)}`;
  let last = Number.NaN;
  load.forEach((value, n) => {
    if (value === last) return;
    path += ` H ${x(addDays(start, n)).toFixed(1)} V ${y(value).toFixed(1)}`;
    last = value;
  });
  return `${path} H ${x(addDays(start, load.length)).toFixed(1)} V ${y(0).toFixed(1)} Z`;
}

/** What tells the bodies of a lane apart: a stage that stands in several runs has one body a run. */
export const keyOf = (body: Body): string => `${body.batch_id}.${body.stage}.${body.start}`;

/** Height of the strip that holds a lane's name where the page is narrow [px]. */
export const NARROW_HEAD = 18;

type Lane = Schemas["LaneOut"];

/** 100 % of a place in px: roomy where much stands, thin where little does. */
export function fullOf(lane: Lane, busy: number, peak: number): number {
  const share = peak / lane.usable;
  return !busy ? 26 : share > 0.5 ? (busy >= 6 ? 150 : 90) : busy >= 3 ? 66 : 36;
}

/** The most that stands in a span, and when. `load` by day, its first day `from`. */
export function peakOf(load: number[], from: Day, start: Day, end: Day): { peak: number; at: Day } {
  const first = Math.max(0, daysBetween(from, start));
  let [peak, at] = [0, first];
  for (let n = first; n < Math.min(load.length, daysBetween(from, end)); n++) {
    const value = load[n] ?? 0;
    if (value > peak) [peak, at] = [value, n];
  }
  return { peak, at: addDays(from, at) };
}

/** How high a lane will be, without laying it out [px]. */
export function heightOf(lane: Lane, from: Day, start: Day, end: Day, head: number): number {
  const { peak } = peakOf(lane.load, from, start, end);
  let busy = 0;
  for (const body of lane.bodies) if (body.start < end && body.end > start) busy += 1;
  const full = fullOf(lane, busy, peak);
  return Math.max(full, (peak / lane.usable) * full) + 8 + head;
}

const TRIFLE = 1e-6;

/** The part above capacity, to scale, day by day; where it begins, and the first day of its worst run. */
export function overPath(
  load: number[],
  usable: number,
  from: Day,
  start: Day,
  end: Day,
  x: (day: Day) => number,
  y: (amount: number) => number,
): { path: string; x: number; from: Day | null } {
  const [first, last] = [Math.max(0, daysBetween(from, start)), Math.min(load.length, daysBetween(from, end))];
  const floor = y(usable).toFixed(1);
  let path = "";
  let worst = { amount: 0, n: -1 };
  let begun = -1;
  for (let n = first; n <= last; n++) {
    const value = n < last ? (load[n] ?? 0) : 0;
    if (value > usable + TRIFLE) {
      if (begun < 0) {
        begun = n;
        path += `M ${x(addDays(from, n)).toFixed(1)} ${floor}`;
      }
      if (value !== load[n - 1] || n === begun) path += ` H ${x(addDays(from, n)).toFixed(1)} V ${y(value).toFixed(1)}`;
      if (value > worst.amount) worst = { amount: value, n: begun };
    } else if (begun >= 0) {
      path += ` H ${x(addDays(from, n)).toFixed(1)} V ${floor} Z `;
      begun = -1;
    }
  }
  const at = worst.n < 0 ? null : addDays(from, worst.n);
  return { path, x: at ? x(at) : 0, from: at };
}
