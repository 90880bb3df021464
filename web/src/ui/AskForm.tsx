import { type ReactNode, useEffect, useRef } from "react";
import { Controller, type FieldPath, type FieldPathValue, type FieldValues } from "react-hook-form";
import { DayField } from "./DayField";
import { Faults, Field } from "./parts";
import { type Ask, faultAt } from "./useAsk";

export interface FormField {
  label: string;
  type?: "text" | "date" | "select" | "check" | "area" | "password";
  hint?: string | undefined;
  options?: (readonly [value: string, words: string])[];
  needed?: boolean;
  /** In a table: beyond a phone its label is for readers alone. */
  quiet?: boolean;
  /** Classes of the control itself: big ones for wet hands, narrow ones in a row. */
  className?: string;
  /** The latest day that can be. */
  max?: string;
  /** Digits on a phone's keyboard, and no fraction where it is counted. */
  digits?: boolean | "whole";
  list?: string;
  maxLength?: number;
}

interface FormProps<T extends FieldValues> {
  ask: Ask<T>;
  button: ReactNode;
  /** Classes of the form and of its button. */
  className?: string;
  big?: string;
  disabled?: boolean;
  children: ReactNode;
}

/** A form around its fields, with what was refused and belongs to none of them, and its one button. */
export function AskForm<T extends FieldValues>({ ask, button, className, big = "", disabled, children }: FormProps<T>) {
  return (
    <form
      className={className ?? "grid gap-3"}
      onSubmit={(event) => {
        event.preventDefault();
        ask.submit();
      }}
    >
      {children}
      <Faults error={ask.error} fields={ask.told} />
      <button type="submit" className={`btn w-fit ${big}`} disabled={ask.pending || disabled}>
        {button}
      </button>
    </form>
  );
}

type FieldProps<T extends FieldValues> = FormField & { ask: Pick<Ask<T>, "form" | "show">; name: FieldPath<T> };

/** One field: typed text, and what the server says of it. */
export function AskField<T extends FieldValues>({ ask, name, ...field }: FieldProps<T>) {
  const fault = faultAt(ask.form.formState.errors, name);
  const show = useRef(ask.show);
  useEffect(() => show.current(name), [name]);
  return (
    <Controller
      control={ask.form.control}
      name={name}
      render={({ field: { value, onChange } }) => {
        const put = (next: string) => onChange(next as FieldPathValue<T, typeof name>);
        if (field.type !== "check")
          return (
            <Field label={field.label} fault={fault} hint={field.hint} quiet={field.quiet}>
              <Entry field={field} value={value ?? ""} put={put} />
            </Field>
          );
        return (
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={value === "yes"}
              onChange={(event) => put(event.target.checked ? "yes" : "")}
            />
            <span>
              {field.label} {field.hint ? <span className="note">{field.hint}</span> : null}
            </span>
            {fault ? <small className="fault">{fault}</small> : null}
          </label>
        );
      }}
    />
  );
}

function Entry({ field, value, put }: { field: FormField; value: string; put: (value: string) => void }) {
  const looks = `input ${field.className ?? ""}`;
  const required = field.needed ?? false;
  if (field.type === "select")
    return (
      <select className={looks} value={value} onChange={(event) => put(event.target.value)} required={required}>
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
        className={`${looks} min-h-28 py-1 font-mono`}
        value={value}
        onChange={(event) => put(event.target.value)}
        required={required}
      />
    );
  if (field.type === "date")
    return (
      <DayField
        className={field.className}
        value={value}
        onChange={put}
        required={required}
        {...(field.max ? { max: field.max } : {})}
      />
    );
  return (
    <input
      className={looks}
      type={field.type === "password" ? "password" : "text"}
      autoComplete={field.type === "password" ? "new-password" : undefined}
      inputMode={field.digits === "whole" ? "numeric" : field.digits ? "decimal" : undefined}
      list={field.list}
      maxLength={field.maxLength}
      value={value}
      onChange={(event) => put(event.target.value)}
      required={required}
    />
  );
}
