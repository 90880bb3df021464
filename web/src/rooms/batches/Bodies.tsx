import { useNavigate } from "@tanstack/react-router";
import type { KeyboardEvent } from "react";
import type { Schemas } from "../../api/client";
import { type Change, useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { addDays, type Day, shortDay } from "../../ui/dates";
import { quantity } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { textWidth } from "../../ui/textWidth";
import { placed, useHand } from "./boardHands";
import { type Body, keyOf, type Laid, outline, widest } from "./boardLayout";

type Lane = Schemas["LaneOut"];
const LABEL = 11; // px of height that a label needs
const FLAG = 16;

/** The part of a body that is in sight, where its label has the best chance to fit. */
function useBest(laid: Laid) {
  const { scale } = useSpan();
  const clamp = (day: Day) => Math.min(scale.left + scale.open, Math.max(scale.left, scale.x(day)));
  return widest(laid, clamp);
}

/** What fits of these words into a width, whole words at a time: a label is shortened, never clipped. */
function fitting(words: string[], width: number): number {
  for (let n = words.length; n > 0; n--) if (textWidth(words.slice(0, n).join(" "), true) + 12 <= width) return n;
  return 0;
}

function useMoves(body: Body, lane: Lane) {
  const { proposed, propose } = useProposal();
  const { lanes } = useHand();
  const moving = proposed?.batchId === body.batch_id;
  const already: Change = moving ? proposed.change : {};
  const shift = (moving ? (proposed.proposal?.shift_days ?? proposed.change.shift_days) : 0) ?? 0;
  const days = (step: number) => {
    const { shift_days: _, ...rest } = already;
    propose(body.batch_id, placed(body, shift + step ? { ...rest, shift_days: shift + step } : rest));
  };
  const place = (step: number) => {
    const same = lanes.filter((other) => other.unit === lane.unit);
    const now = already.place_id ?? lane.place_id;
    const next = same[same.findIndex((other) => other.place_id === now) + step];
    if (next) propose(body.batch_id, placed(body, { ...already, place_id: next.place_id }));
  };
  return { moving, days, place };
}

/** One stage of a batch where it stands: pressed it opens, dragged or by the arrows it moves, and the bar answers. */
export function BodyShape({
  laid,
  lane,
  y,
  floor,
  stop,
  onFocus,
  neighbours,
  held,
}: {
  laid: Laid;
  lane: Lane;
  y: (amount: number) => number;
  floor: number;
  stop: boolean;
  onFocus: () => void;
  neighbours: [string | undefined, string | undefined];
  /** Whether its batch is in the hand. */
  held: boolean;
}) {
  const { scale, today } = useSpan();
  const navigate = useNavigate();
  const may = useMay();
  const { grab } = useHand();
  const { body } = laid;
  const { moving, days, place } = useMoves(body, lane);
  const best = useBest(laid);
  const open = () => navigate({ to: "/batches/$id", params: { id: String(body.batch_id) } });
  const canMove = may("batches.plan") && body.state !== "ready" && body.state !== "delivered";
  const away = moving || held;
  const d = outline(laid, scale.x, y);
  const go = (key: string | undefined) =>
    document.querySelector<SVGGElement>(`[data-place="${lane.place_id}"] [data-body="${key}"]`)?.focus();
  const onKey = (event: KeyboardEvent) => {
    const acts: Record<string, (() => void) | false> = {
      ArrowLeft: canMove && (() => days(-1)),
      ArrowRight: canMove && (() => days(1)),
      ArrowUp: canMove && (() => place(-1)),
      ArrowDown: canMove && (() => place(1)),
      PageUp: () => go(neighbours[0]),
      PageDown: () => go(neighbours[1]),
      Enter: !moving && open,
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  };
  const unsown = body.state === "planned";
  const thick = y(0) - y(body.amount);
  const label = away ? ["was here"] : [body.code, ...body.crop.split(" ")];
  const fits = thick >= LABEL ? fitting(label, best.width) : 0;
  const more = fits === label.length && !away ? stageThatFits(body.name, label, best.width) : "";
  const words = `${body.code} ${body.crop} ${body.name.toLowerCase()}, ${quantity(body.amount, lane.unit)}, ${shortDay(body.start)} to ${shortDay(addDays(body.end, -1))}, ${body.state}${body.decide_by ? `, decide by ${shortDay(body.decide_by)}` : ""}`;
  return (
    <g
      role="button"
      tabIndex={stop ? 0 : -1}
      data-body={keyOf(body)}
      aria-label={words}
      className="group cursor-pointer outline-none"
      style={{ touchAction: "pan-y" }}
      onKeyDown={onKey}
      onFocus={onFocus}
      onClick={open}
      onPointerDown={(event) => canMove && grab(event, body, lane.place_id)}
    >
      <title>{words}</title>
      {away ? (
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
      {fits ? (
        <text
          x={best.x + 6}
          y={Math.min(floor - 3, y(best.bottom + body.amount / 2) + 4)}
          className="cond pointer-events-none fill-ink text-note"
        >
          <tspan className="font-bold">{label[0]}</tspan>
          {fits > 1 ? <tspan> {label.slice(1, fits).join(" ")}</tspan> : null}
          {more ? <tspan className="fill-ink2"> {more}</tspan> : null}
        </text>
      ) : null}
      {body.decide_by && !away && body.start <= today && today < body.end ? (
        <Flag laid={laid} y={y} by={body.decide_by} today={today} />
      ) : null}
    </g>
  );
}

function stageThatFits(name: string, label: string[], width: number): string {
  const whole = name.toLowerCase();
  return textWidth([...label, whole].join(" "), true) + 22 <= width ? whole : "";
}

/** A survey flag on what stands today and waits for a decision: filled in the week of its last day, outlined before. */
function Flag({ laid, y, by, today }: { laid: Laid; y: (amount: number) => number; by: Day; today: Day }) {
  const { scale, span } = useSpan();
  const first = laid.steps.find((step) => step.from <= today && today < step.to);
  if (!first) return null;
  const words = `by ${shortDay(by)}`;
  const right = Math.min(scale.left + scale.open, scale.x(first.to));
  const top = y(first.bottom + laid.body.amount);
  const thick = y(0) - y(laid.body.amount);
  const room = thick > FLAG + LABEL + 4; // for words; a thin body has a small flag, and its title says the day
  const width = room ? textWidth(words, true) + 16 : 14;
  // A small one stands at the end of its body, where no label begins.
  const x = room ? scale.x(today) + scale.open / span.days / 2 + 2 : right - width - 2;
  if (x < scale.left || x + width > scale.left + scale.open) return null;
  const soon = by <= addDays(today, 6);
  const at = top + 2;
  const high = room ? FLAG : Math.min(9, Math.max(5, thick - 3));
  return (
    <g className="pointer-events-none">
      <path
        d={`M ${x} ${at} h ${width} l -5 ${high / 2} l 5 ${high / 2} h ${-width} Z`}
        className={soon ? "fill-decide stroke-decide" : "fill-panel stroke-decide"}
        strokeWidth={1.5}
      />
      {room ? (
        <text x={x + 5} y={at + 12} className={`cond text-note font-bold ${soon ? "fill-ondecide" : "fill-decide"}`}>
          {words}
        </text>
      ) : null}
    </g>
  );
}

/** Where a proposal would stand, to scale among the others; it is taken hold of like the body it comes from. */
export function ProposedShape({ laid, lane, y }: { laid: Laid; lane: Lane; y: (amount: number) => number }) {
  const { scale } = useSpan();
  const best = useBest(laid);
  const thick = y(0) - y(laid.body.amount);
  const label = [laid.body.code, laid.body.name].filter(Boolean);
  const fits = thick >= LABEL ? fitting(label, best.width) : 0;
  return (
    <g className="pointer-events-none" data-proposed={lane.place_id}>
      <path d={outline(laid, scale.x, y)} className="fill-panel stroke-decide" strokeWidth={2} />
      {fits ? (
        <text
          x={best.x + 6}
          y={y(best.bottom + laid.body.amount / 2) + 4}
          className="cond fill-decide text-note font-bold"
        >
          {label.slice(0, fits).join(" ")}
        </text>
      ) : null}
    </g>
  );
}
