import { type ReactNode, useState } from "react";
import { ApiError, entryId } from "../api/client";
import { DayField } from "./DayField";
import { useSave } from "./hooks";
import { Faults, Field } from "./parts";

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

/** A few fields and one button. A repeat after a lost answer goes out under the same id. */
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
  const fresh = () => Object.fromEntries(fields.map((field) => [field.name, field.start ?? ""]));
  const [values, setValues] = useState<Values>(fresh);
  const [uuid, setUuid] = useState(entryId);
  const act = useSave(
    () => save(values, uuid),
    () => {
      setValues(fresh());
      setUuid(entryId());
      onDone?.();
    },
  );
  const error = act.error instanceof ApiError ? act.error : null;
  const put = (name: string, value: string) => setValues((now) => ({ ...now, [name]: value }));
  return (
    <form
      className="grid gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        act.mutate(undefined);
      }}
    >
      <div className={`grid gap-2 ${columns === 1 ? "" : columns === 3 ? "sm:grid-cols-3" : "sm:grid-cols-2"}`}>
        {fields.map((field) =>
          field.type === "check" ? (
            <label key={field.name} className={`flex items-center gap-2 ${field.wide ? "col-span-full" : ""}`}>
              <input
                type="checkbox"
                checked={values[field.name] === "yes"}
                onChange={(event) => put(field.name, event.target.checked ? "yes" : "")}
              />
              <span>{field.label}</span>
              {error?.of(field.name) ? <small className="fault">{error.of(field.name)}</small> : null}
            </label>
          ) : (
            <div key={field.name} className={field.wide ? "col-span-full" : ""}>
              <Field label={field.label} fault={error?.of(field.name)} hint={field.hint}>
                <Entry field={field} value={values[field.name] ?? ""} put={(value) => put(field.name, value)} />
              </Field>
            </div>
          ),
        )}
      </div>
      {children?.(values)}
      <Faults error={act.error} fields={fields.map((field) => field.name)} />
      <button type="submit" className={`btn w-fit ${decide ? "btn-decide" : ""}`} disabled={act.isPending}>
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
