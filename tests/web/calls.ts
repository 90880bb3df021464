/** What the tests call of the front end: its own functions, flattened where they give back functions. */
import { outline, stack, widest } from "../../web/src/rooms/batches/boardLayout";
import { makeLogScale } from "../../web/src/rooms/batches/ladderScale";
import { keep, keepSheet, keptSheet, send, waiting } from "../../web/src/rooms/seedcrops/outbox";
import { barLength, frameOf, marksOf, pathOf, patternStrip } from "../../web/src/rooms/seedcrops/rowsLayout";
import { nearest, outlookFrom, rejectAt, stateFrom,
  stillMissing, tallyWith } from "../../web/src/rooms/seedcrops/verdictTable";
import { NotSent, PAUSES_MS, send as sendOnce } from "../../web/src/api/once";
import { HEAD, makeScale } from "../../web/src/shell/span";
import { dayNumber } from "../../web/src/ui/dates";
import { readOutline } from "../../web/src/ui/outline";

export * from "../../web/src/ui/dates";
export * from "../../web/src/ui/format";
export { readDay } from "../../web/src/ui/readDay";
export { nearest, outlookFrom, patternStrip, readOutline, rejectAt, stack, stateFrom,
  stillMissing, tallyWith };

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

/** Entries are kept and sent as a story says; what went to the server and what waits afterwards comes back, step by step. */
export async function outboxStory(steps: Any[]) {
  const told: Any[] = [];
  for (const step of steps) {
    if (step.keep)
      for (const [at, uuid] of step.keep.entries())
        await keep({
          inspection: step.inspection,
          entry: { client_uuid: uuid, area: 1, plants: 1, faults: {}, note: "", takes_back: null, at: step.at ?? `2027-07-06T08:00:00.${String(at).padStart(3, "0")}Z` },
        } as Any);
    if (step.sheet) await keepSheet(step.sheet);
    if (!step.send) continue;
    const bodies: string[][] = [];
    (globalThis as Any).answerWith = async (request: Request) => {
      if (step.answer === "nothing") throw new TypeError("connection refused");
      const id = Number(/inspections\/(\d+)\//.exec(request.url)?.[1]);
      const { entries } = (await request.json()) as Any;
      bodies.push(entries.map((one: Any) => one.client_uuid));
      await new Promise((done) => setTimeout(done, step.slow ?? 0));
      if (typeof step.answer === "number")
        return Response.json({ title: "said by the server", status: step.answer }, { status: step.answer });
      const refused = new Set(step.refuse ?? []);
      return Response.json({
        entries: entries.map((one: Any) => ({ client_uuid: one.client_uuid, kept: !refused.has(one.client_uuid), code: "", message: refused.has(one.client_uuid) ? "no such area" : "" })),
        inspection: { id, plants: entries.length, table: null },
      });
    };
    const sent = await Promise.all((step.send as number[]).map((id) => send(id)));
    const left = await Promise.all((step.send as number[]).map((id) => waiting(id)));
    told.push({
      sent,
      bodies,
      left: left.map((rows) => rows.map((row) => [row.entry.client_uuid, row.refused ?? ""])),
      tables: await Promise.all((step.send as number[]).map(async (id) => (await keptSheet(id))?.table ?? null)),
    });
  }
  return told;
}

/** Presses, each with what the line and the server do to its tries; which keys went out, and how each press ended. */
export async function onceStory(presses: Any[]) {
  PAUSES_MS.splice(0, PAUSES_MS.length, 1, 1);
  const kept = new Map<string, string>();
  (globalThis as Any).sessionStorage = { getItem: (k: string) => kept.get(k) ?? null, setItem: (k: string, v: string) => kept.set(k, v) };
  const line = globalThis.navigator as Any;
  const told: Any[] = [];
  for (const press of presses) {
    const keys: Any[] = [];
    const answers = [...press.answers];
    (globalThis as Any).answerWith = async (request: Request) => {
      keys.push(request.headers.get("Idempotency-Key"));
      const answer = answers.shift();
      if (answer === "nothing") throw new TypeError("connection refused");
      const headers = press.ours ? { "X-Request-Id": "1" } : {};
      return new Response("{}", { status: answer, headers: { ...headers, ...(press.again ? { "Retry-After": "2" } : {}) } });
    };
    Object.defineProperty(line, "onLine", { value: !press.offline, configurable: true });
    const request = new Request("/api/tasks", {
      method: press.method ?? "POST",
      ...(press.method === "GET" ? {} : { body: JSON.stringify(press.body ?? {}) }),
    });
    const end = await sendOnce(request).then((answer) => answer.status, (error) => (error instanceof NotSent ? "not sent" : "no answer"));
    told.push({ keys, end });
  }
  return told;
}
