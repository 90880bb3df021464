import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useWatch } from "react-hook-form";
import { api, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { addDays } from "../../ui/dates";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

/** A batch on speculation, without an order. */
export function NewBatch({ open, onClose }: { open: boolean; onClose: () => void }) {
  const { data: library, isPending: reading } = useQuery({ ...libraryQuery, enabled: open });
  const { today } = useSpan();
  const navigate = useNavigate();
  const methods = library?.methods ?? [];
  const start = { method_id: "", needed: "", ready_on: addDays(today, 56) };
  const methodOf = (id: string) => methods.find((one) => String(one.id) === id);
  const ask = useAsk({
    start,
    save: ({ method_id, ...typed }: typeof start) => {
      const method = methodOf(method_id);
      const ids = { crop_id: method?.crop_id ?? 0, method_id: method?.id ?? 0, order_line_ids: [], lot_ids: [] };
      return take(api.POST("/api/batches", { body: { ...typed, ...ids } }));
    },
    onDone: (done) => {
      onClose();
      navigate({ to: "/batches/$id", params: { id: String(done.id) } });
    },
  });
  const { method_id = "" } = useWatch({ control: ask.form.control });
  return (
    <Sheet open={open} onClose={onClose} title="New batch" ready={!reading}>
      <AskForm ask={ask} button="Plan it">
        <p className="text-ink2">Raised on speculation; an order can be met from it later.</p>
        <AskField
          ask={ask}
          name="method_id"
          label="Method"
          type="select"
          needed
          options={[["", ""], ...methods.map((one) => [String(one.id), one.name] as const)]}
        />
        <AskField
          ask={ask}
          name="needed"
          label={`Good ${methodOf(method_id)?.unit ?? "plants"} wanted`}
          digits
          needed
        />
        <AskField ask={ask} name="ready_on" label="Ready on" type="date" needed />
      </AskForm>
    </Sheet>
  );
}
