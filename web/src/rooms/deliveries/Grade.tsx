import { useState } from "react";
import { ApiError, api, entryId, type Schemas, take } from "../../api/client";
import { useSpan } from "../../shell/span";
import { count, share } from "../../ui/format";
import { useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";

/** Grade a batch against its standard: good ones become a lot, the rest is counted by cause. */
export function Grade({
  batch,
  line,
}: {
  batch: Schemas["ToGradeOut"];
  line: Pick<Schemas["DueOut"], "crop" | "standard"> & { order?: string };
}) {
  const { today } = useSpan();
  const [open, setOpen] = useState(false);
  const [good, setGood] = useState("");
  const [rest, setRest] = useState(false);
  const [out, setOut] = useState<Record<string, string>>({});
  const [uuid, setUuid] = useState(entryId);
  const rejected = Object.values(out).reduce((sum, text) => sum + Number(text || 0), 0);
  const save = useSave(
    () =>
      take(
        api.POST("/api/batches/{batch_id}/graded", {
          params: { path: { batch_id: batch.batch_id } },
          body: {
            good,
            rest,
            seconds: [],
            out: batch.causes.map((cause) => ({ cause, count: out[cause] ?? "" })),
            on: today,
            client_uuid: uuid,
            version: batch.version,
          },
        }),
      ),
    () => {
      setOpen(false);
      setGood("");
      setOut({});
      setRest(false);
      setUuid(entryId());
    },
  );
  const error = save.error instanceof ApiError ? save.error : null;
  return (
    <>
      <button type="button" className="btn-link" onClick={() => setOpen(true)}>
        grade
        <span className="sr-only"> {batch.code}</span>
      </button>
      <Sheet open={open} onClose={() => setOpen(false)} title={`Grade ${batch.code}`}>
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate(undefined);
          }}
        >
          <p>
            {line.crop}
            {line.order ? ` for order ${line.order}` : ""}
            {line.standard ? `, against the ${line.standard.toLowerCase()}` : ""}. Forecast {count(batch.expected)}.
          </p>
          <Field label="Good ones" fault={error?.of("good")}>
            <input
              className="input phone text-h2"
              inputMode="numeric"
              value={good}
              onChange={(e) => setGood(e.target.value)}
              required
            />
          </Field>
          <fieldset className="grid grid-cols-2 gap-2">
            <legend className="font-medium">Graded out, by cause</legend>
            {batch.causes.map((cause) => (
              <Field key={cause} label={cause}>
                <input
                  className="input"
                  inputMode="numeric"
                  value={out[cause] ?? ""}
                  onChange={(e) => setOut({ ...out, [cause]: e.target.value })}
                />
              </Field>
            ))}
          </fieldset>
          <label className="flex items-center gap-2">
            <input type="checkbox" checked={rest} onChange={(e) => setRest(e.target.checked)} />
            This is a part of it; the rest stands on
          </label>
          <p aria-live="polite">
            {good ? (
              <>
                {count(Number(good))} good, {count(rejected)} out:{" "}
                <b>{share(Number(good) / Math.max(1, Number(good) + rejected), 1)}</b> kept
              </>
            ) : null}
          </p>
          <Faults error={save.error} fields={["good"]} />
          <button type="submit" className="btn phone" disabled={save.isPending}>
            Graded
          </button>
        </form>
      </Sheet>
    </>
  );
}
