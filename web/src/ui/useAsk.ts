import { useRef, useState } from "react";
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
  /** What the server calls a field that is called otherwise here. */
  names?: Record<string, string> | ((field: string, typed: T) => string);
}

export interface Ask<T extends FieldValues> {
  form: UseFormReturn<T>;
  submit: () => void;
  pending: boolean;
  saved: boolean;
  /** Says that a field stands on the screen, until what it answers is called. */
  show: (name: string) => () => void;
  /** The last refusal, and the fields at which parts of it are told. */
  error: unknown;
  told: string[];
}

/** The one form: typed text out, the server's faults back at the fields they name. */
export function useAsk<T extends FieldValues, Out>(asking: Asking<T, Out>): Ask<T> {
  const { start, save, onDone, again = true, names = {} } = asking;
  const form = useForm<T>({ defaultValues: start, shouldFocusError: true });
  const [uuid, setUuid] = useState(entryId);
  const [told, setTold] = useState<string[]>([]);
  const shown = useRef(new Map<string, number>());
  const show = (name: string) => {
    const many = (by: number) => shown.current.set(name, (shown.current.get(name) ?? 0) + by);
    many(1);
    return () => void many(-1);
  };
  // What is said of a field that nobody sees stands under the form; fields of other making are taken to be seen.
  const seen = (values: T, path: string) =>
    shown.current.size ? (shown.current.get(path) ?? 0) > 0 : has(values, path);
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
        const here = (field: string) => (typeof names === "function" ? names(field, values) : (names[field] ?? field));
        const named = error.errors.filter((fault) => fault.field && seen(values, here(fault.field)));
        setTold(named.map((fault) => fault.field));
        named.forEach(({ field, message }, n) => {
          form.setError(here(field) as FieldPath<T>, { message }, { shouldFocus: n === 0 });
        });
      },
    }),
  );
  return {
    form,
    submit: () => void submit(),
    pending: act.isPending,
    saved: act.isSuccess,
    show,
    error: act.error,
    told,
  };
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
