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

/** About the middle of what of an outline is not among what is kept, on the screen: of a coarse grid, the mean. */
export function middleOf(outline: number[][], kept: number[][][][], frame: Frame): [number, number] {
  const inside = (p: [number, number], ring: number[][]) =>
    ring.reduce((odd, [x = 0, y = 0], n) => {
      const [u = 0, v = 0] = ring[(n + ring.length - 1) % ring.length] ?? [];
      return y > p[1] !== v > p[1] && p[0] < ((u - x) * (p[1] - y)) / (v - y) + x ? !odd : odd;
    }, false);
  const wide = Math.max(...outline.map((p) => p[0] ?? 0));
  const high = Math.max(...outline.map((p) => p[1] ?? 0));
  const lost: [number, number][] = [];
  for (let n = 0; n < 400; n++) {
    const p: [number, number] = [((n % 20) + 0.5) * (wide / 20), (Math.floor(n / 20) + 0.5) * (high / 20)];
    if (inside(p, outline) && !kept.some((rings) => inside(p, rings[0] ?? []))) lost.push(p);
  }
  const mean = (axis: 0 | 1) => lost.reduce((sum, p) => sum + p[axis], 0) / Math.max(1, lost.length);
  return frame.at([mean(0), mean(1)]);
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
