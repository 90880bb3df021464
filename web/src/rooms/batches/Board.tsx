import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type KeyboardEvent, type PointerEvent, useCallback, useMemo, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { boardQuery } from "../../api/queries";
import { useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { addDays, type Day, daysBetween, isoWeek, shortDay } from "../../ui/dates";
import { area, few, quantity } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { type Body, type Laid, loadPath, outline, stack, widest } from "./boardLayout";

type Lane = Schemas["LaneOut"];

/** One lane a place, time across: a lane visibly fills and overflows. */
export function Board({ place }: { place: string | undefined }) {
  const { span, season } = useSpan();
  const end = addDays(span.start, span.days);
  const window = fetched(season.start, span.start, end);
  const { data, error } = useQuery(boardQuery(window.start, window.end));
  if (!data) {
    return (
      <div className="px-4 text-ink3">
        {error ? "" : "Fetching …"}
        <Faults error={error} />
      </div>
    );
  }
  return (
    <div className="overflow-x-hidden pb-4">
      {data.lanes.map((lane) => (
        <LaneRow
          key={lane.place_id}
          lane={lane}
          lanes={data.lanes}
          from={data.start}
          start={span.start}
          end={end}
          chosen={String(lane.place_id) === place}
        />
      ))}
    </div>
  );
}

const MANY = 60; // bodies in a lane, from which the thin ones are drawn together
const THIN = 2.5; // px
const BLOCK = 120;
const MOST = 800;

/** The days that are fetched to show a span: whole blocks round it, so that a drag seldom asks again. */
function fetched(from: Day, start: Day, end: Day): { start: Day; end: Day } {
  const first = Math.floor(daysBetween(from, start) / BLOCK) * BLOCK;
  const last = Math.ceil((daysBetween(from, end) + 1) / BLOCK) * BLOCK;
  return { start: addDays(from, first), end: addDays(from, Math.min(last, first + MOST)) };
}

/** A proposal's stages in this lane, as bodies that would stand there. */
function proposedBodies(
  lane: Lane,
  proposed: ReturnType<typeof useProposal>["proposed"],
  start: Day,
  end: Day,
): Body[] {
  const example = lane.bodies[0];
  return (proposed?.proposal?.stages ?? [])
    .filter((s) => s.place_id === lane.place_id && s.amount > 0 && s.start < end && s.end > start)
    .map((s) => ({
      batch_id: proposed?.batchId ?? 0,
      code: "",
      crop: "",
      state: "proposed",
      version: 0,
      decide_by: example?.decide_by ?? null,
      stage: s.stage,
      name: s.name,
      start: s.start,
      end: s.end,
      amount: s.amount,
    }));
}

function useLane(lane: Lane, from: Day, start: Day, end: Day) {
  const { proposed } = useProposal();
  const base = useMemo(() => {
    const first = Math.max(0, daysBetween(from, start));
    const inside = lane.load.slice(first, first + daysBetween(start, end));
    const peak = Math.max(0, ...inside);
    const at = addDays(start, Math.max(0, inside.indexOf(peak)));
    const bodies = lane.bodies.filter((body) => body.start < end && body.end > start);
    return { peak, at, bodies, laid: stack(bodies, start, end) };
  }, [lane, from, start, end]);
  const moving = proposed?.proposal ? proposed.batchId : null;
  const touched =
    moving !== null &&
    (base.bodies.some((body) => body.batch_id === moving) ||
      (proposed?.proposal?.stages ?? []).some((stage) => stage.place_id === lane.place_id));
  const here = touched ? proposed : null; // a lane that a proposal leaves alone is not laid out again for it
  return useMemo(() => {
    const { peak, at, bodies, laid } = base;
    const busy = bodies.length;
    // While something is proposed the others stand as they would, and the batch itself also where it was.
    const id = here?.batchId ?? null;
    const others = bodies.filter((body) => body.batch_id !== id);
    const would = here === null ? laid : stack([...others, ...proposedBodies(lane, here, start, end)], start, end);
    const shown = here === null ? laid : would.filter((one) => one.body.state !== "proposed");
    const was = here === null ? [] : laid.filter((one) => one.body.batch_id === id);
    const proposals = here === null ? [] : would.filter((one) => one.body.state === "proposed");
    let top = peak;
    for (const one of would) for (const step of one.steps) top = Math.max(top, step.bottom + one.body.amount);
    // 100 % of the place in px: roomy where much stands, thin where little does.
    const share = peak / lane.usable;
    const full = !busy ? 26 : share > 0.5 ? (busy >= 6 ? 150 : 90) : busy >= 3 ? 66 : 34;
    const height = Math.max(full, (top / lane.usable) * full) + 8;
    return { peak, at, full, height, laid: was.length ? [...shown, ...was] : shown, proposals };
  }, [base, here, lane, start, end]);
}

function LaneRow({
  lane,
  lanes,
  from,
  start,
  end,
  chosen,
}: {
  lane: Lane;
  lanes: Lane[];
  from: Day;
  start: Day;
  end: Day;
  chosen: boolean;
}) {
  const { scale, today, span } = useSpan();
  const { peak, at, full, height, laid, proposals } = useLane(lane, from, start, end);
  const { usable } = lane;
  const y = useCallback((amount: number) => height - (amount / usable) * full, [height, usable, full]);
  // What is thinner than a line can be neither read nor taken hold of: it is drawn as one, however many it is.
  const { thin, thick } = useMemo(() => {
    const isThin = (one: Laid) => laid.length > MANY && y(0) - y(one.body.amount) < THIN;
    const found = laid.filter(isThin);
    return { thin: found, thick: found.length ? laid.filter((one) => !isThin(one)) : laid };
  }, [laid, y]);
  const over = lane.over.filter((run) => run.end > start && run.start < end);
  const worst = Math.max(0, ...over.map((run) => run.amount));
  const later = lane.load.slice(Math.max(0, daysBetween(from, end)));
  const foldY = (amount: number) => height - (amount / lane.usable) * Math.min(full, 60);
  const todayX = scale.x(today) + scale.open / span.days / 2;
  return (
    <section
      aria-label={`${lane.name}, peak ${Math.round((peak / lane.usable) * 100)} % in week ${isoWeek(at).week}`}
      className={`relative border-rule border-b ${chosen ? "bg-panel" : ""}`}
      // What is scrolled out of sight is not drawn.
      style={{ height, contentVisibility: "auto", containIntrinsicSize: `auto ${height}px` }}
    >
      <div className="absolute top-1 left-4 w-[88px] leading-tight">
        <div className="cond text-body font-bold leading-[15px]">{lane.name}</div>
        <div className="cond text-note text-ink2">
          {full > 40 ? (
            <>
              {quantity(lane.usable, lane.unit)}
              {lane.set_point_c !== null ? `, ${lane.set_point_c} °C` : ""}
              <br />
              now {Math.round((lane.now / lane.usable) * 100)} %
              <br />
            </>
          ) : null}
          <span className={worst ? "font-bold text-ink" : ""}>
            peak {Math.round((peak / lane.usable) * 100)} %{full > 40 ? `, w ${isoWeek(at).week}` : ""}
          </span>
        </div>
      </div>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: the section is named, the bodies are buttons */}
      <svg width={scale.width} height={height} className="absolute inset-0 select-none">
        <defs>
          <pattern id={`dots${lane.place_id}`} width={8} height={8} patternUnits="userSpaceOnUse">
            <rect width={8} height={8} className="fill-paper" />
            <circle cx={2} cy={2} r={0.8} className="fill-line" />
            <circle cx={6} cy={6} r={0.8} className="fill-line" />
          </pattern>
          <pattern
            id={`hatch${lane.place_id}`}
            width={6}
            height={6}
            patternUnits="userSpaceOnUse"
            patternTransform="rotate(45)"
          >
            <rect width={6} height={6} className="fill-panel" />
            <rect width={2.4} height={6} className="fill-ink" />
          </pattern>
          <clipPath id={`open${lane.place_id}`}>
            <rect x={scale.left} y={0} width={scale.open} height={height} />
          </clipPath>
          <clipPath id={`past${lane.place_id}`}>
            <rect x={0} y={0} width={Math.max(0, scale.x(today))} height={height} />
          </clipPath>
        </defs>
        <rect x={scale.left + scale.open} y={0} width={scale.right} height={height} className="fill-fold" />
        <g clipPath={`url(#open${lane.place_id})`}>
          <Weeks height={height} />
        </g>
        <path d={loadPath(later, end, scale.x, foldY)} className="fill-plan stroke-line" strokeWidth={1} />
        <g clipPath={`url(#open${lane.place_id})`}>
          <ThinShapes laid={thin} lane={lane} y={y} />
          {thick.map((one) => (
            <BodyShape
              key={`${one.body.batch_id}.${one.body.stage}`}
              laid={one}
              lane={lane}
              lanes={lanes}
              y={y}
              height={height}
            />
          ))}
          {over.map((run) => {
            const x1 = Math.max(scale.left, scale.x(run.start));
            const top = y(lane.usable + run.amount);
            return (
              <g key={run.start} className="pointer-events-none">
                <OverShape lane={lane} from={from} run={run} y={y} />
                {run.amount === worst ? (
                  <text
                    x={x1 - 6}
                    y={Math.max(11, top + 10)}
                    textAnchor={x1 > scale.left + 170 ? "end" : "start"}
                    className="cond fill-ink text-note font-bold"
                  >
                    over by {area(run.amount)} {lane.unit} from {shortDay(run.start)}
                  </text>
                ) : null}
              </g>
            );
          })}
          {proposals.map((one) => (
            <ProposedShape key={one.body.stage} laid={one} y={y} />
          ))}
        </g>
        <line
          x1={scale.left}
          x2={scale.width}
          y1={y(lane.usable)}
          y2={y(lane.usable)}
          className="stroke-ink"
          strokeDasharray="1 3"
        />
        {todayX > scale.left && todayX < scale.left + scale.open ? (
          <line
            x1={todayX}
            x2={todayX}
            y1={0}
            y2={height}
            className="pointer-events-none stroke-ink"
            strokeWidth={1.5}
          />
        ) : null}
      </svg>
    </section>
  );
}

/** Batches too thin to be drawn each by itself, as the body that they are together. */
function ThinShapes({ laid, lane, y }: { laid: Laid[]; lane: Lane; y: (amount: number) => number }) {
  const { scale, today } = useSpan();
  const navigate = useNavigate();
  const { plan, stand } = useMemo(() => {
    const path = (some: Laid[]) => some.map((one) => outline(one, scale.x, y)).join(" ");
    return {
      plan: path(laid.filter((one) => one.body.state === "planned")),
      stand: path(laid.filter((one) => one.body.state !== "planned")),
    };
  }, [laid, scale, y]);
  if (!laid.length) return null;
  const words = `${few(laid.length, "stage")} too thin to draw each; the list names their batches`;
  return (
    <g
      role="link"
      tabIndex={0}
      aria-label={words}
      className="group cursor-pointer outline-none"
      onClick={() => navigate({ to: "/batches", search: {} })}
      onKeyDown={(event) => event.key === "Enter" && navigate({ to: "/batches", search: {} })}
    >
      <title>{words}</title>
      <path d={plan} fill={`url(#dots${lane.place_id})`} className="stroke-line" strokeWidth={0.5} />
      <path d={stand} className="fill-plan stroke-line" strokeWidth={0.5} />
      {laid.some((one) => one.body.start < today) ? (
        <path d={stand} className="fill-stand" clipPath={`url(#past${lane.place_id})`} />
      ) : null}
    </g>
  );
}

/** Where a proposal would stand, to scale among the others. */
function ProposedShape({ laid, y }: { laid: Laid; y: (amount: number) => number }) {
  const { scale } = useSpan();
  const best = widest(laid, (day) => Math.min(scale.left + scale.open, Math.max(scale.left, scale.x(day))));
  const thick = y(0) - y(laid.body.amount);
  return (
    <g className="pointer-events-none">
      <path d={outline(laid, scale.x, y)} className="fill-panel stroke-decide" strokeWidth={2} />
      {best.width > 60 && thick > 11 ? (
        <text
          x={best.x + 6}
          y={y(best.bottom + laid.body.amount / 2) + 4}
          className="cond fill-decide text-note font-bold"
        >
          {laid.body.name}
        </text>
      ) : null}
    </g>
  );
}

/** The part above capacity, to scale, day by day. */
function OverShape({
  lane,
  from,
  run,
  y,
}: {
  lane: Lane;
  from: Day;
  run: { start: Day; end: Day };
  y: (amount: number) => number;
}) {
  const { scale } = useSpan();
  const first = daysBetween(from, run.start);
  const load = lane.load.slice(first, first + daysBetween(run.start, run.end));
  const floor = y(lane.usable).toFixed(1);
  let path = `M ${scale.x(run.start).toFixed(1)} ${floor}`;
  load.forEach((value, n) => {
    path += ` H ${scale.x(addDays(run.start, n)).toFixed(1)} V ${y(value).toFixed(1)}`;
  });
  return (
    <path
      d={`${path} H ${scale.x(run.end).toFixed(1)} V ${floor} Z`}
      fill={`url(#hatch${lane.place_id})`}
      className="stroke-ink"
      strokeWidth={1.5}
    />
  );
}

function Weeks({ height }: { height: number }) {
  const { scale, span } = useSpan();
  const step = span.days <= 28 ? 1 : 7;
  return Array.from({ length: Math.ceil(span.days / step) }, (_, n) => {
    const x = scale.x(addDays(span.start, n * step));
    return <line key={x} x1={x} x2={x} y1={0} y2={height} className="stroke-hair" />;
  });
}

function BodyShape({
  laid,
  lane,
  lanes,
  y,
  height,
}: {
  laid: Laid;
  lane: Lane;
  lanes: Lane[];
  y: (amount: number) => number;
  height: number;
}) {
  const { scale, span, today } = useSpan();
  const { proposed, propose } = useProposal();
  const navigate = useNavigate();
  const may = useMay();
  const { body } = laid;
  const [drag, setDrag] = useState<number | null>(null);
  const from = useRef(0);
  const moving = proposed?.batchId === body.batch_id;
  const shift = moving ? (proposed.change.shift_days ?? 0) : 0;
  const perDay = scale.open / span.days;
  const canMove = may("batches.plan") && body.state !== "ready" && body.state !== "delivered";
  const d = outline(laid, scale.x, y);
  const move = (days: number) =>
    propose(body.batch_id, { shift_days: days, ...(body.state === "planned" ? {} : { stage: body.stage }) });
  const place = (step: number) => {
    const same = lanes.filter((other) => other.unit === lane.unit);
    const now = moving && proposed.change.place_id ? proposed.change.place_id : lane.place_id;
    const next = same[same.findIndex((other) => other.place_id === now) + step];
    if (next) propose(body.batch_id, { place_id: next.place_id, stage: body.stage });
  };
  const onKey = (event: KeyboardEvent) => {
    const acts = new Map<string, () => void>(
      canMove
        ? [
            ["ArrowLeft", () => move(shift - 1)],
            ["ArrowRight", () => move(shift + 1)],
            ["ArrowUp", () => place(-1)],
            ["ArrowDown", () => place(1)],
          ]
        : [],
    );
    if (!moving) acts.set("Enter", () => navigate({ to: "/batches/$id", params: { id: String(body.batch_id) } }));
    const act = acts.get(event.key);
    if (act) {
      event.preventDefault();
      event.stopPropagation();
      act();
    }
  };
  const onUp = (event: PointerEvent) => {
    if (drag === null) return;
    const days = Math.round((event.clientX - from.current) / perDay);
    setDrag(null);
    if (days && canMove) move(days);
    else navigate({ to: "/batches/$id", params: { id: String(body.batch_id) } });
  };
  const unsown = body.state === "planned";
  const best = widest(laid, (day) => Math.min(scale.left + scale.open, Math.max(scale.left, scale.x(day))));
  const thick = y(0) - y(body.amount);
  const label = `${body.code} ${body.crop}`;
  const words = `${body.code} ${body.crop}, ${body.name.toLowerCase()}, ${quantity(body.amount, lane.unit)}, ${shortDay(body.start)} to ${shortDay(addDays(body.end, -1))}, ${body.state}`;
  const fits = thick >= 11 && best.width > label.length * 5.2 + 10;
  const short = thick >= 11 && best.width > body.code.length * 5.4 + 8;
  return (
    <g
      role="button"
      tabIndex={0}
      aria-label={words}
      className="group cursor-pointer outline-none"
      transform={drag ? `translate(${drag} 0)` : undefined}
      onKeyDown={onKey}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        from.current = event.clientX;
        setDrag(0);
      }}
      onPointerMove={(event) => drag !== null && canMove && setDrag(event.clientX - from.current)}
      onPointerUp={onUp}
      onPointerCancel={() => setDrag(null)}
    >
      <title>{words}</title>
      {moving ? (
        <path d={d} className="fill-none stroke-ink" strokeDasharray="4 3" />
      ) : (
        <>
          <path d={d} fill={unsown ? `url(#dots${lane.place_id})` : undefined} className={unsown ? "" : "fill-plan"} />
          {unsown || body.start >= today ? null : (
            <path d={d} className="fill-stand" clipPath={`url(#past${lane.place_id})`} />
          )}
          <path d={d} className="fill-none stroke-line" strokeWidth={1.5} />
          <line
            x1={scale.x(body.start)}
            x2={scale.x(body.start)}
            y1={y((laid.steps[0]?.bottom ?? 0) + body.amount)}
            y2={y(laid.steps[0]?.bottom ?? 0)}
            className="stroke-line"
            strokeWidth={3}
          />
        </>
      )}
      <path d={d} className="fill-none stroke-none group-focus-visible:stroke-ink" strokeWidth={3} />
      {fits || short ? (
        <text
          x={best.x + 6}
          y={Math.min(height - 3, y(best.bottom + body.amount / 2) + 4)}
          className="cond pointer-events-none fill-ink text-note"
        >
          <tspan className="font-bold">{moving ? "was here" : body.code}</tspan>
          {fits && !moving ? " " : ""}
          {fits && !moving ? <tspan dx={2}>{body.crop}</tspan> : null}
        </text>
      ) : null}
    </g>
  );
}
