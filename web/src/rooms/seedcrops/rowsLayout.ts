import type { Schemas } from "../../api/client";

export type Drawing = Schemas["DrawingOut"];
type Row = Drawing["rows"][number];

/** Metres of a drawing onto the screen: to scale, north up. */
export interface Frame {
  scale: number;
  width: number;
  height: number;
  at: (point: number[]) => [number, number];
}

export function frameOf(drawing: Drawing, width: number, height: number, margin: number): Frame {
  const wide = Math.max(1, ...drawing.outline.map((p) => p[0] ?? 0));
  const high = Math.max(1, ...drawing.outline.map((p) => p[1] ?? 0));
  const scale = Math.min((width - 2 * margin) / wide, (height - 2 * margin) / high);
  return {
    scale,
    width: wide * scale + 2 * margin,
    height: high * scale + 2 * margin,
    at: ([x = 0, y = 0]) => [margin + x * scale, margin + (high - y) * scale],
  };
}

/** All pieces of some rows as one path. */
export function pathOf(rows: Row[], frame: Frame): string {
  return rows
    .flatMap((row) => row.segments)
    .map(([a, b]) => {
      const [ax, ay] = frame.at(a ?? []);
      const [bx, by] = frame.at(b ?? []);
      return `M${ax.toFixed(1)} ${ay.toFixed(1)}L${bx.toFixed(1)} ${by.toFixed(1)}`;
    })
    .join("");
}

/** Ground that counts no more, as a path with its holes. */
export function groundPath(gone: number[][][][], at: (point: number[]) => readonly [number, number]): string {
  const ring = (points: number[][]) =>
    `M${points
      .map((p) =>
        at(p)
          .map((v) => v.toFixed(1))
          .join(" "),
      )
      .join("L")}Z`;
  return gone.flatMap((rings) => rings.map(ring)).join("");
}

export interface Mark {
  letter: string;
  x: number;
  y: number;
}

/** Letters at the rows' ends, as many as stay apart: one for a run of rows of one line, F and M in turns. */
const BESIDE = 12; // px between two letters that are not the same

export function marksOf(drawing: Drawing, frame: Frame, apart = 15): Mark[] {
  const body = drawing.rows.filter((row) => row.part === "body" && row.segments.length);
  const runs: Row[][] = [];
  for (const row of body) {
    const last = runs.at(-1);
    if (last?.at(-1)?.line === row.line && last.at(-1)?.index === row.index - 1) last.push(row);
    else runs.push([row]);
  }
  const marks: Mark[] = [];
  for (const run of runs) {
    const middle = run[Math.floor(run.length / 2)];
    const [a, b] = middle?.segments[0] ?? [];
    if (!a || !b) continue;
    const [ax, ay] = frame.at(a);
    const [bx, by] = frame.at(b);
    const length = Math.hypot(bx - ax, by - ay) || 1;
    const out = (middle?.line === "F" ? 9 : 19) + 4 * frame.scale;
    const mark = { letter: middle?.line ?? "", x: ax - ((bx - ax) / length) * out, y: ay - ((by - ay) / length) * out };
    const near = (other: Mark) => Math.hypot(other.x - mark.x, other.y - mark.y);
    if (marks.every((other) => near(other) >= (other.letter === mark.letter ? apart : BESIDE))) marks.push(mark);
  }
  return marks;
}

/** What one pass of the pattern looks like, from the border inward, for the magnified strip. */
export function patternStrip(pattern: string, borderRows: number): { letter: "F" | "M" | "B"; words: string }[] {
  const border = Array.from({ length: Math.min(4, borderRows) }, () => ({ letter: "B" as const, words: "border" }));
  const body = [...pattern].map((letter) => ({
    letter: letter as "F" | "M",
    words: letter === "F" ? "female" : "male",
  }));
  return [...border, ...body, ...body.slice(0, 2)].slice(0, 14);
}

/** A round length for the scale bar [m]. */
export function barLength(frame: Frame): number {
  const wanted = 110 / frame.scale;
  return [1, 2, 5, 10, 20, 50, 100, 200, 500].find((n) => n >= wanted / 1.6) ?? 500;
}
