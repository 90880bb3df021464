import { type PointerEvent, useRef, useState } from "react";
import { count } from "./format";

type Corner = [number, number];
const SIDE = 340; // px
const SPANS = [100, 200, 400, 800, 1600]; // metres from edge to edge

/** Corners as the field above takes them: metres east and north of the site, one a line. */
const words = (corners: Corner[]) => corners.map(([x, y]) => `${x} ${y}`).join("\n");

function read(text: string): Corner[] | null {
  const corners = text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean)
    .map((line) => line.split(/[\s;,]+/).map(Number));
  return corners.every((one) => one.length === 2 && one.every(Number.isFinite)) ? (corners as Corner[]) : null;
}

/** Draws an outline: a press sets a corner, a drag moves one. What is drawn stands in the field as text, and the other way round. */
export function OutlinePad({
  value,
  onChange,
  others = [],
}: {
  value: string;
  onChange: (text: string) => void;
  /** Outlines that are there already, to draw beside. */
  others?: { name: string; corners: Corner[] }[];
}) {
  const svg = useRef<SVGSVGElement>(null);
  const corners = read(value);
  const all = [...(corners ?? []), ...others.flatMap((one) => one.corners)];
  const middle = (n: 0 | 1) => {
    const values = all.map((one) => one[n]);
    return values.length ? Math.round((Math.min(...values) + Math.max(...values)) / 20) * 10 : 0;
  };
  const reach = Math.max(
    ...([0, 1] as const).map((n) => {
      const values = all.map((one) => one[n]);
      return values.length ? Math.max(...values) - Math.min(...values) : 0;
    }),
    0,
  );
  const [span, setSpan] = useState(SPANS.find((metres) => metres > reach * 1.15) ?? 3200);
  const [centre] = useState<Corner>([middle(0), middle(1)]); // it stays, or the sheet would slide under the pointer
  const [held, setHeld] = useState<number | null>(null);
  if (corners === null) return null;
  const scale = SIDE / span;
  const px = ([x, y]: Corner): Corner => [SIDE / 2 + (x - centre[0]) * scale, SIDE / 2 - (y - centre[1]) * scale];
  const under = (event: PointerEvent): Corner => {
    const box = svg.current?.getBoundingClientRect();
    const [left, top, size] = box ? [box.left, box.top, box.width / SIDE] : [0, 0, 1];
    const metre = (value: number) => Math.round(value);
    return [
      metre(centre[0] + ((event.clientX - left) / size - SIDE / 2) / scale),
      metre(centre[1] - ((event.clientY - top) / size - SIDE / 2) / scale),
    ];
  };
  const put = (next: Corner[]) => onChange(words(next));
  const step = span / 8;
  const lines = Array.from({ length: 9 }, (_, n) => n * (SIDE / 8));
  return (
    <div>
      <svg
        ref={svg}
        viewBox={`0 0 ${SIDE} ${SIDE}`}
        className="block w-full max-w-[340px] touch-none select-none border border-ink3 bg-paper"
        role="application"
        aria-label="Draw the outline: a press sets a corner, a drag moves one; the field above holds the same as text"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const at = under(event);
          const near = corners.findIndex((one) => Math.hypot(one[0] - at[0], one[1] - at[1]) * scale < 14);
          if (near < 0) put([...corners, at]);
          setHeld(near < 0 ? corners.length : near);
        }}
        onPointerMove={(event) => {
          if (held === null) return;
          const at = under(event);
          put(corners.map((one, n) => (n === held ? at : one)));
        }}
        onPointerUp={() => setHeld(null)}
        onPointerCancel={() => setHeld(null)}
      >
        {lines.map((at) => (
          <g key={at}>
            <line x1={at} x2={at} y1={0} y2={SIDE} className="stroke-hair" />
            <line x1={0} x2={SIDE} y1={at} y2={at} className="stroke-hair" />
          </g>
        ))}
        {others.map((one) => (
          <polygon
            key={one.name}
            points={one.corners.map((corner) => px(corner).join(",")).join(" ")}
            className="fill-fold stroke-rule"
          />
        ))}
        <polygon
          points={corners.map((corner) => px(corner).join(",")).join(" ")}
          className="fill-plan stroke-line"
          strokeWidth={1.5}
        />
        {corners.map((corner, n) => (
          <circle
            key={n}
            cx={px(corner)[0]}
            cy={px(corner)[1]}
            r={5}
            className="fill-panel stroke-ink"
            strokeWidth={1.5}
          />
        ))}
      </svg>
      <p className="note mt-1 flex flex-wrap items-center gap-3">
        A square is {count(step)} m.
        <button type="button" className="btn-link" onClick={() => put(corners.slice(0, -1))} disabled={!corners.length}>
          take the last corner back
        </button>
        <button type="button" className="btn-link" onClick={() => put([])} disabled={!corners.length}>
          begin anew
        </button>
        <label className="flex items-center gap-1">
          Across
          <select className="input !w-auto" value={span} onChange={(event) => setSpan(Number(event.target.value))}>
            {[...new Set([...SPANS, span])]
              .sort((a, b) => a - b)
              .map((metres) => (
                <option key={metres} value={metres}>
                  {count(metres)} m
                </option>
              ))}
          </select>
        </label>
      </p>
    </div>
  );
}
