import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { levellingQuery } from "../../api/queries";
import { type Command, full, useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { addDays, shortDay } from "../../ui/dates";
import { few, quantity, share } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Sheet } from "../../ui/parts";

type Levelled = Schemas["LevelledOut"];
type Move = Levelled["moves"][number];

/** Other days and places for what is only planned, looked for as a job; what is chosen goes through the bar. */
export function Level({ job, onJob, onClose }: { job: string; onJob: (id: number) => void; onClose: () => void }) {
  const { span, today } = useSpan();
  const start = [span.start, today].sort()[1] ?? today; // the later of the two
  const end = addDays(span.start, span.days);
  const id = Number(job);
  const { data, error } = useQuery({ ...levellingQuery(id), enabled: id > 0 });
  const begin = useSave(
    () => take(api.POST("/api/levelling", { body: { start, end } })),
    (made) => made.id && onJob(made.id),
  );
  const may = useMay();
  return (
    <Sheet open onClose={onClose} title="Level" wide>
      {id > 0 ? (
        <>
          <Faults error={error} />
          {data ? <Found found={data} onClose={onClose} /> : error ? null : <p className="text-ink3">Fetching …</p>}
        </>
      ) : (
        <p>
          Looks for other days of sowing, up to three weeks away, and other places of the same kind, for what is only
          planned between {shortDay(start)} and {shortDay(addDays(end, -1))}. What is sown or pinned stays where it is.
          What would come late, be too old when it is wanted, or be ready in time less surely than was asked is left
          out. Nothing is moved before you have seen what it does to each promise.
        </p>
      )}
      {may("batches.plan") && (id === 0 || (data && !alive(data))) ? (
        <p className="mt-3 flex items-center gap-3">
          <button
            type="button"
            className={`btn ${id ? "" : "btn-decide"}`}
            disabled={begin.isPending || end <= today}
            onClick={() => begin.mutate(undefined)}
          >
            {id ? "Look again" : "Look for moves"}
          </button>
          {end <= today ? <span className="note">These weeks are over; move the season line on.</span> : null}
          <Faults error={begin.error} />
        </p>
      ) : null}
    </Sheet>
  );
}

const alive = (found: Levelled) => found.state === "waiting" || found.state === "running";

function Found({ found, onClose }: { found: Levelled; onClose: () => void }) {
  const [left, setLeft] = useState<number[]>([]);
  const { proposeAll } = useProposal();
  const may = useMay();
  const stands = found.moves.filter((move) => !move.stale && !left.includes(move.batch_id));
  const look = useSave(() => proposeAll(stands.map(commandOf)), onClose);
  if (alive(found))
    return (
      <p role="status">
        {found.words} <span className="note">You can go on working meanwhile; it tells you when it is done.</span>
      </p>
    );
  if (found.state !== "done") return <p className="fault">{found.words}</p>;
  const stale = found.moves.length - found.moves.filter((move) => !move.stale).length;
  return (
    <>
      <p className="text-h2">{found.sentence}</p>
      {found.before ? (
        <p className="note">
          {few(found.looked_at, "batch", "batches")} looked at.{" "}
          {found.proven
            ? ""
            : `Other moves could be better by ${share((found.price - found.bound) / found.before)} of that at most.`}
        </p>
      ) : null}
      {stale ? (
        <p className="fault mt-2">
          {stale === 1 ? "One batch was" : `${stale} batches were`} changed since this was looked for, so{" "}
          {stale === 1 ? "its move" : "their moves"} cannot be taken. Look again.
        </p>
      ) : null}
      {found.places.length ? (
        <table className="tbl mt-2">
          <thead>
            <tr>
              <th scope="col">Place</th>
              <th scope="col">over now</th>
              <th scope="col">afterwards</th>
            </tr>
          </thead>
          <tbody>
            {found.places.map((one) => (
              <tr key={one.place_id}>
                <td>{one.place}</td>
                <td>{overBy(one.was, one.was_days, one.unit)}</td>
                <td>
                  {one.now_from ? <b>{overBy(one.now, one.now_days, one.unit)}</b> : "no more"}{" "}
                  {one.now_from ? (
                    <span className="note">
                      most from {shortDay(one.now_from)}. {one.why}
                    </span>
                  ) : null}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {found.moves.length ? (
        <ul className="mt-2">
          {found.moves.map((move) => (
            <li key={move.batch_id} className="border-hair border-b py-1">
              <label className={`flex items-baseline gap-2 ${move.stale ? "text-ink3 line-through" : ""}`}>
                <input
                  type="checkbox"
                  disabled={move.stale}
                  checked={!move.stale && !left.includes(move.batch_id)}
                  onChange={(event) =>
                    setLeft(
                      event.target.checked ? left.filter((one) => one !== move.batch_id) : [...left, move.batch_id],
                    )
                  }
                />
                <span>
                  {move.words}. <span className="note">{move.why}</span>
                </span>
              </label>
            </li>
          ))}
        </ul>
      ) : null}
      {found.moves.length && may("proposals") ? (
        <p className="mt-3 flex items-center gap-3">
          <button
            type="button"
            className="btn btn-decide"
            disabled={!stands.length || look.isPending}
            onClick={() => look.mutate(undefined)}
          >
            See what {few(stands.length, "move")} would do
          </button>
          <Faults error={look.error} />
        </p>
      ) : null}
    </>
  );
}

function overBy(amount: number, days: number, unit: string): string {
  if (!days) return "no";
  return `by up to ${quantity(amount < 10 ? Math.round(amount * 10) / 10 : Math.round(amount), unit)}, ${few(days, "day")}`;
}

function commandOf(move: Move): Command {
  return {
    do: "edit",
    batch: move.batch_id,
    change: full({ sow_on: move.sow_on, stage: move.stage, place_id: move.place_id, split: move.split ?? [] }),
  };
}
