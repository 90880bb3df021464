import type { ReactNode } from "react";
import { useWatch } from "react-hook-form";
import { AskField, AskForm, type FormField as OneField } from "./AskForm";
import { useAsk } from "./useAsk";

export interface FormField extends OneField {
  name: string;
  start?: string;
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
  const ask = useAsk<Values, unknown>({
    start: Object.fromEntries(fields.map((field) => [field.name, field.start ?? ""])),
    save,
    onDone,
  });
  const values = useWatch({ control: ask.form.control }) as Values;
  return (
    <AskForm ask={ask} button={button} className="grid gap-2" big={decide ? "btn-decide" : ""}>
      <div className={`grid gap-2 ${columns === 1 ? "" : columns === 3 ? "sm:grid-cols-3" : "sm:grid-cols-2"}`}>
        {fields.map(({ name, start, wide, ...field }) => (
          <div key={name} className={wide ? "col-span-full" : ""}>
            <AskField ask={ask} name={name} {...field} {...withEmpty(field, start)} />
          </div>
        ))}
      </div>
      {children?.(values)}
    </AskForm>
  );
}

/** Where nothing is chosen to begin with, nothing can be chosen. */
function withEmpty(field: OneField, start: string | undefined) {
  return field.options && start === undefined ? { options: [["", ""] as const, ...field.options] } : {};
}
