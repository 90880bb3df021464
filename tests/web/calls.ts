/** What the tests call of the front end: its own functions, flattened where they give back functions. */
import { outline, stack, widest } from "../../web/src/rooms/batches/boardLayout";
import { makeLogScale } from "../../web/src/rooms/batches/ladderScale";
import { barLength, frameOf, marksOf, pathOf, patternStrip } from "../../web/src/rooms/seedcrops/rowsLayout";
import { nearest, outlookFrom, rejectAt, stateFrom, tallyWith } from "../../web/src/rooms/seedcrops/verdictTable";
import { HEAD, makeScale } from "../../web/src/shell/span";
import { dayNumber } from "../../web/src/ui/dates";
import { readOutline } from "../../web/src/ui/outline";

export * from "../../web/src/ui/dates";
export * from "../../web/src/ui/format";
export { readDay } from "../../web/src/ui/readDay";
export { nearest, outlookFrom, patternStrip, readOutline, rejectAt, stack, stateFrom, tallyWith };

// biome-ignore lint/suspicious/noExplicitAny: the shapes are the server's, checked by the type gate where they are used
type Any = any;

export function seasonScale(width: number, span: Any, season: Any, days: string[]) {
  const scale = makeScale(width, span, season);
  const xs = days.map((day) => scale.x(day));
  return { head: HEAD, open: scale.open, xs, back: xs.map((x) => scale.dayAt(x + 0.001)) };
}

export function ladderXs(rungs: Any, width: number, promised: number, values: number[]) {
  const scale = makeLogScale(rungs, width, promised);
  return { xs: values.map(scale.x), ticks: scale.ticks, fold: scale.fold, foldTicks: scale.foldTicks };
}

export function rowsDrawn(drawing: Any, width: number, height: number, margin: number) {
  const frame = frameOf(drawing, width, height, margin);
  return {
    ...frame,
    corners: drawing.outline.map((point: number[]) => frame.at(point)),
    marks: marksOf(drawing, frame),
    path: pathOf(drawing.rows, frame),
    bar: barLength(frame) * frame.scale,
  };
}

export function bodyDrawn(bodies: Any, start: string, end: string) {
  const x = (day: string) => dayNumber(day) - dayNumber(start);
  return stack(bodies, start, end).map((laid) => ({ ...laid, path: outline(laid, x, (v) => v), label: widest(laid, x) }));
}
