import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { lotsQuery, placesQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { count, few } from "../../ui/format";
import { Faults } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

const GRADES = [1, 2, 3, 4, 5];
const NONE = { kg: "", tuber_g: "", a_tray: "" };
const START = {
  lot_id: "",
  place_id: "",
  on: "",
  turn_every: "4",
  trays_a_stack: "40",
  stack_m2: "1.2",
  gangway_percent: "25",
  an_hour: "15",
  loads: GRADES.map(() => NONE),
};
type Typed = typeof START;

const filled = (typed: Typed) =>
  GRADES.map((grade, row) => ({ grade, row, ...(typed.loads[row] ?? NONE) })).filter(
    (one) => one.kg || one.tuber_g || one.a_tray,
  );
const loadsOf = (typed: Typed): Schemas["LoadsIn"] => ({
  loads: filled(typed).map(({ row: _, ...one }) => one),
  trays_a_stack: typed.trays_a_stack,
  stack_m2: typed.stack_m2,
  gangway_percent: typed.gangway_percent,
  an_hour: typed.an_hour,
});

/** A load of a lot by size grade: what it comes to while one types, and then it stands. */
export function StandTubers({ onDone }: { onDone: () => void }) {
  const { today } = useSpan();
  const { data: lots } = useQuery(lotsQuery);
  const { data: places } = useQuery(placesQuery);
  const tubers = lots?.filter((one) => one.form === "tuber" && one.balance > 0) ?? [];
  const ask = useAsk({
    start: { ...START, on: today },
    // The server knows the rows that were filled; here every grade has its own.
    names: (field: string, typed: Typed) =>
      field
        .replace(/^loads\.(\d+)/, (_, n) => `loads.${filled(typed)[Number(n)]?.row ?? n}`)
        .replace("gangway", "gangway_percent"),
    save: (typed: Typed, uuid) =>
      take(
        api.POST("/api/tubers", {
          body: {
            ...loadsOf(typed),
            lot_id: Number(typed.lot_id),
            place_id: typed.place_id ? Number(typed.place_id) : null,
            on: typed.on || null,
            turn_every: Number(typed.turn_every) || 0,
            client_uuid: uuid,
          },
        }),
      ),
    onDone,
  });
  const typed = useDeferredValue(useWatch({ control: ask.form.control })) as Typed;
  const whole = filled(typed).filter((one) => one.kg && one.tuber_g && one.a_tray);
  const body = { ...loadsOf(typed), loads: whole.map(({ row: _, ...one }) => one) };
  const { data: draft, error } = useQuery({
    queryKey: ["tubers", "draft", body],
    queryFn: () => take(api.POST("/api/tubers/draft", { body })),
    enabled: whole.length > 0,
    placeholderData: (old) => (whole.length ? old : undefined),
  });
  const { show } = useWorking();
  if (lots && !tubers.length)
    return <p>No lot of tubers is in stock. Receive them in Lots, counted, then stand them here.</p>;
  return (
    <AskForm ask={ask} button="They stand" disabled={!whole.length}>
      <div className="flex flex-wrap items-start gap-3">
        <AskField
          ask={ask}
          name="lot_id"
          label="Lot"
          type="select"
          needed
          options={[
            ["", ""],
            ...tubers.map(
              (one) => [String(one.id), `${one.code}, ${one.crop} ${one.cultivar}, ${count(one.balance)}`] as const,
            ),
          ]}
        />
        <AskField
          ask={ask}
          name="place_id"
          label="Where"
          type="select"
          options={[["", ""], ...(places?.places ?? []).map((one) => [String(one.id), one.name] as const)]}
        />
        <AskField ask={ask} name="on" label="Stood on" type="date" max={today} />
        <AskField
          ask={ask}
          name="turn_every"
          label="Turned every"
          hint="days; 0: never"
          digits="whole"
          className="!w-24"
        />
      </div>
      <table className="tbl justify-self-start max-sm:block sm:!w-auto">
        <thead className="max-sm:hidden">
          <tr>
            <th scope="col">Grade</th>
            <th scope="col">Kilos</th>
            <th scope="col">One weighs</th>
            <th scope="col">In a tray</th>
            <th scope="col">Comes to</th>
          </tr>
        </thead>
        <tbody className="max-sm:block">
          {GRADES.map((grade, row) => {
            const found = draft?.grades.find((one) => one.grade === grade);
            return (
              <tr key={grade} className="max-sm:grid max-sm:grid-cols-3">
                <th scope="row" className="max-sm:hidden">
                  {grade}
                </th>
                {(["kg", "tuber_g", "a_tray"] as const).map((name, n) => (
                  <td key={name}>
                    <AskField
                      ask={ask}
                      name={`loads.${row}.${name}`}
                      label={`Grade ${grade}, ${["kilos", "one weighs", "in a tray"][n]}`}
                      quiet
                      className="w-full sm:!w-24"
                    />
                  </td>
                ))}
                <td className="!align-middle max-sm:col-span-3">
                  {found ? (
                    <button
                      type="button"
                      className="btn-link text-left"
                      onClick={() =>
                        show({ title: `Grade ${grade}`, value: count(found.trays), steps: found.working }, true)
                      }
                    >
                      {few(found.tubers, "tuber")}, {few(found.trays, "tray")}, {few(found.stacks, "stack")}
                    </button>
                  ) : null}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <div className="flex flex-wrap items-start gap-3">
        <AskField ask={ask} name="trays_a_stack" label="Trays a stack" digits="whole" className="!w-24" />
        <AskField ask={ask} name="stack_m2" label="Ground of a stack" hint="m²" digits className="!w-24" />
        <AskField ask={ask} name="gangway_percent" label="Gangways" hint="% of the floor" digits className="!w-24" />
        <AskField ask={ask} name="an_hour" label="Trays stood an hour" hint="by one person" digits className="!w-24" />
      </div>
      {error ? <Faults error={error} /> : null}
      {draft && whole.length ? (
        <p className="text-[1.15rem]">
          {few(draft.trays, "tray")} in {few(draft.stacks, "stack")}: {draft.floor_m2.toFixed(1)} m² of floor,{" "}
          {few(Math.round(draft.hours), "hour")} to stand them.
        </p>
      ) : null}
      <p className="note">
        Long sprouts off, sick and small ones out, eyes up. Lift trays with the knees; stacks no higher than they stand
        by themselves.
      </p>
    </AskForm>
  );
}
