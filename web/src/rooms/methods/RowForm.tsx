import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { type Control, type FieldValues, useWatch } from "react-hook-form";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { libraryChanged } from "../../api/queries";
import { few } from "../../ui/format";
import { Faults, Field } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { useDraft, useKept } from "../../ui/useDraft";
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
  const named = `${kind} ${slug} ${like}`;
  const draft = useDraft(named);
  const opened = useRef(draft.found ? draft.found.seen : (seen ?? null)); // not what is fetched meanwhile
  const { form, submit, pending, error, told } = useAsk<FieldValues, Form>({
    start,
    again: false,
    save: (typed) => {
      const body = { typed, like, source, reason, seen: opened.current };
      const saved = slug
        ? take(api.POST("/api/library/{kind}/{slug}/typed", { params: { path: { kind, slug } }, body }))
        : take(api.POST("/api/library/{kind}", { params: { path: { kind } }, body }));
      return saved.then(libraryChanged);
    },
    onDone: (made) => {
      draft.drop();
      setDone(true);
      onDone(made);
    },
  });
  const [done, setDone] = useState(false);
  useKept(named, form.control, opened.current, !done);
  const { reset } = form;
  const [begun] = useState(draft.found?.typed);
  useEffect(() => {
    if (begun) reset(begun, { keepDefaultValues: true }); // so that it still counts as typed
  }, [begun, reset]);
  const [settled, setSettled] = useState<unknown>(null);
  const conflict =
    error !== settled && error instanceof ApiError && error.status === 409 && error.data.typed ? error.data : null;
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
        {draft.found ? (
          <p className="mb-2 border-ink border-l-4 pl-3">
            What you had typed and not saved is here again.{" "}
            <button
              type="button"
              className="btn-link"
              onClick={() => {
                opened.current = seen ?? null;
                form.reset(start);
                draft.drop();
              }}
            >
              Begin anew
            </button>
          </p>
        ) : null}
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
          {conflict ? (
            <Meanwhile
              asked={asked}
              mine={start}
              theirs={conflict.typed as FieldValues}
              onTheirs={() => {
                opened.current = Number(conflict.seen);
                form.reset(conflict.typed as FieldValues);
                setSettled(error);
                draft.drop();
              }}
              onMine={() => {
                opened.current = Number(conflict.seen);
                submit();
              }}
            />
          ) : (
            <Faults error={error === settled ? null : error} fields={told} />
          )}
        </div>
        <div className="mt-3 flex items-center gap-4">
          <button type="submit" className="btn" disabled={pending}>
            {slug ? "Save the change" : "Add it"}
          </button>
          <button
            type="button"
            className="btn-link"
            onClick={() => {
              draft.drop();
              setDone(true);
              onDrop();
            }}
          >
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

/** A value as its form says it. */
function saidOf(one: Asked, value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  const text = Array.isArray(value) ? value.join(", ") : String(value ?? "");
  return one.choices.find((choice) => choice.value === text)?.words || text || "empty";
}

/** Somebody saved first: what they changed, and which of the two is to stand. */
function Meanwhile({
  asked,
  mine,
  theirs,
  onTheirs,
  onMine,
}: {
  asked: Asked[];
  /** As it stood when the form was opened. */
  mine: FieldValues;
  theirs: FieldValues;
  onTheirs: () => void;
  onMine: () => void;
}) {
  const changed = asked.filter((one) => JSON.stringify(mine[one.name]) !== JSON.stringify(theirs[one.name]));
  return (
    <div role="alert" className="border-ink border-l-4 bg-panel px-3 py-1">
      <p className="fault">
        Somebody changed it while you typed. Yours is not saved, and it stands above as you left it.
      </p>
      <ul className="my-1">
        {changed.map((one) => (
          <li key={one.name}>
            {one.words}:{" "}
            {one.sort === "table" ? (
              `theirs has ${few((theirs[one.name] as unknown[]).length, "row")}`
            ) : (
              <>
                {saidOf(one, mine[one.name])} is <b>{saidOf(one, theirs[one.name])}</b> now
              </>
            )}
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-4 py-1">
        <button type="button" className="btn" onClick={onTheirs}>
          Take theirs and go on from there
        </button>
        <button type="button" className="btn-link" onClick={onMine}>
          Save mine over theirs
        </button>
      </div>
    </div>
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
