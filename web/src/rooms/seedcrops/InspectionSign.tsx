import { useEffect, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { saved } from "../../api/queries";
import { shortDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Sheet } from "../../ui/parts";
import { OtherWays } from "./OtherWays";

type Visit = Schemas["InspectionOut"];

/** What the count is held against. */
export function Rules({ sheet }: { sheet: Visit }) {
  return (
    <div className="grid gap-1">
      <p>
        {sheet.standard}. {sheet.areas} areas of {count(sheet.plants_per_area)} plants, {count(sheet.sample)} in all,
        spread as drawn.
      </p>
      <ul>
        {sheet.limits.map((limit) => (
          <li key={limit.attribute}>
            {limit.words}: at most {(limit.limit * 100).toFixed(2)} %,{" "}
            {limit.decision === "plain_max" ? "by the share found" : "by reject number"}; rejects from{" "}
            {sheet.table?.reject_at[limit.attribute]} on. <span className="note">{limit.source}</span>
          </li>
        ))}
      </ul>
      {sheet.shedding_from ? (
        <p>Roguing cures only before {shortDay(sheet.shedding_from)}, when pollen must be reckoned with.</p>
      ) : null}
    </div>
  );
}

const CHOICES: Record<string, string> = {
  accept: "Accept the field",
  rogue: "Rogue and inspect again",
  downgrade: "Downgrade the class",
  reject: "Reject the field",
};

export function Sign({
  sheet,
  onClose,
  onSigned,
}: {
  sheet: Visit;
  onClose: () => void;
  onSigned: (fresh: Visit) => Promise<void>;
}) {
  const may = useMay();
  const [now, setNow] = useState(sheet);
  const [reason, setReason] = useState("");
  useEffect(() => {
    // The choices depend on everything having arrived; ask once more.
    take(api.GET("/api/inspections/{inspection_id}", { params: { path: { inspection_id: sheet.id } } })).then(
      setNow,
      () => undefined,
    );
  }, [sheet.id]);
  const sign = useSave(
    (decision: string) =>
      take(
        api.POST("/api/inspections/{inspection_id}/sign", {
          params: { path: { inspection_id: sheet.id } },
          body: { decision, reason },
        }),
      ),
    signed,
  );
  function signed(fresh: Visit) {
    void onSigned(fresh);
    void saved();
    onClose();
  }
  return (
    <Sheet open onClose={onClose} title="Decide and sign">
      <div className="grid gap-3">
        {now.judgement?.faults.map((fault) => (
          <p key={fault.attribute}>
            <b>
              {count(fault.found)} {fault.words}
            </b>
            , rejects from {fault.reject_at} on:{" "}
            {fault.state === "reject" ? "rejects" : fault.state === "accept" ? "passes" : "not decided"}.
          </p>
        ))}
        {now.choices.includes("rogue") && now.hours_to_rogue !== null ? (
          <p>
            Roguing the whole field takes about {now.hours_to_rogue.toFixed(0)} person-hours; the count is then made
            anew, and both stay.
          </p>
        ) : null}
        <label className="field">
          <span>Note, if any</span>
          <input className="input min-h-11" value={reason} onChange={(event) => setReason(event.target.value)} />
        </label>
        <Faults error={sign.error} />
        {may("seedcrops.sign") ? (
          now.choices.map((choice, n) => (
            <button
              key={choice}
              type="button"
              className={`btn min-h-12 ${n ? "" : "btn-decide"}`}
              disabled={sign.isPending}
              onClick={() => sign.mutate(choice)}
            >
              {CHOICES[choice]}
            </button>
          ))
        ) : (
          <p className="note">An inspector or a manager signs.</p>
        )}
        {may("seedcrops.sign") && now.state === "open" ? <OtherWays sheet={now} onSigned={signed} /> : null}
        {now.twice.map((said) => (
          <p key={said} className="fault">
            {said}
          </p>
        ))}
        {now.choices.length ? null : (
          <p>
            Some entries have not arrived, or the count is not full yet: every area asks for its{" "}
            {count(now.plants_per_area)} plants.
          </p>
        )}
      </div>
    </Sheet>
  );
}
