import type { Schemas } from "../api/client";
import { isoWeek, shortDay } from "../ui/dates";
import { chance, quantity } from "../ui/format";
import { Faults, Pennant } from "../ui/parts";
import { MOST_ASIDE, useProposal, type View } from "./proposal";

function shown(value: unknown, unit: string, kind: string): string {
  if (value === null || value === undefined || value === "") return "none";
  if (kind === "date") return shortDay(String(value));
  if (kind === "share") return chance(value as number);
  return typeof value === "number" ? quantity(value, unit) : String(value);
}

/** Places that a proposal leaves as they were say nothing, unless they overflow. */
function matters(figure: Schemas["FigureOut"]): boolean {
  return figure.kind !== "space" || figure.worse || figure.before !== figure.after;
}

function noteOf(figure: Schemas["FigureOut"]): string {
  if (figure.kind !== "date") return figure.note;
  if (!figure.before) return [figure.note, `week ${isoWeek(String(figure.after)).week}`].filter(Boolean).join(", ");
  const [before, after] = [isoWeek(String(figure.before)).week, isoWeek(String(figure.after)).week];
  return before === after ? `week ${after}` : `week ${before} to week ${after}`;
}

function Before({ before, after, worse }: { before: string; after: string; worse: boolean }) {
  if (!before) return <b className={`whitespace-nowrap text-h2 ${worse ? "underline decoration-2" : ""}`}>{after}</b>;
  if (before === after) return <div className="text-h2 text-ink2">{after}</div>;
  return (
    <div className="whitespace-nowrap text-h2">
      <span className="text-ink3">{before}</span>{" "}
      <svg width="14" height="9" viewBox="0 0 14 9" className="inline" role="img" aria-label="to">
        <path d="M0 4.5h12M8.5 1l4 3.5-4 3.5" fill="none" className="stroke-ink" strokeWidth="1.5" />
      </svg>{" "}
      <b className={worse ? "underline decoration-2" : ""}>{after}</b>
    </div>
  );
}

/** At the foot: what a proposal does, before it is kept or dropped. */
export function ConsequencesBar() {
  const { proposed, kept, keep, undo, drop, aside, setAside } = useProposal();
  if (!proposed && aside.length && !kept)
    return (
      <section
        aria-label="Proposals set aside"
        className="noprint max-h-[55vh] overflow-y-auto border-t-[3px] border-decide bg-panel px-4 py-2"
      >
        <SideBySide />
      </section>
    );
  if (!proposed) return kept ? <KeptBar sentence={kept.sentence} onUndo={() => void undo()} /> : null;
  const { proposal, conflict, error, busy } = proposed;
  return (
    <section
      aria-label="Consequences of the proposal"
      aria-live="polite"
      className="noprint flex max-h-[55vh] min-h-[116px] gap-4 overflow-y-auto border-t-[3px] border-decide bg-panel px-4 py-2"
    >
      <div className="min-w-0 flex-1">
        {aside.length ? <SideBySide now={proposal} /> : null}
        {conflict ? <ConflictView conflict={conflict} /> : <Faults error={error} />}
        {proposal && !conflict ? (
          <>
            <p className="text-h2">
              <Pennant>Proposed</Pennant> {proposal.sentence}{" "}
              <span className="text-body text-ink3">
                {proposal.orders.length
                  ? `Touches order${proposal.orders.length > 1 ? "s" : ""} ${proposal.orders.map((order) => order.number).join(", ")}.`
                  : "Touches no order."}
              </span>
            </p>
            <div className="mt-1 flex flex-wrap gap-x-7 gap-y-1">
              {proposal.figures.filter(matters).map((figure) => (
                <div key={figure.name}>
                  <div className="note">{figure.name}</div>
                  <Before
                    before={figure.before === null ? "" : shown(figure.before, figure.unit, figure.kind)}
                    after={shown(figure.after, figure.unit, figure.kind)}
                    worse={figure.worse}
                  />
                  <div className={`cond text-note ${figure.worse ? "font-bold" : "text-ink2"}`}>{noteOf(figure)}</div>
                </div>
              ))}
              {proposal.orders.map((order) => (
                <div key={order.line_id}>
                  <div className="note">
                    Order {order.number}, {quantity(order.quantity, "")}
                  </div>
                  <Before
                    before={chance(order.before) || "unplanned"}
                    after={chance(order.after)}
                    worse={(order.after ?? 0) < (order.before ?? 0)}
                  />
                  <div className="cond text-ink2 text-note">chance, by {shortDay(order.due_last)}</div>
                </div>
              ))}
            </div>
            {proposal.problems.map((problem) => (
              <p key={problem} className="fault">
                {problem}
              </p>
            ))}
          </>
        ) : null}
        {busy && !proposal ? <p className="text-ink3">Working it out …</p> : null}
      </div>
      <div className="flex w-32 flex-none flex-col gap-2">
        {conflict ? null : (
          <button type="button" className="btn btn-decide h-8" disabled={!proposal || busy} onClick={() => void keep()}>
            Keep <span className="cond text-note underline">Enter</span>
          </button>
        )}
        {proposal && !conflict && aside.length < MOST_ASIDE ? (
          <button type="button" className="btn h-8" disabled={busy} onClick={setAside}>
            Set aside
          </button>
        ) : null}
        <button type="button" className="btn h-8" onClick={drop}>
          {conflict ? "Look again" : "Drop"} <span className="cond text-note underline">Esc</span>
        </button>
      </div>
    </section>
  );
}

/** Proposals beside one another, nothing of them saved: in the same rows, what they would do otherwise than each other. */
function SideBySide({ now = null }: { now?: View | null }) {
  const { aside, takeUp, forget } = useProposal();
  const views = [...aside.map((one) => one.proposal), ...(now ? [now] : [])];
  const rows = compared(views);
  return (
    <div className="mb-2 overflow-x-auto">
      <table className="tbl !w-auto">
        <thead>
          <tr>
            <td className="note align-bottom">Side by side</td>
            {aside.map((one, n) => (
              <th
                scope="col"
                key={one.proposal.sentence + String(n)}
                className="!whitespace-normal max-w-64 min-w-40 align-bottom"
              >
                <b>{LETTERS[n]}</b> {one.proposal.sentence}{" "}
                <button type="button" className="btn-link" onClick={() => takeUp(one)}>
                  take up {LETTERS[n]}
                </button>
              </th>
            ))}
            {now ? (
              <th scope="col" className="!whitespace-normal max-w-64 min-w-40 align-bottom">
                <b>What is proposed below</b>
              </th>
            ) : null}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.name}>
              <th scope="row" className="text-left font-normal">
                {row.name} <span className="note">{row.stands}</span>
              </th>
              {row.cells.map((cell, n) => (
                <td key={(views[n]?.sentence ?? "") + String(n)} className={cell.worse ? "font-bold underline" : ""}>
                  {cell.words}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p>
        {rows.length || views.length < 2 ? "" : "They come to the same in every figure. "}
        <button type="button" className="btn-link" onClick={forget}>
          forget {aside.length === 1 ? LETTERS[0] : "those set aside"}
        </button>
      </p>
    </div>
  );
}

interface Compared {
  name: string;
  stands: string;
  cells: { words: string; worse: boolean }[];
}

const AS_IT_STANDS = { words: "as it stands", worse: false };

/** Figures, promises and what stands against each; of several proposals only that in which they differ. */
function compared(views: View[]): Compared[] {
  const figures = views.flatMap((view) => view.figures.filter(matters));
  const lines = new Map(views.flatMap((view) => view.orders.map((order) => [order.line_id, order] as const)));
  const rows: Compared[] = [...new Set(figures.map((figure) => figure.name))].map((name) => ({
    name,
    stands: stands(figures.find((figure) => figure.name === name)),
    cells: views.map((view) => {
      const figure = view.figures.find((one) => one.name === name);
      return figure ? { words: shown(figure.after, figure.unit, figure.kind), worse: figure.worse } : AS_IT_STANDS;
    }),
  }));
  for (const line of lines.values())
    rows.push({
      name: `Order ${line.number}`,
      stands: `chance now ${chance(line.before) || "none"}`,
      cells: views.map((view) => {
        const order = view.orders.find((one) => one.line_id === line.line_id);
        return order ? { words: chance(order.after), worse: (order.after ?? 0) < (order.before ?? 0) } : AS_IT_STANDS;
      }),
    });
  rows.push({
    name: "Against it",
    stands: "",
    cells: views.map((view) => ({ words: view.problems.join(" ") || "nothing", worse: view.problems.length > 0 })),
  });
  return views.length < 2 ? rows : rows.filter((row) => new Set(row.cells.map((cell) => cell.words)).size > 1);
}

const LETTERS = ["A", "B", "C"];

function stands(figure: Schemas["FigureOut"] | undefined): string {
  return figure && figure.before !== null ? `now ${shown(figure.before, figure.unit, figure.kind)}` : "";
}

/** What was kept a moment ago, and its way back. */
function KeptBar({ sentence, onUndo }: { sentence: string; onUndo: () => void }) {
  return (
    <section
      aria-label="Kept"
      aria-live="polite"
      className="noprint flex items-center gap-4 border-ink border-t-[3px] bg-panel px-4 py-2"
    >
      <p className="min-w-0 flex-1">
        <b>Kept.</b> {sentence}
      </p>
      <button type="button" className="btn h-8 w-32" onClick={onUndo}>
        Undo
      </button>
    </section>
  );
}

function ConflictView({ conflict }: { conflict: NonNullable<ReturnType<typeof useProposal>["proposed"]>["conflict"] }) {
  if (!conflict) return null;
  return (
    <div role="alert">
      <p className="fault">{conflict.message}</p>
      <table className="tbl mt-1 max-w-3xl">
        <thead>
          <tr>
            <th scope="col"> </th>
            <th scope="col">saved now</th>
            <th scope="col">yours, not saved</th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>What</td>
            <td>{conflict.theirs}</td>
            <td>{conflict.yours}</td>
          </tr>
          {conflict.values?.map((row) => (
            <tr key={row.name}>
              <td>{row.name}</td>
              <td>{shown(row.theirs, row.unit, row.kind)}</td>
              <td>{shown(row.yours, row.unit, row.kind)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
