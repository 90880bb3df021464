import { type PointerEvent as ReactPointer, useMemo, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { useGo } from "../ui/Door";
import {
  addDays,
  type Day,
  dayNumber,
  daysBetween,
  isoWeek,
  monday,
  monthName,
  shortDay,
  weekday,
  weekdayName,
} from "../ui/dates";
import { Pennant } from "../ui/parts";
import { textWidth } from "../ui/textWidth";
import { type Span, useSpan } from "./span";

const CURVE_TOP = 8;
const CURVE_FLOOR = 46;
const BAND = 18;
const HEIGHT = 88;

/** How full the tightest place is, drawn as steps under the weeks. */
function curvePath(line: Schemas["SeasonLineOut"], x: (day: Day) => number): string {
  const y = (value: number) => CURVE_FLOOR - Math.min(1.25, value) * (CURVE_FLOOR - CURVE_TOP - 8);
  let path = `M ${x(line.start).toFixed(1)} ${CURVE_FLOOR}`;
  line.fullness.forEach((value, index) => {
    const day = addDays(line.start, index);
    path += ` H ${x(day).toFixed(1)} V ${y(value).toFixed(1)}`;
  });
  return `${path} H ${x(line.end).toFixed(1)} V ${CURVE_FLOOR} Z`;
}

function overRuns(line: Schemas["SeasonLineOut"]): [Day, Day][] {
  const runs: [Day, Day][] = [];
  line.fullness.forEach((value, index) => {
    if (value <= 1.000001) return;
    const day = addDays(line.start, index);
    const last = runs.at(-1);
    if (last && last[1] === day) last[1] = addDays(day, 1);
    else runs.push([day, addDays(day, 1)]);
  });
  return runs;
}

/** Weeks of the open span, or days when it is short enough. */
function cells(start: Day, days: number, open: number): { day: Day; length: number; label: string }[] {
  if (days <= 28) {
    return Array.from({ length: days }, (_, n) => {
      const day = addDays(start, n);
      return { day, length: 1, label: `${days <= 14 ? `${weekdayName(weekday(day))} ` : ""}${Number(day.slice(8))}` };
    });
  }
  const step = Math.max(days > 210 ? 4 : days > 140 ? 2 : 1, Math.ceil((days / 7) * (24 / open)));
  const found = [];
  for (let day = monday(start); daysBetween(start, day) < days; day = addDays(day, 7)) {
    const { week } = isoWeek(day);
    found.push({ day, length: 7, label: week % step === 0 || step === 1 ? String(week) : "" });
  }
  return found;
}

export function SeasonLine({ line }: { line: Schemas["SeasonLineOut"] }) {
  const { span, setSpan, scale, today, width, season } = useSpan();
  const go = useGo();
  const svg = useRef<SVGSVGElement>(null);
  const [drag, setDrag] = useState<Drag | null>(null);
  const under = (event: ReactPointer) => event.clientX - (svg.current?.getBoundingClientRect().left ?? 0);
  const end = addDays(span.start, span.days);
  const open = cells(span.start, span.days, scale.open);
  const step = span.days <= 28 ? 1 : 7;
  const onKey = (event: React.KeyboardEvent) => {
    const moves = new Map<string, () => void>([
      ["ArrowLeft", () => setSpan({ ...span, start: addDays(span.start, -step) })],
      ["ArrowRight", () => setSpan({ ...span, start: addDays(span.start, step) })],
      ["+", () => setSpan({ start: addDays(span.start, Math.round(span.days / 8)), days: span.days * 0.75 })],
      ["-", () => setSpan({ start: addDays(span.start, -Math.round(span.days / 6)), days: span.days * 1.34 })],
      ["Shift+ArrowLeft", () => setSpan({ ...span, days: span.days - step })],
      ["Shift+ArrowRight", () => setSpan({ ...span, days: span.days + step })],
      ["Home", () => setSpan({ start: addDays(monday(today), -28), days: 112 })],
    ]);
    const shift = event.shiftKey && event.key.startsWith("Arrow") ? "Shift+" : "";
    const move = moves.get(event.key === "=" ? "+" : `${shift}${event.key}`);
    if (move) {
      event.preventDefault();
      move();
    }
  };
  const finish = () => {
    const next = drag && (drag.moved ? dragged(drag, span, end) : pressed(drag.to, span, end));
    if (next) setSpan(next);
    setDrag(null);
  };
  const curve = useMemo(() => curvePath(line, scale.x), [line, scale]);
  const over = useMemo(() => overRuns(line), [line]);
  const todayX = scale.x(today) + (step === 1 ? scale.open / span.days / 2 : scale.open / span.days / 2);
  const inside = (day: Day) => day >= span.start && day < end;
  const months = open.filter((cell, n) => n === 0 || cell.day.slice(0, 7) !== open[n - 1]?.day.slice(0, 7));
  return (
    <div className="relative bg-frame" style={{ height: HEIGHT }}>
      <svg
        ref={svg}
        width={width}
        height={HEIGHT}
        role="slider"
        tabIndex={0}
        aria-label="Season line: the span of time that every room shows"
        aria-valuemin={dayNumber(season.start)}
        aria-valuemax={dayNumber(season.end)}
        aria-valuenow={dayNumber(span.start)}
        aria-valuetext={`${shortDay(span.start)} to ${shortDay(addDays(end, -1))}`}
        className="block touch-none select-none"
        onKeyDown={onKey}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const x = under(event);
          const reach = event.pointerType === "mouse" ? 7 : 18;
          const near = (edge: number) => Math.abs(x - edge) <= reach;
          const hold = near(scale.left) ? "start" : near(scale.left + scale.open) ? "end" : "span";
          setDrag({ hold, at: x, moved: false, from: scale.dayAt(x), to: scale.dayAt(x) });
        }}
        onPointerMove={(event) => {
          if (!drag) return;
          const x = under(event);
          setDrag({ ...drag, moved: drag.moved || Math.abs(x - drag.at) > 4, to: scale.dayAt(x) });
        }}
        onPointerUp={finish}
        onPointerCancel={() => setDrag(null)}
      >
        <rect x={0} y={0} width={scale.left} height={HEIGHT} className="fill-fold" />
        <rect x={scale.left + scale.open} y={0} width={scale.right} height={HEIGHT} className="fill-fold" />
        <path d={curve} className="fill-plan stroke-line" strokeWidth={1} />
        <line
          x1={0}
          x2={width}
          y1={CURVE_TOP + 8}
          y2={CURVE_TOP + 8}
          className="stroke-ink"
          strokeDasharray="1 3"
          strokeWidth={1}
        />
        {over.map(([from, to]) => (
          <rect
            key={from}
            x={scale.x(from)}
            y={CURVE_TOP - 2}
            width={Math.max(2, scale.x(to) - scale.x(from))}
            height={10}
            fill="url(#over)"
            className="stroke-ink"
            strokeWidth={1}
          />
        ))}
        <defs>
          <pattern id="over" width={6} height={6} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width={6} height={6} className="fill-panel" />
            <rect width={2.4} height={6} className="fill-ink" />
          </pattern>
        </defs>
        <line x1={0} x2={width} y1={CURVE_FLOOR} y2={CURVE_FLOOR} className="stroke-rule" />
        {open.map((cell) => {
          const from = Math.max(scale.left, scale.x(cell.day));
          const to = Math.min(scale.left + scale.open, scale.x(addDays(cell.day, cell.length)));
          const isToday = today >= cell.day && today < addDays(cell.day, cell.length);
          return (
            <g key={cell.day}>
              {isToday ? <rect x={from} y={CURVE_FLOOR} width={to - from} height={BAND} className="fill-ink" /> : null}
              <line x1={to} x2={to} y1={CURVE_FLOOR} y2={CURVE_FLOOR + BAND} className="stroke-rule" />
              <text
                x={(from + to) / 2}
                y={CURVE_FLOOR + 13}
                textAnchor="middle"
                className={`cond text-note font-medium ${isToday ? "fill-paper font-bold" : "fill-ink"}`}
              >
                {cell.label || (isToday ? isoWeek(cell.day).week : "")}
              </text>
            </g>
          );
        })}
        <line x1={0} x2={width} y1={CURVE_FLOOR + BAND} y2={CURVE_FLOOR + BAND} className="stroke-rule" />
        {line.ticks.map((tick) => {
          const x = scale.x(tick.day) + 2;
          return (
            <line
              key={tick.day}
              x1={x}
              x2={x}
              y1={CURVE_FLOOR + BAND}
              y2={CURVE_FLOOR + BAND + (inside(tick.day) ? 4 + Math.min(4, tick.count) : 3)}
              className="stroke-ink"
              strokeWidth={inside(tick.day) ? 2 : 1}
            />
          );
        })}
        {months.map((cell) => (
          <text
            key={cell.day}
            x={Math.max(scale.left, scale.x(cell.day)) + 6}
            y={HEIGHT - 4}
            className="cond fill-ink3 text-note"
          >
            {monthName(cell.day)}
          </text>
        ))}
        {scale.left > 60 ? (
          <>
            <FoldWeeks from={season.start} to={span.start} x={scale.x} />
            <FoldWeeks from={end} to={season.end} x={scale.x} />
            <text x={4} y={HEIGHT - 4} className="cond fill-ink3 text-note">
              {season.start.slice(0, 4)}
            </text>
            <text
              x={scale.left + scale.open + scale.right - 4}
              y={HEIGHT - 4}
              textAnchor="end"
              className="cond fill-ink3 text-note"
            >
              {season.end.slice(0, 4)}
            </text>
          </>
        ) : null}
        {scale.open > 480 ? (
          <text x={scale.left + scale.open - 4} y={11} textAnchor="end" className="cond fill-ink3 text-note">
            100 % of the tightest place
          </text>
        ) : null}
        {drag?.moved ? (
          <rect
            x={Math.min(...edges(drag, span, end).map(scale.x))}
            y={0}
            width={Math.abs(scale.x(edges(drag, span, end)[1]) - scale.x(edges(drag, span, end)[0]))}
            height={HEIGHT}
            className="fill-none stroke-ink"
            strokeWidth={2}
          />
        ) : null}
        {[scale.left, scale.left + scale.open - 4].map((x) => (
          <rect
            key={x}
            x={x}
            y={CURVE_FLOOR - 3}
            width={4}
            height={BAND + 6}
            className="cursor-ew-resize fill-panel stroke-ink"
          >
            <title>Drag to make the span longer or shorter</title>
          </rect>
        ))}
        {inside(today) ? (
          <g>
            <path d={`M ${todayX - 5} 0 h 10 l -5 7 Z`} className="fill-ink" />
            <line x1={todayX} x2={todayX} y1={0} y2={CURVE_FLOOR} className="stroke-ink" strokeWidth={1.5} />
            <line
              x1={todayX}
              x2={todayX}
              y1={CURVE_FLOOR + BAND}
              y2={HEIGHT}
              className="stroke-ink"
              strokeWidth={1.5}
            />
          </g>
        ) : null}
      </svg>
      <Flags line={line} go={go} />
    </div>
  );
}

/** A hand on the season line: it draws a span, or holds one of its two ends. */
interface Drag {
  hold: "span" | "start" | "end";
  at: number;
  moved: boolean;
  from: Day;
  to: Day;
}

function edges(drag: Drag, span: Span, end: Day): [Day, Day] {
  if (drag.hold === "start") return [drag.to, end];
  if (drag.hold === "end") return [span.start, drag.to];
  return [drag.from, drag.to];
}

/** The span that a drag asks for, in whole weeks; none where it is too short to mean one. */
function dragged(drag: Drag, span: Span, end: Day): Span | null {
  const [from, to] = [...edges(drag, span, end)].sort() as [Day, Day];
  if (daysBetween(from, to) < 5) return null;
  const start = drag.hold === "end" ? from : monday(from);
  const last = drag.hold === "start" ? to : addDays(monday(to), 7);
  return { start, days: daysBetween(start, last) };
}

const FORTNIGHT = 14;
const BY_DAY = 28; // days up to which the line shows each

/** A press: in a fold the span goes there; on a week it opens by the day, and on a day it folds to weeks again. */
function pressed(day: Day, span: Span, end: Day): Span {
  if (day < span.start || day >= end)
    return { start: monday(addDays(day, -Math.round(span.days / 2))), days: span.days };
  if (span.days > BY_DAY) return { start: monday(day), days: FORTNIGHT };
  return { start: addDays(monday(day), -28), days: 112 };
}

const APART = 20; // px between the weeks that a fold names

/** Weeks in a fold: as many as can be read. */
function FoldWeeks({ from, to, x }: { from: Day; to: Day; x: (day: Day) => number }) {
  const found: { day: Day; x: number; week: number }[] = [];
  let free = Number.NEGATIVE_INFINITY;
  for (let day = monday(addDays(from, 6)); day < addDays(to, -6); day = addDays(day, 7)) {
    const { week } = isoWeek(day);
    if ((week % 5 === 0 || week === 1) && x(day) >= free && x(day) + 16 < x(addDays(to, -1))) {
      found.push({ day, x: x(day), week });
      free = x(day) + APART;
    }
  }
  return found.map((one) => (
    <text key={one.day} x={one.x + 2} y={CURVE_FLOOR + 13} className="cond pointer-events-none fill-ink3 text-note">
      {one.week}
    </text>
  ));
}

type Flag = Schemas["SeasonLineOut"]["flags"][number];

/** Flags stand on the last day on which a decision still helps; those that would overlap are told behind the first. */
function Flags({ line, go }: { line: Schemas["SeasonLineOut"]; go: (link: string) => void }) {
  const { scale, span, today } = useSpan();
  const wordsOf = (flag: Flag) => `${flag.title} by ${shortDay(flag.by)}`;
  const right = (flag: Flag) => scale.x(flag.by) + scale.open / span.days;
  const found: { flag: Flag; x: number; more: Flag[] }[] = [];
  let free = -1;
  const inside = line.flags.filter((flag) => flag.by >= span.start && flag.by < addDays(span.start, span.days));
  for (const flag of [...inside].sort((a, b) => a.by.localeCompare(b.by))) {
    const words = textWidth(wordsOf(flag), true) + 24;
    // The last ones stand further left, so that they can be read.
    const x = Math.min(right(flag), scale.width - words - 34);
    const before = found.at(-1);
    if (x >= free || !before) {
      found.push({ flag, x, more: [] });
      free = x + words + 34;
    } else before.more.push(flag);
  }
  return found.map(({ flag, x, more }) => {
    const later = daysBetween(today, flag.by) >= 7 - ((dayNumber(today) + 3) % 7);
    return (
      <div key={flag.title + flag.by} className="absolute top-[21px] z-[1] flex h-6" style={{ left: x }}>
        <button
          type="button"
          className="whitespace-nowrap border-decide border-l-2 p-0 text-left"
          onClick={() => go(flag.link)}
        >
          <Pennant later={later} low>
            {wordsOf(flag)}
          </Pennant>
        </button>
        {more.length ? (
          <details
            className="relative"
            onBlur={(event) => {
              if (!event.currentTarget.contains(event.relatedTarget)) event.currentTarget.open = false;
            }}
          >
            <summary className="cond grid h-6 min-w-6 cursor-pointer list-none place-items-center bg-panel px-1 font-bold text-decide text-note">
              +{more.length}
              <span className="sr-only"> more to decide by about then</span>
            </summary>
            <ul className="absolute right-0 z-30 max-h-60 w-64 overflow-y-auto border border-ink bg-panel p-2">
              {more.map((one) => (
                <li key={one.title + one.by} className="py-0.5">
                  <button type="button" className="btn-link text-left" onClick={() => go(one.link)}>
                    {wordsOf(one)}
                  </button>
                </li>
              ))}
            </ul>
          </details>
        ) : null}
      </div>
    );
  });
}
