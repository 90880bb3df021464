import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useProposal } from "../../shell/proposal";
import { Field } from "../../ui/parts";

/** How sure a promise is to be: typed, or from what one too many and one missing cost. */
export function WantedForm({ batch }: { batch: Schemas["LadderOut"] }) {
  const { propose } = useProposal();
  const [wanted, setWanted] = useState((batch.chance_wanted * 100).toFixed(1).replace(/\.0$/, ""));
  const [surplus, setSurplus] = useState("");
  const [short, setShort] = useState("");
  const [said, setSaid] = useState("");
  return (
    <div className="grid gap-4">
      <form
        className="grid gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          propose(batch.id, { chance: wanted });
        }}
      >
        <Field label="Chance wanted, %">
          <input className="input" inputMode="decimal" value={wanted} onChange={(e) => setWanted(e.target.value)} />
        </Field>
        <button type="submit" className="btn w-fit">
          See what it does
        </button>
      </form>
      <form
        className="grid gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (!surplus.trim() || !short.trim()) return setSaid("Both are needed: their ratio says the chance.");
          setSaid("");
          propose(batch.id, { costs: { surplus, short } });
        }}
      >
        <h2>Or by what it costs</h2>
        <p className="note">
          One too many is dumped or sold cheaply; for one missing you pay, buy in or lose the customer. The cheapest
          chance is missing ÷ (missing + too many). Nothing of it is kept but the chance.
        </p>
        <div className="grid grid-cols-2 gap-2">
          <Field label="One too many costs">
            <input className="input" inputMode="decimal" value={surplus} onChange={(e) => setSurplus(e.target.value)} />
          </Field>
          <Field label="One missing costs" fault={said || undefined}>
            <input className="input" inputMode="decimal" value={short} onChange={(e) => setShort(e.target.value)} />
          </Field>
        </div>
        <button type="submit" className="btn w-fit">
          See what it does
        </button>
      </form>
    </div>
  );
}
