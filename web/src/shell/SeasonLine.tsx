import { type PointerEvent as ReactPointer, useRef, useState } from "react";
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
import { useSpan } from "./span";

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
  const [drag, setDrag] = useState<{ from: Day; to: Day } | null>(null);
  const dayUnder = (event: ReactPointer) => {
    const box = svg.current?.getBoundingClientRect();
    return scale.dayAt(event.clientX - (box?.left ?? 0));
  };
  const end = addDays(span.start, span.days);
  const open = cells(span.start, span.days, scale.open);
  const step = span.days <= 28 ? 1 : 7;
  const onKey = (event: React.KeyboardEvent) => {
    const moves = new Map<string, () => void>([
      ["ArrowLeft", () => setSpan({ ...span, start: addDays(span.start, -step) })],
      ["ArrowRight", () => setSpan({ ...span, start: addDays(span.start, step) })],
      ["+", () => setSpan({ start: addDays(span.start, Math.round(span.days / 8)), days: span.days * 0.75 })],
      ["-", () => setSpan({ start: addDays(span.start, -Math.round(span.days / 6)), days: span.days * 1.34 })],
      ["Home", () => setSpan({ start: addDays(monday(today), -28), days: 112 })],
    ]);
    const move = moves.get(event.key === "=" ? "+" : event.key);
    if (move) {
      event.preventDefault();
      move();
    }
  };
  const finish = () => {
    if (drag) {
      const [from, to] = drag.from < drag.to ? [drag.from, drag.to] : [drag.to, drag.from];
      if (daysBetween(from, to) >= 5)
        setSpan({ start: monday(from), days: daysBetween(monday(from), addDays(monday(to), 7)) });
    }
    setDrag(null);
  };
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
          const day = dayUnder(event);
          setDrag({ from: day, to: day });
        }}
        onPointerMove={(event) => drag && setDrag({ ...drag, to: dayUnder(event) })}
        onPointerUp={finish}
        onPointerCancel={() => setDrag(null)}
      >
        <rect x={0} y={0} width={scale.left} height={HEIGHT} className="fill-fold" />
        <rect x={scale.left + scale.open} y={0} width={scale.right} height={HEIGHT} className="fill-fold" />
        <path d={curvePath(line, scale.x)} className="fill-plan stroke-line" strokeWidth={1} />
        <line
          x1={0}
          x2={width}
          y1={CURVE_TOP + 8}
          y2={CURVE_TOP + 8}
          className="stroke-ink"
          strokeDasharray="1 3"
          strokeWidth={1}
        />
        {overRuns(line).map(([from, to]) => (
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
        {drag ? (
          <rect
            x={Math.min(scale.x(drag.from), scale.x(drag.to))}
            y={0}
            width={Math.abs(scale.x(drag.to) - scale.x(drag.from))}
            height={HEIGHT}
            className="fill-none stroke-ink"
            strokeWidth={2}
          />
        ) : null}
        <rect x={scale.left} y={CURVE_FLOOR - 3} width={4} height={BAND + 6} className="fill-panel stroke-ink" />
        <rect
          x={scale.left + scale.open - 4}
          y={CURVE_FLOOR - 3}
          width={4}
          height={BAND + 6}
          className="fill-panel stroke-ink"
        />
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

/** Flags stand on the last day on which a decision still helps; those that would overlap are only sticks. */
function Flags({ line, go }: { line: Schemas["SeasonLineOut"]; go: (link: string) => void }) {
  const { scale, span, today } = useSpan();
  let free = -1;
  return line.flags
    .filter((flag) => flag.by >= span.start && flag.by < addDays(span.start, span.days))
    .sort((a, b) => a.by.localeCompare(b.by))
    .map((flag) => {
      const x = scale.x(flag.by) + scale.open / span.days;
      const words = `${flag.title} by ${shortDay(flag.by)}`;
      const fits = x > free && x + words.length * 5.4 < scale.width - 60;
      if (fits) free = x + words.length * 5.4 + 24;
      const later = daysBetween(today, flag.by) >= 7 - ((dayNumber(today) + 3) % 7);
      return (
        <button
          type="button"
          key={flag.title + flag.by}
          className={`absolute border-l-2 border-decide p-0 text-left ${fits ? "z-[1]" : ""}`}
          style={{ left: x, top: fits ? 24 : 10, height: fits ? 22 : 36 }}
          aria-label={words}
          title={words}
          onClick={() => go(flag.link)}
        >
          {fits ? <Pennant later={later}>{words}</Pennant> : <span className="block h-1.5 w-2.5 bg-decide" />}
        </button>
      );
    });
}
