import { useState } from "react";
import { type DefaultValues, type FieldPath, type FieldValues, type UseFormReturn, useForm } from "react-hook-form";
import { ApiError, entryId } from "../api/client";
import { useSave } from "./hooks";

interface Asking<T extends FieldValues, Out> {
  start: DefaultValues<T>;
  /** Sends what was typed, as typed; a repeat after a lost answer goes out under the same id. */
  save: (values: T, uuid: string) => Promise<Out>;
  onDone?: ((out: Out) => void) | undefined;
  /** Whether the form is emptied when it was saved. */
  again?: boolean;
}

interface Ask<T extends FieldValues> {
  form: UseFormReturn<T>;
  submit: () => void;
  pending: boolean;
  /** The last refusal, and the fields at which parts of it are told. */
  error: unknown;
  told: string[];
}

/** The one form: typed text out, the server's faults back at the fields they name. */
export function useAsk<T extends FieldValues, Out>({ start, save, onDone, again = true }: Asking<T, Out>): Ask<T> {
  const form = useForm<T>({ defaultValues: start, shouldFocusError: true });
  const [uuid, setUuid] = useState(entryId);
  const [told, setTold] = useState<string[]>([]);
  const act = useSave(
    (values: T) => save(values, uuid),
    (out) => {
      setUuid(entryId());
      setTold([]);
      if (again) form.reset(start);
      onDone?.(out);
    },
  );
  const submit = form.handleSubmit((values) =>
    act.mutate(values, {
      onError: (error) => {
        if (!(error instanceof ApiError)) return;
        const named = error.errors.filter((fault) => fault.field && has(values, fault.field));
        setTold(named.map((fault) => fault.field));
        named.forEach((fault, n) => {
          form.setError(fault.field as FieldPath<T>, { message: fault.message }, { shouldFocus: n === 0 });
        });
      },
    }),
  );
  return { form, submit: () => void submit(), pending: act.isPending, error: act.error, told };
}

/** Whether a form has a field of this path: “stages.2.keeps”. */
function has(values: unknown, path: string): boolean {
  let here: unknown = values;
  for (const part of path.split(".")) {
    if (typeof here !== "object" || here === null || !(part in here)) return false;
    here = (here as Record<string, unknown>)[part];
  }
  return true;
}

/** The sentence at a field of a form, if there is one. */
export function faultAt(errors: unknown, path: string): string | undefined {
  let here: unknown = errors;
  for (const part of path.split(".")) {
    if (typeof here !== "object" || here === null) return undefined;
    here = (here as Record<string, unknown>)[part];
  }
  const message = (here as { message?: unknown } | undefined)?.message;
  return typeof message === "string" ? message : undefined;
}
