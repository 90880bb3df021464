import type { ReactNode } from "react";
import { Controller, useWatch } from "react-hook-form";
import { DayField } from "./DayField";
import { Faults, Field } from "./parts";
import { faultAt, useAsk } from "./useAsk";

export interface FormField {
  name: string;
  label: string;
  type?: "text" | "date" | "select" | "check" | "area";
  start?: string;
  hint?: string;
  options?: (readonly [string, string])[];
  needed?: boolean;
  wide?: boolean;
}

export type Values = Record<string, string>;

/** A few fields and one button. */
export function QuickForm({
  fields,
  button,
  save,
  onDone,
  columns = 2,
  decide = false,
  children,
}: {
  fields: FormField[];
  button: string;
  save: (values: Values, uuid: string) => Promise<unknown>;
  onDone?: () => void;
  columns?: number;
  decide?: boolean;
  children?: (values: Values) => ReactNode;
}) {
  const { form, submit, pending, error, told } = useAsk<Values, unknown>({
    start: Object.fromEntries(fields.map((field) => [field.name, field.start ?? ""])),
    save,
    onDone,
  });
  const values = useWatch({ control: form.control }) as Values;
  const { errors } = form.formState;
  return (
    <form
      className="grid gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      <div className={`grid gap-2 ${columns === 1 ? "" : columns === 3 ? "sm:grid-cols-3" : "sm:grid-cols-2"}`}>
        {fields.map((field) => (
          <Controller
            key={field.name}
            control={form.control}
            name={field.name}
            render={({ field: { value, onChange } }) =>
              field.type === "check" ? (
                <label className={`flex items-center gap-2 ${field.wide ? "col-span-full" : ""}`}>
                  <input
                    type="checkbox"
                    checked={value === "yes"}
                    onChange={(event) => onChange(event.target.checked ? "yes" : "")}
                  />
                  <span>{field.label}</span>
                  {faultAt(errors, field.name) ? <small className="fault">{faultAt(errors, field.name)}</small> : null}
                </label>
              ) : (
                <div className={field.wide ? "col-span-full" : ""}>
                  <Field label={field.label} fault={faultAt(errors, field.name)} hint={field.hint}>
                    <Entry field={field} value={value ?? ""} put={onChange} />
                  </Field>
                </div>
              )
            }
          />
        ))}
      </div>
      {children?.(values)}
      <Faults error={error} fields={told} />
      <button type="submit" className={`btn w-fit ${decide ? "btn-decide" : ""}`} disabled={pending}>
        {button}
      </button>
    </form>
  );
}

function Entry({ field, value, put }: { field: FormField; value: string; put: (value: string) => void }) {
  if (field.type === "select")
    return (
      <select
        className="input"
        value={value}
        onChange={(event) => put(event.target.value)}
        required={field.needed ?? false}
      >
        {field.start === undefined ? <option value="" /> : null}
        {field.options?.map(([key, words]) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    );
  if (field.type === "area")
    return (
      <textarea
        className="input min-h-28 py-1 font-mono"
        value={value}
        onChange={(event) => put(event.target.value)}
        required={field.needed ?? false}
      />
    );
  if (field.type === "date") return <DayField value={value} onChange={put} required={field.needed ?? false} />;
  return (
    <input
      className="input"
      type="text"
      value={value}
      onChange={(event) => put(event.target.value)}
      required={field.needed ?? false}
    />
  );
}
