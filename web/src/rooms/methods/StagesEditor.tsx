import { type Control, type FieldValues, useFieldArray, useFormState, useWatch } from "react-hook-form";
import type { Schemas } from "../../api/client";
import { shortDay } from "../../ui/dates";
import { count, quantity } from "../../ui/format";
import { faultAt } from "../../ui/useAsk";
import { type Asked, AskedFields, AskedTable, blankOf } from "./AskedFields";

type Tried = Schemas["TriedOut"];

/** The stages of a method in order of work; beside each stands what it comes to for the quantity that is tried. */
export function StagesEditor({
  one,
  control,
  tried,
}: {
  one: Asked;
  control: Control<FieldValues>;
  tried: Tried | undefined;
}) {
  const { fields, insert, remove, move } = useFieldArray({ control, name: one.name });
  const { errors } = useFormState({ control, name: one.name });
  const names = useWatch({ control, name: one.name }) as { name?: string; key?: string }[];
  const plain = one.fields.filter((field) => field.sort !== "table");
  const tables = one.fields.filter((field) => field.sort === "table");
  const fault = faultAt(errors, one.name);
  return (
    <section aria-label="Stages" className="mt-6">
      <h2>Stages, in order of work</h2>
      {fault ? (
        <p className="fault" role="alert">
          {fault}
        </p>
      ) : null}
      {fields.length ? null : (
        <button type="button" className="btn mt-2" onClick={() => insert(0, blankOf(one.fields))}>
          Put the first stage in
        </button>
      )}
      <ol>
        {fields.map((row, index) => {
          const own = names?.[index];
          const rungs = tried?.rungs.filter((rung) => own?.key && rung.key.replace(/-\d+$/, "") === own.key) ?? [];
          const rung = tried?.rungs.find((rung) => rung.key === own?.key) ?? rungs[0] ?? atOrder(tried, index, names);
          return (
            <li key={row.id} className="mt-3 border-rule border-t pt-2">
              <div className="flex flex-wrap items-baseline gap-x-3">
                <h3 className="font-semibold">
                  {index + 1}. {own?.name || "a stage"}
                </h3>
                <span className="note flex-1">{rung ? words(rung) : ""}</span>
                {index ? (
                  <button type="button" className="btn-link" onClick={() => move(index, index - 1)}>
                    earlier
                  </button>
                ) : null}
                {index < fields.length - 1 ? (
                  <button type="button" className="btn-link" onClick={() => move(index, index + 1)}>
                    later
                  </button>
                ) : null}
                <button type="button" className="btn-link" onClick={() => remove(index)}>
                  take out
                </button>
              </div>
              <AskedFields fields={plain} control={control} at={`${one.name}.${index}.`} columns="sm:grid-cols-4" />
              {tables.map((table) => (
                <Work key={table.name} one={table} control={control} at={`${one.name}.${index}.`} />
              ))}
              <button type="button" className="btn-link mt-1" onClick={() => insert(index + 1, blankOf(one.fields))}>
                put a stage in after this one
              </button>
            </li>
          );
        })}
      </ol>
    </section>
  );
}

function Work({ one, control, at }: { one: Asked; control: Control<FieldValues>; at: string }) {
  const rows = useWatch({ control, name: at + one.name }) as { words?: string }[] | undefined;
  const said = (rows ?? []).map((row) => row.words).filter(Boolean);
  return (
    <details>
      <summary className="note w-fit cursor-pointer">
        <span className="underline">{one.words.toLowerCase()}</span>: {said.length ? said.join("; ") : "none"}
      </summary>
      <AskedTable one={one} control={control} at={at} />
    </details>
  );
}

/** A stage that has no key yet stands where it was put. */
function atOrder(tried: Tried | undefined, index: number, stages: { key?: string }[] | undefined) {
  return stages?.[index]?.key || tried?.rungs.length !== stages?.length ? undefined : tried?.rungs[index];
}

function words(rung: Tried["rungs"][number]): string {
  const days = rung.end > rung.start ? `${shortDay(rung.start)} to ${shortDay(rung.end)}` : shortDay(rung.start);
  const takes = rung.amount ? quantity(rung.amount, rung.amount_unit) : "";
  const where = rung.place
    ? `${rung.place}${takes ? `, ${takes}` : ""}`
    : rung.place_kind && takes
      ? `no ${rung.place_kind} to stand in`
      : "";
  return [`${count(rung.into)} in, ${count(rung.out)} ${rung.unit} out`, days, where].filter(Boolean).join("; ");
}
