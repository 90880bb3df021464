import { Link } from "@tanstack/react-router";
import { useCallback } from "react";
import { api, type Schemas, take } from "../../api/client";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { count, share } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { useAsk } from "../../ui/useAsk";
import { Dressings } from "../sowing/Dressings";
import { EmergenceCount } from "../sowing/EmergenceCount";
import { SownForm } from "../sowing/SownForm";

type Batch = Schemas["LadderOut"];
const CAUSES = ["damping-off", "slugs", "drying out", "birds or rodents", "a machine", "grey mould", "dropped trays"];

/** What happens to the batch next, and what was counted. */
export function Doing({ batch }: { batch: Batch }) {
  const may = useMay();
  const address = useAddress();
  // Whoever comes from a counting task has the sheet open and in view.
  const counting = useCallback((node: HTMLElement | null) => {
    if (node?.hasAttribute("open")) node.scrollIntoView({ block: "start" });
  }, []);
  const closed = batch.state === "delivered" || batch.state === "abandoned";
  const next = batch.stages.find((stage) => stage.key === batch.next_stage);
  return (
    <section>
      <h2 className="border-rule border-b pb-1">What happens</h2>
      {batch.way !== "plants" ? (
        <p className="py-2">
          Grown for seed: sowing, counts, harvest and laboratory are recorded in <Link to="/seedcrops">Seed crops</Link>{" "}
          and <Link to="/lots">Lots</Link>.
        </p>
      ) : closed ? null : (
        <div className="grid gap-3 py-2">
          {batch.state === "planned" && may("batches.do") ? <SownForm batch={batch} /> : null}
          {batch.state === "sown" && next && !next.yields && next.kind !== "dispatch" && may("batches.do") ? (
            <MoveOn batch={batch} next={next} />
          ) : null}
          {batch.state === "sown" && may("diary.count") ? (
            <>
              <details open={address.do === "count"} ref={counting}>
                <summary className="btn-link cursor-pointer">
                  Count {batch.by_seed ? "emergence" : "rooting"} on sampled trays
                </summary>
                <div className="mt-2">
                  <EmergenceCount batchId={batch.id} code={batch.code} cells={cellsOf(batch)} />
                </div>
              </details>
              <details>
                <summary className="btn-link cursor-pointer">Record plants lost</summary>
                <LossForm batch={batch} />
              </details>
            </>
          ) : null}
          {batch.state !== "planned" && may("batches.do") ? (
            <details>
              <summary className="btn-link cursor-pointer">
                Correct {batch.by_seed ? "the sowing" : "the start"}
              </summary>
              <p className="note mt-2">
                As it really was. What was counted, moved and graded since stays, and is reckoned with the right number.
              </p>
              <div className="mt-2">
                <SownForm key={batch.version} batch={batch} sownOn={batch.sow_on} />
              </div>
            </details>
          ) : null}
          {batch.state === "sown" && next?.grades ? <p>Next: grade it in Deliveries.</p> : null}
        </div>
      )}
      <ul>
        {batch.counts.map((row) => (
          <li key={row.id} className="flex gap-3 border-hair border-b py-1">
            <span className="note w-20 flex-none">{shortDay(row.happened_at)}</span>
            <span>
              {row.kind === "emergence"
                ? `${count(row.found)} of ${count(row.sampled)} cells, ${share(row.found / row.sampled)}, in ${row.parts} trays`
                : `${count(row.found)} ${row.kind === "loss" ? "lost" : "graded out"}: ${row.cause}`}{" "}
              <span className="note">{row.by}</span>
            </span>
          </li>
        ))}
      </ul>
      <Dressings batchId={batch.id} />
      <ul className="mt-2">
        {batch.tasks
          .filter((task) => task.state === "todo")
          .map((task) => (
            <li key={task.id} className="flex gap-3 border-hair border-b py-1">
              <span className="note w-20 flex-none">{shortDay(task.due)}</span>
              <span>
                <span aria-hidden="true">□</span> {task.title}
                {task.quantity ? `, ${count(task.quantity)} ${task.unit}` : ""}{" "}
                <span className="note">to do, {task.place}</span>
              </span>
            </li>
          ))}
      </ul>
    </section>
  );
}

function cellsOf(batch: Batch): number {
  return batch.trays ? Math.round(batch.start / batch.trays) : 100;
}

function MoveOn({ batch, next }: { batch: Batch; next: Schemas["StageTimeOut"] }) {
  const { today } = useSpan();
  const verb = { pot: "Potted on", space: "Spaced" }[next.kind] ?? `Moved to ${next.place || next.name.toLowerCase()}`;
  const ask = useAsk({
    start: { on: today },
    again: false,
    names: { stage: "on" },
    save: ({ on }) =>
      take(
        api.POST("/api/batches/{batch_id}/moved", {
          params: { path: { batch_id: batch.id } },
          body: { stage: next.key, on, version: batch.version },
        }),
      ),
  });
  return (
    <AskForm ask={ask} button={verb} className="flex flex-wrap items-end gap-3">
      <AskField ask={ask} name="on" label={`${next.name}: planned ${shortDay(next.start)}`} type="date" max={today} />
    </AskForm>
  );
}

function LossForm({ batch }: { batch: Batch }) {
  const { today } = useSpan();
  const ask = useAsk({
    start: { lost: "", cause: "" },
    save: (typed, client_uuid) =>
      take(
        api.POST("/api/batches/{batch_id}/losses", {
          params: { path: { batch_id: batch.id } },
          body: { ...typed, on: today, client_uuid },
        }),
      ),
  });
  return (
    <AskForm ask={ask} button="Record" className="mt-2 flex flex-wrap items-end gap-3">
      <AskField ask={ask} name="lost" label="How many were lost" className="!w-28" digits="whole" needed />
      <AskField ask={ask} name="cause" label="What took them" className="!w-44" list="causes" needed />
      <datalist id="causes">
        {CAUSES.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </datalist>
    </AskForm>
  );
}
