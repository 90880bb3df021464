import { useNavigate } from "@tanstack/react-router";
import { memo, useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import { useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { addDays, type Day, daysBetween, isoWeek, shortDay } from "../../ui/dates";
import { area, few, quantity } from "../../ui/format";
import { BodyShape, ProposedShape } from "./Bodies";
import { useLifted } from "./boardHands";
import { type Body, fullOf, keyOf, type Laid, loadPath, outline, overPath, peakOf, stack } from "./boardLayout";

type Lane = Schemas["LaneOut"];

const MANY = 60; // bodies in a lane, from which the thin ones are drawn together
const THIN = 2.5; // px

/** Days on which a place holds less than usual, from what it holds then up to its rim. */
function ShutShapes({ lane, y }: { lane: Lane; y: (amount: number) => number }) {
  const { scale } = useSpan();
  return lane.closings.map((one) => {
    const [x, width] = [scale.x(one.start), scale.x(one.end) - scale.x(one.start)];
    const holds = Math.min(one.holds, lane.usable);
    return (
      <g key={`${one.start}${one.end}`} className="pointer-events-none">
        <rect
          x={x}
          y={y(lane.usable)}
          width={width}
          height={Math.max(1, y(holds) - y(lane.usable))}
          className="fill-fold stroke-ink3"
          strokeDasharray="4 2"
        />
        {width > 60 ? (
          <text x={x + 5} y={y(lane.usable) + 13} className="cond fill-ink2 text-note">
            {holds > 0 ? `holds ${quantity(holds, lane.unit)}` : "shut"}
          </text>
        ) : null}
      </g>
    );
  });
}

/** A proposal's stages in this lane, as bodies that would stand there. */
function proposedBodies(
  lane: Lane,
  proposed: ReturnType<typeof useProposal>["proposed"],
  start: Day,
  end: Day,
): Body[] {
  const was = lane.bodies.find((body) => body.batch_id === proposed?.batchId);
  return (proposed?.proposal?.stages ?? [])
    .filter((s) => s.place_id === lane.place_id && s.amount > 0 && s.start < end && s.end > start)
    .map((s) => ({
      batch_id: proposed?.batchId ?? 0,
      code: was?.code ?? "",
      crop: was?.crop ?? "",
      state: "proposed",
      version: 0,
      decide_by: null,
      stage: s.stage,
      name: s.name,
      start: s.start,
      end: s.end,
      amount: s.amount,
    }));
}

/** The load of a lane as it would be: what is proposed says it for the days that it changes. */
function loadWith(lane: Lane, from: Day, would: { start: Day; load: number[] } | undefined): number[] {
  if (!would) return lane.load;
  const load = [...lane.load];
  const first = daysBetween(from, would.start);
  for (const [n, value] of would.load.entries()) if (first + n >= 0 && first + n < load.length) load[first + n] = value;
  return load;
}

function useLane(lane: Lane, from: Day, start: Day, end: Day, head: number) {
  const { proposed } = useProposal();
  const { scale } = useSpan();
  const base = useMemo(() => {
    const bodies = lane.bodies.filter((body) => body.start < end && body.end > start);
    return { bodies, laid: stack(bodies, start, end) };
  }, [lane, start, end]);
  const moving = proposed?.proposal ? proposed.batchId : null;
  const touched =
    moving !== null &&
    (base.bodies.some((body) => body.batch_id === moving) ||
      (proposed?.proposal?.stages ?? []).some((stage) => stage.place_id === lane.place_id));
  const here = touched ? proposed : null; // a lane that a proposal leaves alone is not laid out again for it
  return useMemo(() => {
    const { bodies, laid } = base;
    const load = loadWith(
      lane,
      from,
      here?.proposal?.loads?.find((one) => one.place_id === lane.place_id),
    );
    const { peak, at } = peakOf(load, from, start, end);
    // While something is proposed the others stand as they would, and the batch itself also where it was.
    const id = here?.batchId ?? null;
    const others = bodies.filter((body) => body.batch_id !== id);
    const would = here === null ? laid : stack([...others, ...proposedBodies(lane, here, start, end)], start, end);
    const shown = here === null ? laid : would.filter((one) => one.body.state !== "proposed");
    const was = here === null ? [] : laid.filter((one) => one.body.batch_id === id);
    const proposals = here === null ? [] : would.filter((one) => one.body.state === "proposed");
    let top = peak;
    for (const one of [...would, ...was])
      for (const step of one.steps) top = Math.max(top, step.bottom + one.body.amount);
    const full = fullOf(lane, bodies.length + proposals.length, peak);
    const height = Math.max(full, (top / lane.usable) * full) + 8 + head;
    const y = (amount: number) => height - (amount / lane.usable) * full;
    const over = overPath(load, lane.usable, from, start, end, scale.x, y);
    return { peak, at, full, height, laid: was.length ? [...shown, ...was] : shown, proposals, y, over };
  }, [base, here, lane, from, start, end, head, scale]);
}

/** A lane's picture. A batch in the hand (`held`) concerns only the lanes that it comes from: the others stay drawn. */
const Drawing = memo(function Drawing({
  lane,
  from,
  end,
  head,
  drawn,
  told,
  held,
}: {
  lane: Lane;
  from: Day;
  end: Day;
  head: number;
  drawn: ReturnType<typeof useLane>;
  told: string;
  held: number | undefined;
}) {
  const { scale, today, span } = useSpan();
  const { peak, full, height, laid, proposals, y, over } = drawn;
  const { usable } = lane;
  // What is thinner than a line can be neither read nor taken hold of: it is drawn as one, however many it is.
  const { thin, thick } = useMemo(() => {
    const isThin = (one: Laid) => laid.length > MANY && y(0) - y(one.body.amount) < THIN;
    const found = laid.filter(isThin);
    return { thin: found, thick: found.length ? laid.filter((one) => !isThin(one)) : laid };
  }, [laid, y]);
  // One stop of the Tab key a lane; Page up and down go from body to body in it.
  const [stop, setStop] = useState<string | null>(null);
  const keys = thick.map((one) => keyOf(one.body));
  const stopAt = stop !== null && keys.includes(stop) ? stop : keys[0];
  const later = lane.load.slice(Math.max(0, daysBetween(from, end)));
  const foldY = (amount: number) => height - (amount / usable) * Math.min(full, 60);
  const todayX = scale.x(today) + scale.open / span.days / 2;
  return (
    /* biome-ignore lint/a11y/noSvgWithoutTitle: the section is named, the bodies are buttons */
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
          <rect x={scale.left} y={head} width={scale.open} height={height - head} />
        </clipPath>
        <clipPath id={`past${lane.place_id}`}>
          <rect x={0} y={0} width={Math.max(0, scale.x(today))} height={height} />
        </clipPath>
      </defs>
      <rect x={scale.left + scale.open} y={0} width={scale.right} height={height - 1} className="fill-fold" />
      <g clipPath={`url(#open${lane.place_id})`}>
        <Weeks height={height} />
      </g>
      <path d={loadPath(later, end, scale.x, foldY)} className="fill-plan stroke-line" strokeWidth={1} />
      <g clipPath={`url(#open${lane.place_id})`}>
        <ShutShapes lane={lane} y={y} />
        <ThinShapes laid={thin} lane={lane} y={y} />
        {thick.map((one, n) => (
          <BodyShape
            key={keyOf(one.body)}
            laid={one}
            lane={lane}
            y={y}
            floor={height}
            stop={keyOf(one.body) === stopAt}
            onFocus={() => setStop(keyOf(one.body))}
            neighbours={[keys[n - 1], keys[n + 1]]}
            held={one.body.batch_id === held}
          />
        ))}
        {proposals.map((one) => (
          <ProposedShape key={keyOf(one.body)} laid={one} lane={lane} y={y} />
        ))}
        {over.path ? (
          <path
            d={over.path}
            fill={`url(#hatch${lane.place_id})`}
            className="pointer-events-none stroke-ink"
            strokeWidth={1.5}
          />
        ) : null}
        {told && over.from && !head ? (
          <text
            x={over.x > scale.left + 170 ? over.x - 6 : Math.max(scale.left, over.x) + 6}
            y={Math.max(11, y(peak) + 10)}
            textAnchor={over.x > scale.left + 170 ? "end" : "start"}
            className="cond pointer-events-none fill-ink stroke-paper text-note font-bold"
            strokeWidth={4}
            style={{ paintOrder: "stroke" }}
          >
            {told}
          </text>
        ) : null}
      </g>
      <line
        x1={scale.left}
        x2={scale.width}
        y1={y(usable)}
        y2={y(usable)}
        className="stroke-ink"
        strokeDasharray="1 3"
      />
      {todayX > scale.left && todayX < scale.left + scale.open ? (
        <line
          x1={todayX}
          x2={todayX}
          y1={head}
          y2={height}
          className="pointer-events-none stroke-ink"
          strokeWidth={1.5}
        />
      ) : null}
    </svg>
  );
});

export const LaneRow = memo(function LaneRow({
  lane,
  from,
  start,
  end,
  head,
  chosen,
}: {
  lane: Lane;
  from: Day;
  start: Day;
  end: Day;
  /** Height of the strip above the lane that holds its name, where there is no room beside it [px]. */
  head: number;
  chosen: boolean;
}) {
  const lifted = useLifted();
  const drawn = useLane(lane, from, start, end, head);
  const { peak, at, full, height } = drawn;
  const offer = lifted ? lifted.offers.get(lane.place_id) : undefined;
  const under = lifted?.over === lane.place_id;
  const cannot = lifted !== null && lifted.offers.size > 0 && !offer?.of_kind;
  const worst = peak - lane.usable;
  const told = worst > 0.05 ? `over by ${area(worst)} ${lane.unit} from ${shortDay(drawn.over.from ?? at)}` : "";
  const held = lifted?.body.batch_id;
  const holds = held !== undefined && lane.bodies.some((body) => body.batch_id === held);
  return (
    <section
      data-place={lane.place_id}
      aria-label={`${lane.name}, peak ${Math.round((peak / lane.usable) * 100)} % in week ${isoWeek(at).week}`}
      className={`relative border-rule border-b ${chosen || under ? "bg-panel" : ""} ${cannot ? "opacity-50" : ""}`}
      style={{ height }}
    >
      <LaneName lane={lane} full={full} peak={peak} at={at} head={head} told={told} over={worst > 0.05} />
      <Drawing
        lane={lane}
        from={from}
        end={end}
        head={head}
        drawn={drawn}
        told={told}
        held={holds ? held : undefined}
      />
      {offer ? (
        <span
          className={`cond pointer-events-none absolute right-4 bottom-1 z-10 bg-panel px-1 text-note ${offer.share > 1 ? "font-bold underline" : ""}`}
        >
          {offer.words}
        </span>
      ) : null}
    </section>
  );
});

/** The name of a lane and how full it is: beside the drawing, or on a strip above it where the page is narrow. */
function LaneName({
  lane,
  full,
  peak,
  at,
  head,
  told,
  over,
}: {
  lane: Lane;
  full: number;
  peak: number;
  at: Day;
  head: number;
  told: string;
  over: boolean;
}) {
  const most = `peak ${Math.round((peak / lane.usable) * 100)} %`;
  if (head)
    return (
      <div className="cond absolute top-0 left-0 z-10 flex w-full gap-2 truncate bg-frame px-2 text-note">
        <b className="text-ink">{lane.name}</b>
        <span className={`truncate ${over ? "font-bold text-ink" : "text-ink2"}`}>{told || most}</span>
      </div>
    );
  const roomy = full > 40;
  return (
    <div
      className="absolute top-1 bottom-0.5 left-4 w-[84px] overflow-hidden leading-tight"
      title={`${lane.name}, ${quantity(lane.usable, lane.unit)}`}
    >
      <div className={`cond text-body font-bold leading-[15px] ${roomy ? "line-clamp-2" : "truncate"}`}>
        {lane.name}
      </div>
      <div className="cond text-note text-ink2">
        {roomy ? (
          <>
            {quantity(lane.usable, lane.unit)}
            {lane.set_point_c !== null && full > 80 ? `, ${lane.set_point_c} °C` : ""}
            <br />
            {full > 80 ? (
              <>
                now {Math.round((lane.now / lane.usable) * 100)} %
                <br />
              </>
            ) : null}
          </>
        ) : null}
        <span className={over ? "font-bold text-ink" : ""}>
          {most}
          {roomy ? `, w ${isoWeek(at).week}` : ""}
        </span>
      </div>
    </div>
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
  const list = () => navigate({ to: "/batches", search: { view: "list", filter: lane.name } });
  return (
    <g
      role="link"
      tabIndex={0}
      aria-label={words}
      className="group cursor-pointer outline-none"
      onClick={list}
      onKeyDown={(event) => event.key === "Enter" && list()}
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

function Weeks({ height }: { height: number }) {
  const { scale, span } = useSpan();
  const step = span.days <= 28 ? 1 : 7;
  return Array.from({ length: Math.ceil(span.days / step) }, (_, n) => {
    const x = scale.x(addDays(span.start, n * step));
    return <line key={x} x1={x} x2={x} y1={0} y2={height} className="stroke-hair" />;
  });
}
