import { useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { chance, count, grams } from "../../ui/format";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { CropAndForm, useRaised } from "./CropAndForm";
import type { Typed } from "./NewOrder";

/** Can we take it? Earliest date, what limits it, its remedies; nothing is saved. */
export function Ask({
  open,
  onClose,
  onTake,
}: {
  open: boolean;
  onClose: () => void;
  onTake?: ((asked: Partial<Typed>) => void) | undefined;
}) {
  const raised = useRaised(open);
  const { show } = useWorking();
  const start = { crop_id: "", form: "", quantity: "", due: "" };
  const [answer, setAnswer] = useState<Schemas["AskOut"]>();
  const ask = useAsk({
    start,
    again: false,
    onDone: setAnswer,
    save: (asked: typeof start) =>
      take(
        api.POST("/api/orders/can-we-take-it", {
          body: { ...asked, crop_id: Number(asked.crop_id), form: raised.formOf(asked) },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  return (
    <Sheet open={open} onClose={onClose} title="Can we take it?" ready={!raised.reading}>
      <AskForm ask={ask} button="Work it out">
        <CropAndForm ask={ask} raised={raised} typed={typed} />
        <AskField ask={ask} name="quantity" label="How many" hint="12000, 12,000 or 12k" needed />
        <AskField ask={ask} name="due" label="When" hint="A day or a week, such as “week 36”" needed />
      </AskForm>
      {answer ? (
        <div className="mt-4 grid gap-2 border-ink border-t pt-3" aria-live="polite">
          <p className="text-h2 font-bold">{answer.sentence}</p>
          {answer.can ? (
            <p>
              Ready {shortDay(answer.ready_on)} with a chance of <b>{chance(answer.chance)}</b>:{" "}
              {answer.trays ? `${count(answer.trays)} trays` : count(answer.start)}
              {answer.seed_g ? `, ${grams(answer.seed_g)} of seed` : ""}.{" "}
              <button
                type="button"
                className="btn-link"
                onClick={() => [
                  onClose(),
                  show({ title: "start", value: count(answer.start), steps: answer.working }, true),
                ]}
              >
                working
              </button>
            </p>
          ) : (
            <p>
              {answer.earliest
                ? `The earliest day is ${shortDay(answer.earliest)}.`
                : "No day in the next half year has the room."}
            </p>
          )}
          {answer.limits.map((limit) => (
            <p key={limit.sentence} className="fault">
              {limit.sentence}
            </p>
          ))}
          {answer.remedies.length ? <h2>Remedies</h2> : null}
          <ul>
            {answer.remedies.map((remedy) => (
              <li key={remedy.sentence} className="border-hair border-b py-1">
                {remedy.sentence}
              </li>
            ))}
          </ul>
          <p className="note">Nothing was saved.</p>
          {onTake ? (
            <button
              type="button"
              className="btn w-fit"
              onClick={() =>
                onTake({
                  crop: raised.nameOf(typed),
                  form: raised.formOf(typed),
                  quantity: typed.quantity,
                  due: answer.can || !answer.earliest ? typed.due : answer.earliest,
                })
              }
            >
              {answer.can || !answer.earliest ? "Take the order" : `Take it for ${shortDay(answer.earliest)}`}
            </button>
          ) : null}
        </div>
      ) : null}
    </Sheet>
  );
}
