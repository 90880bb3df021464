import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState, useSyncExternalStore } from "react";
import type { Schemas } from "../../api/client";
import { onLater, waits } from "../../api/later";
import { runningQuery } from "../../api/queries";
import { Door } from "../../ui/Door";
import { few } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { LotCode } from "../../ui/parts";
import { type Bar, barsOf, leftWords, onAxis, skewOf, wallClock } from "./clockTimes";

const ClockSheet = lazy(() => import("./ClockSheet").then(({ ClockSheet }) => ({ default: ClockSheet })));
const NewClock = lazy(() => import("./ClockSheet").then(({ NewClock }) => ({ default: NewClock })));

type Running = Schemas["RunningOut"];

/** The moment now, by the house's clock: it goes on where a device sleeps, has no signal, or goes wrong. */
function useNow(running: Running | undefined, every: number): number {
  const [now, setNow] = useState(Date.now);
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), every);
    return () => window.clearInterval(timer);
  }, [every]);
  return now + skewOf(running);
}

/** What runs by the clock and must not be missed: gone is tinted, what is left is white up to its end. */
export function Running() {
  const { data } = useQuery(runningQuery);
  const later = useSyncExternalStore(onLater, waits);
  const now = useNow(data, data?.clocks.length ? 1000 : 30_000);
  const [open, setOpen] = useState<number | "new" | null>(null);
  const may = useMay();
  if (!data) return null;
  const bars = barsOf(data, later, now);
  const chosen = [...data.clocks, ...data.over].find((clock) => clock.id === open);
  if (!bars.length && !may("clocks.run")) return null;
  const next = bars
    .filter((bar) => bar.until !== null && bar.until > now)
    .sort((a, b) => (a.until ?? 0) - (b.until ?? 0))[0];
  const over = bars.filter((bar) => bar.until !== null && bar.until <= now).length;
  return (
    <section aria-label="Running" className="grid border-rule border-b lg:grid-cols-[104px_1fr]">
      <div className="px-4 pt-2 lg:pr-0">
        <h2>Running</h2>
        <span className="note block">
          {bars.length ? few(bars.length, "clock") : "no clock"}
          {over ? `; ${over} over` : next?.until ? `; the next ends in ${leftWords(next.until - now)}` : ""}
        </span>
        {may("clocks.run") ? (
          <button type="button" className="btn-link" onClick={() => setOpen("new")}>
            start one
          </button>
        ) : null}
      </div>
      {bars.length ? <Axis bars={bars} now={now} zone={data.zone} open={setOpen} /> : <span />}
      <Suspense fallback={null}>
        {open === "new" ? <NewClock onClose={() => setOpen(null)} /> : null}
        {chosen ? <ClockSheet clock={chosen} data={data} now={now} onClose={() => setOpen(null)} /> : null}
      </Suspense>
    </section>
  );
}

/** The hours of the day over the bars; a bar that goes past them ends in a double chevron. */
function Axis({ bars, now, zone, open }: { bars: Bar[]; now: number; zone: string; open: (id: number) => void }) {
  const axis = onAxis(now, zone);
  const at = (moment: number) => `${(axis.at(moment) * 100).toFixed(3)}%`;
  return (
    <div className="relative min-w-0 px-4 pb-2 lg:pl-0">
      <div aria-hidden className="relative hidden h-7 border-ink border-b lg:block">
        {axis.hours.map(({ hour, at: x }) => (
          <span key={hour} className="cond absolute bottom-0 text-note" style={{ left: `${x * 100}%` }}>
            <span className="absolute bottom-0 h-1.5 border-ink border-l" />
            <span className="pl-1">{hour % 24}</span>
          </span>
        ))}
        <span className="cond absolute top-0 pl-1 text-note" style={{ left: at(now) }}>
          {wallClock(now, zone)}
        </span>
      </div>
      <span
        aria-hidden
        className="absolute top-0 bottom-2 hidden border-ink border-l-[1.5px] lg:block"
        style={{ left: `calc((100% - 1rem) * ${axis.at(now)})` }}
      />
      <ul>
        {bars.map((bar) => (
          <Row key={bar.key} bar={bar} now={now} zone={zone} axis={axis} open={open} />
        ))}
      </ul>
    </div>
  );
}

function Row({
  bar,
  now,
  zone,
  axis,
  open,
}: {
  bar: Bar;
  now: number;
  zone: string;
  axis: ReturnType<typeof onAxis>;
  open: (id: number) => void;
}) {
  const from = axis.at(bar.since);
  const mark = axis.at(Math.min(now, bar.until ?? now));
  const to = bar.until === null ? 1 : axis.at(Math.max(bar.until, bar.since));
  const past = bar.until === null || bar.until > axis.end;
  const over = bar.until !== null && bar.until <= now;
  // Words stand right of now and of the bar's end, where there is room for them; late in the day they end before its
  // begin, or before now where it began early.
  const after = Math.max(mark, over ? to : mark);
  const late = after > 0.55;
  const words = late ? 1 - (from > 0.4 ? from : mark) : after;
  const percent = (share: number) => `${(share * 100).toFixed(3)}%`;
  const told = (
    <>
      <b className="text-h2 leading-5">{bar.until === null ? "open" : leftAs(bar.until, now, zone)}</b>{" "}
      <span className="cond">
        {bar.name}
        {bar.words ? `: ${bar.words}` : ""}
        {bar.waiting ? " (recorded on this device, waits for the server)" : ""}
      </span>
    </>
  );
  return (
    <li className="relative py-1 lg:h-6 lg:py-0">
      <span
        aria-hidden
        className="relative block h-3 border border-ink2 bg-white lg:absolute lg:top-1 lg:h-3.5"
        style={{ left: percent(from), width: percent(Math.max(0.002, to - from)) }}
      >
        <span
          className="absolute inset-y-0 left-0 bg-stand"
          style={{ width: percent((mark - from) / Math.max(0.002, to - from)) }}
        />
        {past ? (
          <span className="cond absolute -top-1 right-0.5 font-bold text-ink">»</span>
        ) : (
          <span className="absolute -inset-y-0.5 right-0 border-ink border-r-[3px]" />
        )}
      </span>
      <span
        className={`relative block truncate ${late ? "lg:[margin-right:var(--at)] lg:pr-2 lg:text-right" : "lg:[margin-left:var(--at)] lg:pl-2"}`}
        style={{ "--at": percent(words) } as React.CSSProperties}
      >
        {bar.clock === null ? (
          <span className="bg-white/85 px-1">
            <Door link={bar.link}>{told}</Door>
          </span>
        ) : (
          <button
            type="button"
            className="max-w-full truncate bg-white/85 px-1 text-left hover:underline max-lg:min-h-11"
            onClick={() => open(bar.clock as number)}
          >
            {told}
          </button>
        )}{" "}
        {bar.code ? <LotCode code={bar.code} /> : null}
      </span>
    </li>
  );
}

/** What is left, or since when it is over; what ends another day or late is told by its hour. */
function leftAs(until: number, now: number, zone: string): string {
  if (until <= now) return `over by ${leftWords(now - until)}`;
  return until - now < 3 * 3_600_000 ? leftWords(until - now) : `until ${wallClock(until, zone, now)}`;
}
