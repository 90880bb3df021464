import { textWidth } from "../../ui/textWidth";
import {
  barLength,
  type Drawing,
  type Frame,
  frameOf,
  groundPath,
  marksOf,
  middleOf,
  pathOf,
  patternStrip,
} from "./rowsLayout";

/** The rows to scale in the real outline: F solid, M dashed, border and headland dotted; letters at the ends. */
export function RowsDrawing({
  drawing,
  pattern,
  width,
  height,
  near,
}: {
  drawing: Drawing;
  pattern: string;
  width: number;
  height: number;
  /** What keeps its distance, where a neighbour stands too near; the rest is struck through and said. */
  near?: Near | undefined;
}) {
  const frame = frameOf(drawing, width, height, 34);
  const thick = Math.max(0.5, Math.min(2, frame.scale * 0.42));
  const bold = Math.max(1, Math.min(2, frame.scale * 0.7)); // few rows among many: the male must be seen
  const of = (line: string) => drawing.rows.filter((row) => row.part === "body" && row.line === line);
  const edge = drawing.rows.filter((row) => row.part !== "body");
  const outline = drawing.outline
    .map((p) =>
      frame
        .at(p)
        .map((v) => v.toFixed(1))
        .join(","),
    )
    .join(" ");
  const bar = barLength(frame);
  const words = pattern
    ? `Rows of the block to scale: ${of("F").length} female, ${of("M").length} male, ${edge.length} border rows and headland strips${drawing.gone.length ? "; a part counts no more" : ""}`
    : "Outline of the block to scale";
  return (
    <svg width={width} height={frame.height + 18} role="img" aria-label={words}>
      <polygon points={outline} className="fill-panel stroke-none" />
      <path d={pathOf(edge, frame)} className="fill-none stroke-m" strokeWidth={thick} strokeDasharray="1 2.5" />
      <path d={pathOf(of("F"), frame)} className="fill-none stroke-f" strokeWidth={thick} />
      <path d={pathOf(of("M"), frame)} className="fill-none stroke-m" strokeWidth={bold} strokeDasharray="4 3" />
      <path
        d={groundPath(drawing.gone, frame.at)}
        fillRule="evenodd"
        className="fill-panel/80 stroke-ink2"
        strokeDasharray="2 3"
      />
      {near ? <TooNear drawing={drawing} near={near} frame={frame} /> : null}
      <polygon points={outline} className="fill-none stroke-ink" strokeWidth={1.5} />
      {marksOf(drawing, frame).map((mark) => (
        <text
          key={`${mark.letter}${mark.x}${mark.y}`}
          x={mark.x}
          y={mark.y + 4}
          textAnchor="middle"
          className={`cond text-[11px] font-bold ${mark.letter === "F" ? "fill-f" : "fill-m"}`}
        >
          {mark.letter}
        </text>
      ))}
      <g transform={`translate(34 ${frame.height + 4})`}>
        <path
          d={`M0 -4V4M0 0H${bar * frame.scale}M${bar * frame.scale} -4V4`}
          className="fill-none stroke-ink"
          strokeWidth={1.5}
        />
        <text x={bar * frame.scale + 6} y={4} className="cond fill-ink2 text-note">
          {bar} m
        </text>
        <path
          d={`M${bar * frame.scale + 60} 6V-8M${bar * frame.scale + 57} -3l3 -5l3 5`}
          className="fill-none stroke-ink"
          strokeWidth={1.5}
        />
        <text x={bar * frame.scale + 68} y={4} className="cond fill-ink2 text-note">
          N
        </text>
      </g>
    </svg>
  );
}

export interface Near {
  kept: number[][][][];
  words: string[];
}

/** The part inside the distance that a neighbour asks: hatched over the rows, its edge dashed, its area in words. */
function TooNear({ drawing, near, frame }: { drawing: Drawing; near: Near; frame: Frame }) {
  const edge = groundPath([...near.kept, ...drawing.gone], frame.at);
  const [x, y] = middleOf(drawing.outline, near.kept, frame);
  const wide = Math.max(...near.words.map((one) => textWidth(one))) * 1.08 + 14;
  const left = Math.max(2, Math.min(frame.width - wide - 2, x - wide / 2));
  return (
    <g>
      <defs>
        <pattern id="too-near" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="3" height="7" className="fill-panel" />
        </pattern>
      </defs>
      <path
        d={`${groundPath([[drawing.outline]], frame.at)}${edge}`}
        fill="url(#too-near)"
        fillRule="evenodd"
        className="stroke-none"
      />
      <path d={edge} className="fill-none stroke-ink" strokeWidth={2} strokeDasharray="5 4" />
      <rect x={left} y={y - 20} width={wide} height={38} className="fill-panel stroke-ink" />
      {near.words.map((one, n) => (
        <text key={one} x={left + 7} y={y - 5 + n * 15} className={`cond fill-ink text-note ${n ? "" : "font-bold"}`}>
          {one}
        </text>
      ))}
    </g>
  );
}

const ROW = 15;

/** A few rows magnified: discs for the female, triangles for the male, open triangles for the border. */
export function PatternStrip({
  pattern,
  borderRows,
  spacing,
}: {
  pattern: string;
  borderRows: number;
  spacing: number;
}) {
  const rows = patternStrip(pattern, borderRows);
  const females = [...pattern].filter((letter) => letter === "F").length;
  return (
    <svg
      width={196}
      height={rows.length * ROW + 44}
      role="img"
      aria-label={`Pattern ${pattern} with ${borderRows} border rows on each side`}
    >
      <rect x={0} y={2} width={122} height={rows.length * ROW + 4} className="fill-panel stroke-ink" />
      {rows.map((row, n) => {
        const y = 2 + ROW * n + ROW / 2 + 2;
        const female = row.letter === "F";
        return (
          <g key={n}>
            <text
              x={12}
              y={y + 4}
              textAnchor="middle"
              className={`cond text-[11px] font-bold ${female ? "fill-f" : "fill-m"}`}
            >
              {row.letter}
            </text>
            <line
              x1={24}
              x2={114}
              y1={y}
              y2={y}
              className={female ? "stroke-f" : "stroke-m"}
              strokeDasharray={female ? undefined : row.letter === "M" ? "4 4" : "1 3"}
            />
            {[32, 50, 68, 86, 104].map((x) =>
              female ? (
                <circle key={x} cx={x} cy={y} r={3.2} className="fill-f" />
              ) : (
                <path
                  key={x}
                  d={`M${x - 4} ${y + 3.5}L${x} ${y - 4}L${x + 4} ${y + 3.5}Z`}
                  className={row.letter === "M" ? "fill-m stroke-m" : "fill-panel stroke-m"}
                />
              ),
            )}
          </g>
        );
      })}
      <text x={0} y={rows.length * ROW + 22} className="cond fill-ink2 text-note">
        rows {spacing} m apart, {females}:{pattern.length - females}
      </text>
      <text x={0} y={rows.length * ROW + 37} className="cond fill-ink2 text-note">
        {borderRows} border rows a side
      </text>
    </svg>
  );
}
