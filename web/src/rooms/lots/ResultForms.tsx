import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { useSpan } from "../../shell/span";
import { type FormField, QuickForm, type Values } from "../../ui/QuickForm";

type Lot = Schemas["LotDetail"];
type Kind = Schemas["ResultIn"]["kind"];

const KINDS: [Kind, string][] = [
  ["germination", "Germination"],
  ["purity", "Purity"],
  ["moisture", "Moisture"],
  ["other_seeds", "Other seeds"],
];

const FIELDS: Record<Kind, FormField[]> = {
  germination: [
    {
      name: "normal",
      label: "Normal seedlings, replicate by replicate",
      hint: "four of 100 or eight of 50: 92, 90, 94, 91",
      needed: true,
      wide: true,
    },
  ],
  purity: [
    { name: "pure_g", label: "Pure seed, g", needed: true },
    { name: "inert_g", label: "Inert matter, g", needed: true },
    { name: "other_g", label: "Other seed, g", needed: true },
  ],
  moisture: [{ name: "duplicates", label: "Two duplicates by oven, %", hint: "9.1, 9.2", needed: true, wide: true }],
  other_seeds: [
    { name: "seeds_found", label: "Seeds found", needed: true },
    { name: "sample_g", label: "in grams", needed: true },
  ],
};

const numbers = (text: string | undefined) => (text ?? "").split(/[\s,;]+/).filter(Boolean);

function bodyOf(kind: Kind, values: Values, uuid: string): Schemas["ResultIn"] {
  const normal = numbers(values.normal);
  return {
    kind,
    tested_on: values.tested_on ?? "",
    normal,
    seeds_per_replicate: normal.length === 8 ? 50 : 100,
    pure_g: values.pure_g ?? "",
    inert_g: values.inert_g ?? "",
    other_g: values.other_g ?? "",
    duplicates: numbers(values.duplicates),
    seeds_found: values.seeds_found ?? "",
    sample_g: values.sample_g ?? "",
    certificate: values.certificate ?? "",
    reason: values.reason ?? "",
    client_uuid: uuid,
  };
}

/** A result as it was read at the bench; the server judges whether it counts. */
export function ResultForms({ lot }: { lot: Lot }) {
  const [kind, setKind] = useState<Kind>("germination");
  const { today } = useSpan();
  // Moisture changes in the store; what else still holds is tested again for a reason.
  const again =
    kind !== "moisture" &&
    lot.tests.some((one) => one.kind === kind && one.stands && (one.expires_on ?? today) > today);
  return (
    <details className="mt-2" open={!lot.tests.length}>
      <summary className="btn-link cursor-pointer">Enter a result</summary>
      <div className="my-2 flex gap-4" role="group" aria-label="Test">
        {KINDS.map(([key, words]) => (
          <button
            key={key}
            type="button"
            aria-pressed={key === kind}
            className={key === kind ? "border-ink border-b-[3px] font-bold" : "btn-link"}
            onClick={() => setKind(key)}
          >
            {words}
          </button>
        ))}
      </div>
      <QuickForm
        key={kind}
        columns={3}
        button="Record the result"
        fields={[
          ...FIELDS[kind],
          { name: "tested_on", label: "Read on", type: "date", start: today, needed: true },
          { name: "certificate", label: "Certificate, if any" },
          ...(again
            ? [
                {
                  name: "reason",
                  label: "Why it is tested again",
                  hint: kind === "germination" ? "what agrees is averaged" : "the samples are added up",
                  wide: true,
                },
              ]
            : []),
        ]}
        save={(values, uuid) =>
          take(
            api.POST("/api/lots/{lot_id}/results", {
              params: { path: { lot_id: lot.id } },
              body: bodyOf(kind, values, uuid),
            }),
          )
        }
      />
    </details>
  );
}
