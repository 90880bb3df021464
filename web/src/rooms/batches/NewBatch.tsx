import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { ApiError, api, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { DayField } from "../../ui/DayField";
import { addDays } from "../../ui/dates";
import { useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";

/** A batch on speculation, without an order. */
export function NewBatch({ open, onClose }: { open: boolean; onClose: () => void }) {
  const { data: library } = useQuery({ ...libraryQuery, enabled: open });
  const { today } = useSpan();
  const navigate = useNavigate();
  const [method, setMethod] = useState("");
  const [needed, setNeeded] = useState("");
  const [ready, setReady] = useState(addDays(today, 56));
  const chosen = library?.methods.find((m) => m.id === Number(method));
  const save = useSave(
    () =>
      take(
        api.POST("/api/batches", {
          body: {
            crop_id: chosen?.crop_id ?? 0,
            method_id: Number(method),
            needed,
            order_line_ids: [],
            lot_ids: [],
            ready_on: ready,
          },
        }),
      ),
    (done) => {
      onClose();
      navigate({ to: `/batches/${done.id}` as "/" });
    },
  );
  const error = save.error instanceof ApiError ? save.error : null;
  return (
    <Sheet open={open} onClose={onClose} title="New batch">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined);
        }}
      >
        <p className="text-ink2">Raised on speculation; an order can be met from it later.</p>
        <Field label="Method" fault={error?.of("method_id")}>
          <select className="input" value={method} onChange={(e) => setMethod(e.target.value)} required>
            <option value="" />
            {library?.methods.map((m) => (
              <option key={m.id} value={m.id}>
                {m.name}
              </option>
            ))}
          </select>
        </Field>
        <Field label={`Good ${chosen?.unit ?? "plants"} wanted`} fault={error?.of("needed")}>
          <input
            className="input"
            value={needed}
            inputMode="numeric"
            onChange={(e) => setNeeded(e.target.value)}
            required
          />
        </Field>
        <Field label="Ready on" fault={error?.of("ready_on")}>
          <DayField value={ready} onChange={setReady} required />
        </Field>
        <Faults error={save.error} fields={["method_id", "needed", "ready_on"]} />
        <button type="submit" className="btn w-fit" disabled={save.isPending}>
          Plan it
        </button>
      </form>
    </Sheet>
  );
}
