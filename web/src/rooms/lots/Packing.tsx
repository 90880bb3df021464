import { api, type Schemas, take } from "../../api/client";
import { AskField, AskForm } from "../../ui/AskForm";
import { useMay, useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Lot = Schemas["LotDetail"];
const NEVER = new Set(["seed", "mother plant"]);
const PACKED = "packing";

/** Plants and cuttings in boxes: packed, to be planted within their hours, or unpacked again. */
export function Packing({ lot }: { lot: Lot }) {
  const may = useMay()("lots.pack");
  const params = { path: { lot_id: lot.id } };
  const unpack = useSave(() => take(api.POST("/api/lots/{lot_id}/unpack", { params })));
  const packed = lot.use_by !== null && lot.treatment.split("; ").includes(PACKED);
  const ask = useAsk({
    start: { ago: "", hours: "24" },
    save: (typed: { ago: string; hours: string }) => take(api.POST("/api/lots/{lot_id}/pack", { params, body: typed })),
  });
  if (NEVER.has(lot.form) || lot.balance <= 0) return null;
  if (packed && lot.use_by)
    return (
      <p className="mt-3 flex flex-wrap items-center gap-3">
        <span>
          In boxes, to be planted by <b>{lot.use_by_words}</b>.
        </span>
        <a href={`/api/lots/${lot.id}/packed.pdf`} target="_blank" rel="noreferrer">
          Label of the boxes
        </a>
        {may ? (
          <button
            type="button"
            className="btn-link"
            disabled={unpack.isPending}
            onClick={() => unpack.mutate(undefined)}
          >
            they are unpacked
          </button>
        ) : null}
        <Faults error={unpack.error} />
      </p>
    );
  if (!may || lot.use_by) return null;
  return (
    <details className="mt-3">
      <summary className="btn-link w-fit cursor-pointer list-none">They are packed</summary>
      <AskForm ask={ask} button="Packed" big="phone" className="mt-2 flex flex-wrap items-end gap-3">
        <AskField ask={ask} name="ago" label="How long ago" hint="empty: just now; “3 h”" className="!w-32" />
        <AskField ask={ask} name="hours" label="May stay packed" hint="hours" className="!w-24" digits />
      </AskForm>
    </details>
  );
}
