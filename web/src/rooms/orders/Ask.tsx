import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { shortDay } from "../../ui/dates";
import { chance, count, grams } from "../../ui/format";
import { useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";
import { formsOf } from "./forms";
import type { Typed } from "./NewOrder";

/** Can we take it? Earliest date, what limits it, what cures it; nothing is saved. */
export function Ask({
  open,
  onClose,
  onTake,
}: {
  open: boolean;
  onClose: () => void;
  onTake?: ((asked: Partial<Typed>) => void) | undefined;
}) {
  const { data: library } = useQuery({ ...libraryQuery, enabled: open });
  const [crop, setCrop] = useState("");
  const [form, setForm] = useState("");
  const [quantity, setQuantity] = useState("");
  const [due, setDue] = useState("");
  const { show } = useWorking();
  const forms = library ? formsOf(library, Number(crop)) : [];
  const ask = useSave(() =>
    take(
      api.POST("/api/orders/can-we-take-it", {
        body: { crop_id: Number(crop), form: form || (forms[0] ?? ""), quantity, due },
      }),
    ),
  );
  const error = ask.error instanceof ApiError ? ask.error : null;
  const answer = ask.data;
  return (
    <Sheet open={open} onClose={onClose} title="Can we take it?">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          ask.mutate(undefined);
        }}
      >
        <Field label="Crop" fault={error?.of("crop_id")}>
          <select className="input" value={crop} onChange={(e) => [setCrop(e.target.value), setForm("")]} required>
            <option value="" />
            {library?.crops
              .filter((c) => formsOf(library, c.id).length)
              .map((c) => (
                <option key={c.id} value={c.id}>
                  {c.name}
                </option>
              ))}
          </select>
        </Field>
        <Field label="Form" fault={error?.of("form")}>
          <select className="input" value={form || forms[0] || ""} onChange={(e) => setForm(e.target.value)}>
            {forms.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </Field>
        <Field label="How many" fault={error?.of("quantity")} hint="12000, 12,000 or 12k">
          <input className="input" value={quantity} onChange={(e) => setQuantity(e.target.value)} required />
        </Field>
        <Field label="When" fault={error?.of("due")} hint="A day or a week, such as “week 36”">
          <input className="input" value={due} onChange={(e) => setDue(e.target.value)} required />
        </Field>
        <Faults error={ask.error} fields={["crop_id", "form", "quantity", "due"]} />
        <button type="submit" className="btn w-fit" disabled={ask.isPending}>
          Work it out
        </button>
      </form>
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
          {answer.remedies.length ? <h2>What cures it</h2> : null}
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
                  crop: library?.crops.find((one) => one.id === Number(crop))?.name ?? "",
                  form: form || (forms[0] ?? ""),
                  quantity,
                  due: answer.can || !answer.earliest ? due : answer.earliest,
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
