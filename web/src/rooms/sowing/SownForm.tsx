import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { lotsQuery, sessionQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { DayField } from "../../ui/DayField";
import { quantity } from "../../ui/format";
import { useSave } from "../../ui/hooks";
import { Faults, Field } from "../../ui/parts";

type Sowable = Pick<
  Schemas["BatchOut"],
  | "id"
  | "code"
  | "version"
  | "trays"
  | "whole_trays"
  | "start"
  | "seed_g"
  | "lot_id"
  | "by_seed"
  | "crop_id"
  | "start_unit"
>;

const SEEDS = "seeds";
const CUTTINGS = "cuttings";
const capital = (word: string) => word.charAt(0).toUpperCase() + word.slice(1);

/**
 * Sown: the day, the trays, the grams, from which lot. The batch runs and the stock moves.
 * With `sownOn` it was recorded already and is put right, with a reason; what was recorded since stays.
 */
export function SownForm({ batch, sownOn, onDone }: { batch: Sowable; sownOn?: string; onDone?: () => void }) {
  const { today } = useSpan();
  const { data: lots } = useQuery(lotsQuery);
  const { data: session } = useSuspenseQuery(sessionQuery);
  // Where a tray may be sown in part, or is planned to be, what is sown is counted itself.
  const part = batch.trays !== null && (Boolean(session.organisation?.part_trays) || !batch.whole_trays);
  const [on, setOn] = useState(sownOn ?? today);
  const [reason, setReason] = useState("");
  const [trays, setTrays] = useState(batch.trays === null ? "" : String(part ? batch.start : batch.trays));
  const [weight, setWeight] = useState(batch.seed_g === null ? "" : String(Math.round(batch.seed_g * 1000) / 1000));
  const [lot, setLot] = useState(batch.lot_id === null ? "" : String(batch.lot_id));
  // A bare number is grams, or seeds where the lot is counted; the server reads what was typed.
  const counted = lots?.find((one) => String(one.id) === lot)?.unit === SEEDS;
  const typed = /[0-9]$/.test(weight.trim()) ? `${weight.trim()} ${counted ? SEEDS : "g"}` : weight.trim();
  const typedNow = [on, trays, weight, lot].join("|");
  const [asRecorded] = useState(typedNow);
  const save = useSave(() => {
    const params = { path: { batch_id: batch.id } };
    const body = {
      on,
      ...(part ? { start: trays ? Number(trays) : null } : { trays: trays ? Number(trays) : null }),
      lots: lot ? [{ lot_id: Number(lot), quantity: batch.by_seed ? typed : "" }] : [],
      version: batch.version,
    };
    return sownOn
      ? take(api.POST("/api/batches/{batch_id}/correct-sowing", { params, body: { ...body, reason } }))
      : take(api.POST("/api/batches/{batch_id}/sown", { params, body: { ...body, note: "" } }));
  }, onDone);
  const stock = (lots ?? []).filter(
    (one) =>
      one.crop_id === batch.crop_id && one.form !== "seed" && (one.balance > 0 || (sownOn && one.id === batch.lot_id)),
  );
  const error = save.error instanceof ApiError ? save.error : null;
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      <Field label="Sown on" fault={error?.of("on")}>
        <DayField className="phone" max={today} value={on} onChange={setOn} />
      </Field>
      <Field label={part ? capital(batch.start_unit) : "Trays"} fault={error?.of(part ? "start" : "trays")}>
        <input
          className="input phone !w-24"
          inputMode="numeric"
          value={trays}
          onChange={(e) => setTrays(e.target.value)}
        />
      </Field>
      {batch.by_seed ? (
        <>
          <Field label={counted ? "Seeds" : "Grams"} fault={error?.of("lots.0.quantity") ?? error?.of("quantity")}>
            <input
              className="input phone !w-24"
              inputMode="decimal"
              value={weight}
              onChange={(e) => setWeight(e.target.value)}
            />
          </Field>
          <Field label="From lot" fault={error?.of("lot_id")}>
            <select className="input phone !w-52" value={lot} onChange={(e) => setLot(e.target.value)}>
              <option value="">choose</option>
              {(lots ?? [])
                .filter(
                  (one) =>
                    one.crop_id === batch.crop_id &&
                    one.form === "seed" &&
                    (one.balance > 0 || one.id === batch.lot_id),
                )
                .map((one) => (
                  <option key={one.id} value={one.id}>
                    {one.code} {one.cultivar}, {quantity(one.balance, one.unit)}
                  </option>
                ))}
            </select>
          </Field>
        </>
      ) : stock.length ? (
        <Field label="From lot" fault={error?.of("lot_id")}>
          <select className="input phone !w-52" value={lot} onChange={(e) => setLot(e.target.value)}>
            <option value="">none in stock</option>
            {stock.map((one) => (
              <option key={one.id} value={one.id}>
                {one.code} {one.form}, {quantity(one.balance, one.unit)}
              </option>
            ))}
          </select>
        </Field>
      ) : null}
      {sownOn ? (
        <Field label="Why" fault={error?.of("reason")}>
          <input className="input phone !w-52" value={reason} onChange={(e) => setReason(e.target.value)} />
        </Field>
      ) : null}
      <button type="submit" className="btn phone" disabled={save.isPending || (!!sownOn && typedNow === asRecorded)}>
        {sownOn ? "Correct it" : batch.by_seed ? "Sown" : batch.start_unit === CUTTINGS ? "Stuck" : "Begun"}
      </button>
      <Faults error={save.error} fields={["on", "trays", "start", "reason", "quantity", "lots.0.quantity", "lot_id"]} />
    </form>
  );
}
