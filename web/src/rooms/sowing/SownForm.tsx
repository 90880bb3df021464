import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { halvesQuery, lotsQuery, mediaQuery, sessionQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { count, inGrams, quantity } from "../../ui/format";
import { useAsk } from "../../ui/useAsk";

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
  | "takes"
  | "joins"
> & { inputs?: Schemas["InputOut"][] };

const SEED = "seed";
const SEEDS = "seeds";
const CUTTINGS = "cuttings";
const MOST_LOTS = 8; // of which a sowing is made, beside the first
const MOTHERS = "mother plant";
/** What is over first comes first, what is never over comes last; of those the oldest first. */
const soonest = (a: { use_by: string | null; id: number }, b: { use_by: string | null; id: number }) =>
  (a.use_by ?? "9").localeCompare(b.use_by ?? "9") || a.id - b.id;
const rounded = (value: number) => String(Math.round(value * 1000) / 1000);
/** A recorded amount as the form takes it: grams where it is weighed. */
const inForm = (one: Schemas["InputOut"]) => rounded(inGrams(one.quantity, one.unit));
const capital = (word: string) => word.charAt(0).toUpperCase() + word.slice(1);

/**
 * Sown: the day, the trays, the grams, from which lot. The batch runs and the stock moves.
 * With `sownOn` it was recorded already and is put right, with a reason; what was recorded since stays.
 */
export function SownForm({ batch, sownOn, onDone }: { batch: Sowable; sownOn?: string; onDone?: () => void }) {
  const { today } = useSpan();
  const { data: lots } = useQuery(lotsQuery);
  // Two plants become one: each of the two has a lot, and some of each may be spoilt at the cut.
  const { data: halves } = useQuery({ ...halvesQuery(batch.id), enabled: Boolean(batch.joins) });
  const foot = halves?.find((one) => one.part === batch.joins);
  const { data: session } = useSuspenseQuery(sessionQuery);
  // Where a tray may be sown in part, or is planned to be, what is sown is counted itself.
  const part =
    Boolean(batch.joins) || (batch.trays !== null && (Boolean(session.organisation?.part_trays) || !batch.whole_trays));
  const many = part ? "start" : "trays";
  // What was recorded stands in the form that puts it right, lot by lot.
  const was = sownOn ? (batch.inputs ?? []).filter((one) => one.taken_on && one.lot_id) : [];
  const first = was.filter((one) => one.part !== batch.joins);
  const second = was.find((one) => batch.joins && one.part === batch.joins);
  const several = first.length > 1 || Boolean(second);
  const [start] = useState({
    on: sownOn ?? today,
    trays: String(batch.trays ?? ""),
    start: String(batch.start),
    weight: several && first[0] ? inForm(first[0]) : batch.seed_g === null ? "" : rounded(batch.seed_g),
    lot_id: String(first[0]?.lot_id ?? batch.lot_id ?? ""),
    used: several && first[0] ? inForm(first[0]) : "",
    joined_lot_id: String(second?.lot_id ?? ""),
    joined: second ? inForm(second) : "",
    more: first.slice(1).map((one) => ({ lot_id: String(one.lot_id), quantity: inForm(one) })),
    reason: "",
    medium_id: "",
    medium_litres: "",
  });
  const { data: media } = useQuery({ ...mediaQuery(), enabled: !sownOn });
  const countedOf = (lot: string) => lots?.find((one) => String(one.id) === lot)?.unit === SEEDS;
  /** Whether nothing of the lots and of what they gave is said otherwise than it was. */
  const same = (now: Pick<typeof start, "weight" | "lot_id" | "used" | "joined_lot_id" | "joined" | "more">) =>
    (["weight", "lot_id", "used", "joined_lot_id", "joined"] as const).every((name) => now[name] === start[name]) &&
    JSON.stringify(now.more) === JSON.stringify(start.more);
  const ask = useAsk({
    start,
    again: false,
    names: batch.joins
      ? {
          "lots.0.lot_id": "lot_id",
          "lots.0.quantity": "used",
          [batch.takes]: "lot_id",
          "lots.1.lot_id": "joined_lot_id",
          "lots.1.quantity": "joined",
          [batch.joins]: "joined_lot_id",
        }
      : (field) => {
          const [, n, what] = /^lots\.(\d+)\.(lot_id|quantity)$/.exec(field) ?? [];
          if (Number(n) > 0) return `more.${Number(n) - 1}.${what}`;
          return what === "lot_id" ? what : what || field === "quantity" ? (batch.by_seed ? "weight" : "used") : field;
        },
    onDone,
    save: ({
      on,
      weight,
      lot_id,
      used,
      joined_lot_id,
      joined,
      more,
      reason,
      medium_id,
      medium_litres,
      ...typed
    }: typeof start) => {
      const params = { path: { batch_id: batch.id } };
      // A bare number is grams, or seeds where the lot is counted; the server reads what was typed.
      const amount = (text: string, lot: string) =>
        /[0-9]$/.test(text.trim()) && batch.by_seed ? `${text.trim()} ${countedOf(lot) ? SEEDS : "g"}` : text.trim();
      const from = { lot_id: Number(lot_id), quantity: amount(batch.by_seed ? weight : used, lot_id) };
      const others = more.filter((one) => one.lot_id);
      const both = [
        { lot_id: Number(lot_id), quantity: used, part: batch.takes },
        { lot_id: Number(joined_lot_id), quantity: joined, part: batch.joins },
      ].filter((one) => one.lot_id);
      const lots = batch.joins
        ? both
        : lot_id
          ? [
              from,
              ...others.map((one) => ({ lot_id: Number(one.lot_id), quantity: amount(one.quantity, one.lot_id) })),
            ].map((one) => ({ ...one, part: "" }))
          : [];
      const stays =
        sownOn && (several || !batch.by_seed) && same({ weight, lot_id, used, joined_lot_id, joined, more });
      const body = { on, [many]: typed[many], lots: stays ? [] : lots, version: batch.version };
      return sownOn
        ? take(api.POST("/api/batches/{batch_id}/correct-sowing", { params, body: { ...body, reason } }))
        : take(
            api.POST("/api/batches/{batch_id}/sown", {
              params,
              body: { ...body, note: "", medium_id: medium_id ? Number(medium_id) : null, medium_litres },
            }),
          );
    },
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  const asRecorded = typed.on === start.on && typed[many] === start[many] && same(typed);
  const fits = (lots ?? []).filter(
    (one) =>
      one.crop_id === batch.crop_id &&
      (one.form === SEED) === batch.by_seed &&
      one.form !== MOTHERS &&
      (one.balance > 0 ||
        ((batch.by_seed || sownOn) && (one.id === batch.lot_id || was.some((row) => row.lot_id === one.id)))),
  );
  // Cuttings that wait are what is stuck, the first to be over before the others: where they came from is kept.
  const ready =
    batch.by_seed || sownOn || batch.joins ? [] : fits.filter((one) => one.unit === batch.start_unit).sort(soonest);
  const offered = useRef(false);
  const put = ask.form.setValue;
  useEffect(() => {
    if (!ready[0] || offered.current) return;
    offered.current = true;
    let left = batch.start;
    const parts: { lot_id: string; quantity: string }[] = [];
    for (const one of ready) {
      if (left <= 0 || parts.length > MOST_LOTS) break;
      const part = Math.min(left, one.balance);
      parts.push({ lot_id: String(one.id), quantity: String(part) });
      left -= part;
    }
    put("lot_id", parts[0]?.lot_id ?? "");
    if (parts.length < 2) return;
    put("used", parts[0]?.quantity ?? "");
    put("more", parts.slice(1));
  }, [ready, put, batch.start]);
  const choices = fits.map(
    (one) =>
      [
        String(one.id),
        `${one.code} ${(batch.by_seed || batch.joins) && one.cultivar ? one.cultivar : one.form}, ${quantity(one.balance, one.unit)}`,
      ] as const,
  );
  const of = batch.by_seed ? (countedOf(typed.lot_id) ? "Seeds" : "Grams") : "Of it";
  const feet = (lots ?? []).filter(
    (one) => one.crop_id === foot?.crop_id && one.form !== SEED && one.form !== MOTHERS && (one.balance > 0 || sownOn),
  );
  const verb = batch.joins ? "Grafted" : batch.by_seed ? "Sown" : batch.start_unit === CUTTINGS ? "Stuck" : "Begun";
  return (
    <AskForm
      ask={ask}
      className="flex flex-wrap items-end gap-3"
      big="phone"
      button={sownOn ? "Correct it" : verb}
      disabled={Boolean(sownOn) && asRecorded}
    >
      <AskField ask={ask} name="on" label={`${verb} on`} type="date" className="phone" max={today} />
      <AskField
        ask={ask}
        name={many}
        label={part ? capital(batch.start_unit) : "Trays"}
        className="phone !w-24"
        digits="whole"
      />
      {batch.by_seed ? (
        <AskField
          ask={ask}
          name="weight"
          label={countedOf(typed.lot_id) ? "Seeds" : "Grams"}
          className="phone !w-24"
          digits
        />
      ) : null}
      {batch.by_seed || batch.joins || fits.length ? (
        <AskField
          ask={ask}
          name="lot_id"
          label={batch.joins ? `${capital(batch.takes)}s from` : "From lot"}
          type="select"
          className="phone !w-52"
          options={[["", batch.by_seed ? "choose" : "none in stock"], ...choices]}
        />
      ) : null}
      {!batch.joins && fits.length > 1 && typed.lot_id ? (
        <>
          {typed.more.length && !batch.by_seed ? (
            <AskField ask={ask} name="used" label={of} className="phone !w-24" digits />
          ) : null}
          {typed.more.map((_, n) => (
            <span key={n} className="flex flex-wrap items-end gap-3">
              <AskField
                ask={ask}
                name={`more.${n}.lot_id`}
                label={`And lot ${n + 2}`}
                type="select"
                className="phone !w-52"
                options={[["", "none"], ...choices]}
              />
              <AskField
                ask={ask}
                name={`more.${n}.quantity`}
                label={`${of}, lot ${n + 2}`}
                className="phone !w-24"
                digits
              />
            </span>
          ))}
          {typed.more.length < MOST_LOTS ? (
            <button
              type="button"
              className="btn-link pb-2"
              onClick={() => put("more", [...typed.more, { lot_id: "", quantity: "" }])}
            >
              and of another lot
            </button>
          ) : null}
        </>
      ) : null}
      {batch.joins ? (
        <>
          <AskField
            ask={ask}
            name="used"
            label={`${capital(batch.takes)}s used, if more`}
            className="phone !w-36"
            digits="whole"
          />
          <AskField
            ask={ask}
            name="joined_lot_id"
            label={`${capital(batch.joins)}s from`}
            type="select"
            className="phone !w-52"
            options={[
              ["", feet.length ? "choose" : "none in stock"],
              ...feet.map(
                (one) =>
                  [
                    String(one.id),
                    `${one.code} ${one.cultivar || one.form}, ${quantity(one.balance, one.unit)}`,
                  ] as const,
              ),
            ]}
          />
          <AskField
            ask={ask}
            name="joined"
            label={`${capital(batch.joins)}s used, if more`}
            className="phone !w-36"
            digits="whole"
          />
        </>
      ) : null}
      {!sownOn && media?.length ? (
        <>
          <AskField
            ask={ask}
            name="medium_id"
            label="Filled from"
            type="select"
            className="phone !w-52"
            options={[
              ["", "not said"],
              ...media.map(
                (one) =>
                  [
                    String(one.id),
                    `${one.name} ${one.state === "passed" ? `${one.code}, ${count(one.left)} L` : `${one.code}: has not passed`}`,
                  ] as const,
              ),
            ]}
          />
          {typed.medium_id ? (
            <AskField
              ask={ask}
              name="medium_litres"
              label="Litres"
              hint="empty: as planned"
              className="phone !w-24"
              digits
            />
          ) : null}
        </>
      ) : null}
      {sownOn ? <AskField ask={ask} name="reason" label="Why" className="phone !w-52" /> : null}
    </AskForm>
  );
}
