/** Clocks without a server: what is left of each by the house's own clock, with what this device has recorded and not sent. */
import type { Schemas } from "../../api/client";
import type { Later } from "../../api/later";

type Running = Schemas["RunningOut"];
type Clock = Schemas["ClockOut"];

export interface Bar {
  key: string;
  /** The clock to open; null for what only runs. */
  clock: number | null;
  name: string;
  code: string;
  words: string;
  since: number;
  /** When it ends; null until something is read. */
  until: number | null;
  link: string;
  waiting: boolean;
}

const arrived = new WeakMap<Running, number>();

/** By how much the house's clock is ahead of this device's, as it was when its answer came. */
export function skewOf(running: Running | undefined): number {
  if (!running) return 0;
  const known = arrived.get(running);
  if (known !== undefined) return known;
  const skew = Date.parse(running.now) - Date.now();
  arrived.set(running, skew);
  return skew;
}

/** “4 min 50”, “65 min”, “3 h 20”. */
export function leftWords(ms: number): string {
  const seconds = Math.max(0, Math.round(ms / 1000));
  const minutes = Math.floor(seconds / 60);
  if (minutes < 10) return `${minutes} min ${String(seconds % 60).padStart(2, "0")}`;
  if (minutes < 90) return `${minutes} min`;
  if (minutes < 48 * 60) return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, "0")}`;
  return `${Math.round(minutes / 1440)} days`;
}

const shown = new Map<string, Intl.DateTimeFormat>();

function parts(moment: number, zone: string): Record<string, string> {
  let format = shown.get(zone);
  if (!format) {
    format = new Intl.DateTimeFormat("en-GB", {
      timeZone: zone,
      weekday: "short",
      day: "numeric",
      month: "short",
      hour: "2-digit",
      minute: "2-digit",
      hourCycle: "h23",
    });
    shown.set(zone, format);
  }
  return Object.fromEntries(format.formatToParts(moment).map((part) => [part.type, part.value]));
}

/** The hour on the nursery's wall; with its day where that is another one than `near`. */
export function wallClock(moment: number, zone: string, near = moment): string {
  const one = parts(moment, zone);
  const hour = `${one.hour}:${one.minute}`;
  if (one.day === parts(near, zone).day && Math.abs(moment - near) < 86_400_000) return hour;
  return Math.abs(moment - near) < 6 * 86_400_000 ? `${one.weekday} ${hour}` : `${one.weekday} ${one.day} ${one.month}`;
}

const HOUR = 3_600_000;
const DAY_FROM = 5;
const DAY_TO = 20;

/** The hours that are drawn: the working day, or those around now at night; `at` gives a share of the width. */
export function onAxis(now: number, zone: string) {
  const one = parts(now, zone);
  const into = Number(one.hour) + Number(one.minute) / 60;
  const day = into >= DAY_FROM && into < DAY_TO - 1;
  const first = day ? DAY_FROM : Math.floor(into) - 4;
  const many = DAY_TO - DAY_FROM;
  const start = now - (into - first) * HOUR;
  const end = start + many * HOUR;
  const at = (moment: number) => Math.min(1, Math.max(0, (moment - start) / (end - start)));
  const hours = Array.from({ length: many }, (_, n) => ({ hour: (first + n + 24) % 24, at: n / many }));
  return { start, end, at, hours };
}

/** A clock as it stands with what this device recorded and did not send yet. */
export function withWaiting(clock: Clock, later: readonly Later[]): { clock: Clock; waiting: boolean; ended: boolean } {
  const own = later.filter((one) => one.path.startsWith(`/api/clocks/${clock.id}/`) && !one.refused);
  let { step, since, until } = clock;
  for (const one of own.filter((row) => row.path.endsWith("/step"))) {
    const body = one.body as { step: number; at: string };
    const begun = clock.steps[body.step];
    if (!begun || body.step <= step) continue;
    step = body.step;
    since = body.at;
    until = new Date(Date.parse(body.at) + begun.minutes * 60_000).toISOString();
  }
  const ended = own.some((row) => row.path.endsWith("/end"));
  return { clock: { ...clock, step, since, until }, waiting: own.length > 0, ended };
}

/** Everything that runs, the first to end before the others. */
export function barsOf(running: Running, later: readonly Later[], now: number): Bar[] {
  const clocks = running.clocks.flatMap((given): Bar[] => {
    const { clock, waiting, ended } = withWaiting(given, later);
    if (ended) return [];
    const step = clock.steps[clock.step];
    const read = clock.readings.at(-1);
    const words = [
      clock.steps.length > 1 ? step?.name.toLowerCase() : "",
      clock.of,
      read ? `${read.temp_c} °C read` : "",
      step?.at_c !== null && step?.at_c !== undefined ? `${step.at_c} ± ${step.give_c} °C` : "",
    ].filter(Boolean);
    return [
      {
        key: `clock ${clock.id}`,
        clock: clock.id,
        name: clock.name,
        code: clock.subject_kind === "lot" ? clock.subject_code : "",
        words: words.join(", "),
        since: Date.parse(clock.since),
        until: Date.parse(clock.until),
        link: "",
        waiting,
      },
    ];
  });
  const begun = later
    .filter((one) => one.path === "/api/clocks" && !one.refused)
    .map((one): Bar => {
      const body = one.body as { name: string; at: string; minutes: string };
      const minutes = Number.parseFloat(body.minutes) * (/h/i.test(body.minutes) ? 60 : 1);
      const since = Date.parse(body.at);
      return {
        key: one.key,
        clock: null,
        name: body.name,
        code: "",
        words: "",
        since,
        until: Number.isFinite(minutes) ? since + minutes * 60_000 : null,
        link: "",
        waiting: true,
      };
    });
  const others = running.others.map(
    (one): Bar => ({
      key: `${one.kind} ${one.code} ${one.since}`,
      clock: null,
      name: one.name,
      code: "",
      words: one.words,
      since: Date.parse(one.since),
      until: one.until ? Date.parse(one.until) : null,
      link: one.link,
      waiting: false,
    }),
  );
  const soon = (bar: Bar) => bar.until ?? now + 365 * 24 * HOUR;
  return [...clocks, ...begun, ...others].sort((a, b) => soon(a) - soon(b));
}
