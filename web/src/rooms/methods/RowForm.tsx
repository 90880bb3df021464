import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Control, type FieldValues, useWatch } from "react-hook-form";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { libraryChanged } from "../../api/queries";
import { few } from "../../ui/format";
import { Faults, Field } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { type Asked, AskedFields, AskedTable } from "./AskedFields";
import { StagesEditor } from "./StagesEditor";
import { TriedLadder } from "./TriedLadder";

type Form = Schemas["FormOut"];

/** A row of the library being written: new, made after another, or changed. */
export function RowForm({
  kind,
  asked,
  slug,
  like,
  start,
  ships,
  seen,
  onDone,
  onDrop,
}: {
  kind: string;
  asked: Asked[];
  /** Of the row that is changed; empty for a new one. */
  slug: string;
  like: string;
  start: FieldValues;
  ships?: Record<string, unknown> | undefined;
  /** Editions that were there when the form was opened. */
  seen?: number;
  onDone: (form: Form) => void;
  onDrop: () => void;
}) {
  const [source, setSource] = useState("");
  const [reason, setReason] = useState("");
  const [opened] = useState(seen); // what is fetched meanwhile is not what was typed over
  const { form, submit, pending, error, told } = useAsk<FieldValues, Form>({
    start,
    again: false,
    save: (typed) => {
      const body = { typed, like, source, reason, seen: opened ?? null };
      const saved = slug
        ? take(api.POST("/api/library/{kind}/{slug}/typed", { params: { path: { kind, slug } }, body }))
        : take(api.POST("/api/library/{kind}", { params: { path: { kind } }, body }));
      return saved.then(libraryChanged);
    },
    onDone,
  });
  const tables = asked.filter((one) => one.sort === "table");
  const stages = tables.find((one) => one.name === "stages");
  const tried = useTried(form.control, stages ? slug : null, like);
  return (
    <form
      className={stages ? "grid gap-8 xl:grid-cols-[1fr_300px]" : "max-w-3xl"}
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      <div className="min-w-0">
        <AskedFields fields={asked.filter((one) => one.sort !== "table")} control={form.control} ships={ships} />
        {tables.map((one) =>
          one.name === "stages" ? (
            <StagesEditor key={one.name} one={one} control={form.control} tried={tried.data} />
          ) : (
            <div key={one.name} className="mt-4">
              <h2>{one.words}</h2>
              <AskedTable one={one} control={form.control} />
            </div>
          ),
        )}
        <div className="mt-6 grid gap-3 border-rule border-t pt-3 sm:grid-cols-2">
          <Field label="Where do these values come from?" hint="stands beside each value that you changed">
            <input className="input" value={source} maxLength={200} onChange={(e) => setSource(e.target.value)} />
          </Field>
          {slug ? (
            <Field label="Why is it changed?" hint="stands with the edition">
              <input className="input" value={reason} maxLength={300} onChange={(e) => setReason(e.target.value)} />
            </Field>
          ) : null}
        </div>
        {told.length ? (
          <p className="fault mt-2" role="alert">
            Nothing is saved yet: {few(told.length, "field needs", "fields need")} mending, marked above.
          </p>
        ) : null}
        <div className="mt-3">
          <Faults error={error} fields={told} />
        </div>
        <div className="mt-3 flex items-center gap-4">
          <button type="submit" className="btn" disabled={pending}>
            {slug ? "Save the change" : "Add it"}
          </button>
          <button type="button" className="btn-link" onClick={onDrop}>
            Leave it as it was
          </button>
        </div>
      </div>
      {stages ? (
        <aside aria-label="Tried out" className="min-w-0">
          <div className="sticky top-2">
            <h2>Tried out</h2>
            <Field label="For how much" hint="begun today, on your own places">
              <input className="input" value={tried.quantity} onChange={(e) => tried.setQuantity(e.target.value)} />
            </Field>
            {tried.data ? (
              <div className={`mt-2 ${tried.fault ? "opacity-50" : ""}`}>
                <TriedLadder tried={tried.data} />
              </div>
            ) : null}
            {tried.fault ? (
              <div className="mt-2 border-ink border-l-4 pl-2">
                {tried.fault.map((sentence) => (
                  <p key={sentence}>{sentence}</p>
                ))}
              </div>
            ) : null}
          </div>
        </aside>
      ) : null}
    </form>
  );
}

/** The ladder of what stands in the form, asked for anew when typing rests. */
function useTried(control: Control<FieldValues>, slug: string | null, like: string) {
  const typed = useWatch({ control });
  const [quantity, setQuantity] = useState("1000");
  const asked = JSON.stringify({ typed, quantity });
  const [settled, setSettled] = useState(asked);
  useEffect(() => {
    const rest = setTimeout(() => setSettled(asked), 500);
    return () => clearTimeout(rest);
  }, [asked]);
  const { data, error } = useQuery({
    queryKey: ["tried", slug, like, settled],
    enabled: slug !== null,
    retry: false,
    placeholderData: (old: Schemas["TriedOut"] | undefined) => old,
    queryFn: () => take(api.POST("/api/methods/try", { body: { slug: slug ?? "", like, ...JSON.parse(settled) } })),
  });
  const [last, setLast] = useState(data);
  useEffect(() => {
    if (data) setLast(data);
  }, [data]);
  const fault = error instanceof ApiError ? error.errors.slice(0, 4).map((one) => one.message) : null;
  return { data: last, fault, quantity, setQuantity };
}
