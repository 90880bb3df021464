import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Control, Controller, type FieldValues, useFieldArray, useFormState, useWatch } from "react-hook-form";
import type { Schemas } from "../../api/client";
import { rowsQuery } from "../../api/queries";
import { Field } from "../../ui/parts";
import { faultAt } from "../../ui/useAsk";

export type Asked = Schemas["AskedOut"];
type Form = Control<FieldValues>;

/** What an empty row of a table has in its fields. */
export const blankOf = (fields: Asked[]): FieldValues => Object.fromEntries(fields.map((one) => [one.name, one.start]));

const LONG = new Set<Asked["sort"]>(["lines", "parts"]);
const isTable = (one: Asked) => one.sort === "table";

/** Fields as the server describes them; what is seldom wanted stays folded until something stands in it. */
export function AskedFields({
  fields,
  control,
  at = "",
  ships,
  columns = "sm:grid-cols-3",
}: {
  fields: Asked[];
  control: Form;
  at?: string;
  /** Shipped values that others stand over, as typed. */
  ships?: Record<string, unknown> | undefined;
  columns?: string;
}) {
  const plain = fields.filter((one) => !isTable(one));
  const seldom = plain.filter((one) => one.more);
  const values = useWatch({ control, name: seldom.map((one) => at + one.name) });
  const { errors } = useFormState({ control });
  const wrong = seldom.some((one) => faultAt(errors, at + one.name));
  const within = seldom.map((one, n) => folded(one, values[n])).filter(Boolean);
  const [open, setOpen] = useState(false);
  const grid = (some: Asked[]) => (
    <div className={`grid items-start gap-x-3 gap-y-2 ${columns}`}>
      {some.map((one) => (
        <One key={one.name} one={one} control={control} at={at} ships={ships?.[one.name]} />
      ))}
    </div>
  );
  return (
    <>
      {grid(plain.filter((one) => !one.more))}
      {seldom.length ? (
        <details className="mt-1" open={open || wrong} onToggle={(event) => setOpen(event.currentTarget.open)}>
          <summary className="note w-fit cursor-pointer">
            <span className="underline">more of it</span>
            {within.length ? `: ${within.join("; ")}` : ""}
          </summary>
          <div className="pt-2">{grid(seldom)}</div>
        </details>
      ) : null}
    </>
  );
}

/** What stands in a folded field, in a few words. */
function folded(one: Asked, value: unknown): string {
  const text = Array.isArray(value) ? value.join(", ") : String(value ?? "");
  if (!text || text === String(one.start ?? "") || one.sort === "lines") return "";
  const said =
    one.sort === "several"
      ? (value as string[]).map((key) => one.choices.find((choice) => choice.value === key)?.words ?? key).join(", ")
      : (one.choices.find((choice) => choice.value === text)?.words ?? text);
  return `${one.words.toLowerCase()} ${said}${one.unit && !said.includes("%") ? ` ${one.unit}` : ""}`;
}

function One({ one, control, at, ships }: { one: Asked; control: Form; at: string; ships: unknown }) {
  const name = at + one.name;
  const { errors } = useFormState({ control, name });
  const fault = faultAt(errors, name);
  const unit = one.unit && one.sort !== "choice" ? `, ${one.unit}` : "";
  const hint = [one.hint, ships !== undefined ? `ships as ${ships === "" ? "empty" : String(ships)}` : ""]
    .filter(Boolean)
    .join("; ");
  return (
    <Controller
      control={control}
      name={name}
      render={({ field: { value, onChange, ref } }) =>
        one.sort === "check" ? (
          <label className="flex items-center gap-2 self-center pt-3">
            <input ref={ref} type="checkbox" checked={value === true} onChange={(e) => onChange(e.target.checked)} />
            <span>{one.words}</span>
          </label>
        ) : one.sort === "several" ? (
          <fieldset className="col-span-full flex flex-wrap gap-x-4 gap-y-1">
            <legend className="font-semibold">{one.words}</legend>
            {one.choices.map(({ value: key, words }) => (
              <label key={key} className="flex items-center gap-1">
                <input
                  type="checkbox"
                  checked={(value as string[]).includes(key)}
                  onChange={(e) =>
                    onChange(e.target.checked ? [...value, key] : (value as string[]).filter((other) => other !== key))
                  }
                />
                <span>{words}</span>
              </label>
            ))}
          </fieldset>
        ) : (
          <div className={LONG.has(one.sort) ? "col-span-full" : ""}>
            <Field label={`${one.words}${unit}`} fault={fault} hint={hint}>
              <Entry one={one} value={String(value ?? "")} put={onChange} field={ref} />
            </Field>
          </div>
        )
      }
    />
  );
}

function Entry({
  one,
  value,
  put,
  field,
}: {
  one: Asked;
  value: string;
  put: (value: string) => void;
  field: (element: HTMLElement | null) => void;
}) {
  if (one.sort === "choice")
    return (
      <select ref={field} className="input" value={value} onChange={(e) => put(e.target.value)}>
        {one.needed && one.start === "" ? <option value="" /> : null}
        {one.choices.map(({ value: key, words }) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    );
  if (one.sort === "row") return <RowEntry of={one.of} needed={one.needed} value={value} put={put} field={field} />;
  if (one.sort === "lines")
    return (
      <textarea
        ref={field}
        className="input min-h-14 py-1"
        rows={Math.max(2, value.split("\n").length)}
        value={value}
        onChange={(e) => put(e.target.value)}
      />
    );
  return <input ref={field} className="input" type="text" value={value} onChange={(e) => put(e.target.value)} />;
}

/** Another row of the library, by its name. */
function RowEntry({
  of,
  needed,
  value,
  put,
  field,
}: {
  of: string;
  needed: boolean;
  value: string;
  put: (value: string) => void;
  field: (element: HTMLElement | null) => void;
}) {
  const { data } = useQuery(rowsQuery);
  const rows = (data ?? []).filter((row) => row.kind === of && (!row.retired || row.slug === value));
  return (
    <select ref={field} className="input" value={value} onChange={(e) => put(e.target.value)}>
      <option value="">{needed ? "" : "none"}</option>
      {rows.map((row) => (
        <option key={row.slug} value={row.slug}>
          {[row.name, row.said, row.retired ? "retired" : ""].filter(Boolean).join(", ")}
        </option>
      ))}
    </select>
  );
}

/** Rows of a table: limits of a standard, work of a stage. */
export function AskedTable({ one, control, at = "" }: { one: Asked; control: Form; at?: string }) {
  const name = at + one.name;
  const { fields, append, remove } = useFieldArray({ control, name });
  const { errors } = useFormState({ control, name });
  const fault = faultAt(errors, name);
  return (
    <section aria-label={one.words} className="mt-2">
      {fields.map((row, index) => (
        <div key={row.id} className="border-hair border-t py-2">
          <AskedFields fields={one.fields} control={control} at={`${name}.${index}.`} columns="sm:grid-cols-4" />
          <button type="button" className="btn-link mt-1" onClick={() => remove(index)}>
            leave this out
          </button>
        </div>
      ))}
      {fault ? (
        <p className="fault" role="alert">
          {fault}
        </p>
      ) : null}
      <button type="button" className="btn-link mt-1" onClick={() => append(blankOf(one.fields))}>
        add {one.words.toLowerCase()}
      </button>
    </section>
  );
}
