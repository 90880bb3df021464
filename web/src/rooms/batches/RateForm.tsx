import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useProposal } from "../../shell/proposal";
import { Field } from "../../ui/parts";

/** Type another rate over this one, with its reason; the library's stays where it is. */
export function RateForm({
  batchId,
  stage,
  name,
  rate,
}: {
  batchId: number;
  stage: string;
  name: string;
  rate: Schemas["RateOut"];
}) {
  const { propose } = useProposal();
  const [mean, setMean] = useState((rate.mean * 100).toFixed(1));
  const [sd, setSd] = useState((rate.sd * 100).toFixed(1));
  const [reason, setReason] = useState("");
  const [said, setSaid] = useState("");
  return (
    <form
      className="grid gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (!reason.trim()) return setSaid("Say why; the reason stays beside the rate.");
        setSaid("");
        propose(batchId, { stage, rate: { mean, sd: sd.trim() || "0", reason } });
      }}
    >
      <h2>Reckon with another rate</h2>
      <p className="note">{rate.source}</p>
      <div className="grid grid-cols-2 gap-2">
        <Field label={`${name}, %`}>
          <input className="input" inputMode="decimal" value={mean} onChange={(e) => setMean(e.target.value)} />
        </Field>
        <Field label="differs by, ± %">
          <input className="input" inputMode="decimal" value={sd} onChange={(e) => setSd(e.target.value)} />
        </Field>
      </div>
      <Field label="Why" fault={said || undefined}>
        <input className="input" value={reason} onChange={(e) => setReason(e.target.value)} />
      </Field>
      <button type="submit" className="btn w-fit">
        See what it does
      </button>
    </form>
  );
}
