import { useState } from "react";
import { ApiError, api, entryId, take } from "../../api/client";
import { useSpan } from "../../shell/span";
import { DayField } from "../../ui/DayField";
import { count, share } from "../../ui/format";
import { useSave } from "../../ui/hooks";
import { Faults, Field } from "../../ui/parts";

/** Count sampled trays: cells looked at and cells with a good seedling. Big targets for wet hands. */
export function EmergenceCount({
  batchId,
  code,
  cells,
  onDone,
}: {
  batchId: number;
  code: string;
  cells: number;
  onDone?: () => void;
}) {
  const { today } = useSpan();
  const [sampled, setSampled] = useState(String(cells));
  const [found, setFound] = useState<string[]>(["", "", "", "", "", ""]);
  const [on, setOn] = useState(today);
  const [uuid, setUuid] = useState(entryId);
  const rows = found.filter((text) => text.trim() !== "");
  const total = rows.length * Number(sampled);
  const good = rows.reduce((sum, text) => sum + Number(text), 0);
  const save = useSave(
    () =>
      take(
        api.POST("/api/batches/{batch_id}/counts", {
          params: { path: { batch_id: batchId } },
          body: {
            trays: rows.map((text) => ({ sampled: Math.round(Number(sampled)), found: Math.round(Number(text)) })),
            on,
            client_uuid: uuid,
            reason: "",
          },
        }),
      ),
    () => {
      setFound(["", "", "", "", "", ""]);
      setUuid(entryId());
      onDone?.();
    },
  );
  const error = save.error instanceof ApiError ? save.error : null;
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      <div className="grid grid-cols-2 gap-3">
        <Field label="Cells looked at in each tray">
          <input
            className="input phone"
            inputMode="numeric"
            value={sampled}
            onChange={(e) => setSampled(e.target.value)}
          />
        </Field>
        <Field label="Counted on" fault={error?.of("on")}>
          <DayField className="phone" max={today} value={on} onChange={setOn} />
        </Field>
      </div>
      <fieldset className="grid grid-cols-3 gap-3">
        <legend className="font-medium">Good seedlings, tray by tray</legend>
        {found.map((text, index) => (
          <Field key={index} label={`Tray ${index + 1}`} fault={error?.of(`trays.${index}.found`)}>
            <input
              className="input phone text-h2"
              inputMode="numeric"
              value={text}
              onChange={(e) => setFound(found.map((old, n) => (n === index ? e.target.value : old)))}
            />
          </Field>
        ))}
      </fieldset>
      <p aria-live="polite">
        {rows.length ? (
          <>
            {code}: <b>{count(good)}</b> of {count(total)} cells, <b>{share(total ? good / total : 0)}</b>, in{" "}
            {rows.length} trays
          </>
        ) : (
          "Six trays taken at random say more than one counted twice."
        )}
      </p>
      <Faults error={save.error} fields={["on", ...found.map((_, n) => `trays.${n}.found`)]} />
      <div className="flex gap-3">
        <button type="submit" className="btn phone" disabled={!rows.length || save.isPending}>
          Save the count
        </button>
        <button type="button" className="btn phone" onClick={() => setFound([...found, ""])}>
          One tray more
        </button>
      </div>
    </form>
  );
}
