import { useFieldArray, useWatch } from "react-hook-form";
import { api, take } from "../../api/client";
import { orLater } from "../../api/later";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { count, share } from "../../ui/format";
import { useAsk } from "../../ui/useAsk";

const SIX = Array.from({ length: 6 }, () => ({ found: "" }));

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
  const start = { sampled: String(cells), on: today, trays: SIX };
  const ask = useAsk({
    start,
    onDone,
    // Only trays that were counted are sent, so what is said of the second may belong to the fifth.
    names: (field, { trays }) => {
      const [, at, what] = field.split(".");
      if (what === "sampled") return what;
      return at === undefined ? field : `trays.${trays.indexOf(counted(trays)[Number(at)] ?? { found: "" })}.found`;
    },
    save: ({ sampled, on, trays }: typeof start, client_uuid) => {
      const body = { trays: counted(trays).map(({ found }) => ({ sampled, found })), on, client_uuid, reason: "" };
      const path = { batch_id: batchId };
      return orLater(
        (key) =>
          take(
            api.POST("/api/batches/{batch_id}/counts", { params: { path }, body, headers: { "Idempotency-Key": key } }),
          ),
        { path: `/api/batches/${batchId}/counts`, body, words: `Count of ${code}` },
      );
    },
  });
  const more = useFieldArray({ control: ask.form.control, name: "trays" });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  const rows = counted(typed.trays);
  const total = rows.length * Number(typed.sampled);
  const good = rows.reduce((sum, { found }) => sum + Number(found), 0);
  return (
    <AskForm ask={ask} button="Save the count" big="phone" disabled={!rows.length}>
      <div className="grid grid-cols-2 gap-3">
        <AskField ask={ask} name="sampled" label="Cells looked at in each tray" className="phone" digits="whole" />
        <AskField ask={ask} name="on" label="Counted on" type="date" className="phone" max={today} />
      </div>
      <fieldset className="grid grid-cols-3 gap-3">
        <legend className="font-medium">Good ones, tray by tray</legend>
        {more.fields.map((tray, at) => (
          <AskField
            key={tray.id}
            ask={ask}
            name={`trays.${at}.found`}
            label={`Tray ${at + 1}`}
            className="phone text-h2"
            digits="whole"
          />
        ))}
      </fieldset>
      <button type="button" className="btn phone w-fit" onClick={() => more.append({ found: "" })}>
        One tray more
      </button>
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
    </AskForm>
  );
}

const counted = (trays: typeof SIX) => trays.filter(({ found }) => found.trim() !== "");
