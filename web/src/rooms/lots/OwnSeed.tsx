import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, entryId, type Schemas, take } from "../../api/client";
import { descentQuery, lotsQuery, wantingQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { shortDay } from "../../ui/dates";
import { kilos, quantity } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, LotCode, Pennant } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { ResultForms } from "./ResultForms";

type Lot = Schemas["LotDetail"];

/** Own seed on its way: passport, drying, cleaning, laboratory, verdict, seals and label; and its whole descent. */
export function OwnSeed({ lot }: { lot: Lot }) {
  const may = useMay();
  return (
    <div className="mt-3 grid gap-x-8 gap-y-5 md:grid-cols-2">
      <div className="grid content-start gap-5">
        {lot.intake ? <Intake lot={lot} intake={lot.intake} /> : null}
        {lot.status === "raw" && lot.balance > 0 && may("lots.process") ? <Process lot={lot} /> : null}
        {lot.status && lot.status !== "raw" ? <Verdict lot={lot} /> : null}
        {(lot.status === "clean" || lot.status === "held") && lot.balance > 0 && may("lots.process") ? (
          <details>
            <summary className="btn-link cursor-pointer">Dry or clean it again, or blend it</summary>
            <p className="note mt-2">What comes out is a new lot, tested anew; this one stays behind it.</p>
            <Process lot={lot} />
          </details>
        ) : null}
      </div>
      <div className="grid content-start gap-5">
        {lot.status && lot.status !== "raw" ? <Results lot={lot} /> : null}
        <Descent lot={lot} />
      </div>
    </div>
  );
}

function Intake({ lot, intake }: { lot: Lot; intake: NonNullable<Lot["intake"]> }) {
  const over = intake.limit_percent !== null && intake.moisture_percent > intake.limit_percent;
  const wet = over && lot.moisture_percent === intake.moisture_percent;
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Passport</h2>
      <p className="py-1">
        From batch {intake.batch}: {kilos(intake.gross_kg)} gross less {kilos(intake.tare_kg)} tare, at{" "}
        <b>{intake.moisture_percent} %</b> moisture
        {intake.limit_percent ? `, limit at intake ${intake.limit_percent} %` : ""}
        {intake.purity_percent !== null ? `; ${intake.purity_percent} % pure in the sample` : ""}
        {intake.pests ? `; seen: ${intake.pests}` : ""}.
      </p>
      {intake.decision === "apart" ? <Pennant>taken in apart: clean it by itself</Pennant> : null}
      {wet && intake.limit_percent ? (
        <Pennant>{`dry now: ${(intake.moisture_percent - intake.limit_percent).toFixed(1)} % over the limit`}</Pennant>
      ) : (
        <p>Stands at {lot.moisture_percent} %.</p>
      )}
    </section>
  );
}

function Process({ lot }: { lot: Lot }) {
  const { today } = useSpan();
  const { data: lots } = useQuery(lotsQuery);
  const others = (lots ?? []).filter(
    (one) =>
      ["raw", "clean", "held"].includes(one.status) &&
      one.balance > 0 &&
      one.id !== lot.id &&
      one.crop_id === lot.crop_id &&
      one.cultivar === lot.cultivar &&
      one.seed_class === lot.seed_class,
  );
  return (
    <>
      <section>
        <h2 className="border-rule border-b pb-1">Drying</h2>
        <p className="note py-1">
          Dust and fire at the dryer; nobody enters a bin while it runs. Start low with wet seed.
        </p>
        <QuickForm
          button="It is dry"
          columns={3}
          fields={[
            { name: "to_percent", label: "Dried to, %", needed: true },
            { name: "mass_after", label: "Weighed after", hint: "if weighed" },
            { name: "on", label: "On", type: "date", start: today, needed: true },
            { name: "reason", label: "Where the rest went, if much is missing", wide: true },
          ]}
          save={(values, uuid) =>
            take(
              api.POST("/api/lots/{lot_id}/drying", {
                params: { path: { lot_id: lot.id } },
                body: {
                  on: values.on ?? "",
                  to_percent: values.to_percent ?? "",
                  mass_after: values.mass_after ?? "",
                  reason: values.reason ?? "",
                  client_uuid: uuid,
                },
              }),
            )
          }
        />
      </section>
      <section>
        <h2 className="border-rule border-b pb-1">Cleaning</h2>
        <QuickForm
          button="It is cleaned"
          columns={3}
          fields={[
            { name: "kg", label: "Into the cleaner", start: `${lot.balance} kg`, needed: true },
            { name: "clean", label: "Clean seed", needed: true, hint: "3480 kg" },
            { name: "screenings", label: "Screenings", start: "0 kg", needed: true },
            ...others.map((one) => ({
              name: `lot${one.id}`,
              label: `with ${one.code}`,
              hint: `${kilos(one.balance)} there; empty: none of it`,
            })),
            { name: "on", label: "On", type: "date" as const, start: today, needed: true },
            { name: "reason", label: "Where the rest went, if much is missing", wide: true },
          ]}
          save={(values, uuid) =>
            take(
              api.POST("/api/cleaning", {
                body: {
                  on: values.on ?? "",
                  lots: [
                    { lot_id: lot.id, kg: values.kg ?? "" },
                    ...others
                      .filter((one) => values[`lot${one.id}`]?.trim())
                      .map((one) => ({ lot_id: one.id, kg: values[`lot${one.id}`] ?? "" })),
                  ],
                  clean: values.clean ?? "",
                  screenings: values.screenings ?? "",
                  reason: values.reason ?? "",
                  client_uuid: uuid,
                },
              }),
            )
          }
        />
      </section>
    </>
  );
}

const KIND: Record<string, string> = {
  germination: "germination",
  purity: "pure seed",
  moisture: "moisture",
  other_seeds: "seeds of other species",
  tgw: "g a thousand",
};

function Results({ lot }: { lot: Lot }) {
  const may = useMay();
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Laboratory</h2>
      <table className="tbl">
        <tbody>
          {lot.tests.map((test) => {
            const detail = test.detail as {
              normal?: number[];
              range?: number;
              tolerated?: number;
              duplicates?: number[];
            };
            return (
              <tr key={test.id}>
                <td className="note w-20">{shortDay(test.tested_on)}</td>
                <td>
                  {KIND[test.kind] ?? test.kind}
                  {test.stands ? null : <span className="note"> (not in the result)</span>}
                  <div className="note">
                    {detail.normal
                      ? `${detail.normal.join(", ")}; range ${detail.range}, tolerated ${detail.tolerated ?? "not tabulated"}`
                      : ""}
                    {detail.duplicates ? `duplicates ${detail.duplicates.join(" and ")}` : ""}
                    {test.certificate ? ` ${test.certificate}` : ""} {test.by}
                  </div>
                  {test.reason ? <div className="note">{test.reason}</div> : null}
                  {test.repeat && test.stands ? <div className="fault">Repeat: {test.repeat}.</div> : null}
                </td>
                <td className="num">
                  <b>
                    {test.kind === "germination"
                      ? `${Math.round(test.value * 100)} %`
                      : test.kind === "other_seeds"
                        ? `${test.value} per kg`
                        : test.kind === "tgw"
                          ? test.value
                          : `${test.value} %`}
                  </b>
                </td>
              </tr>
            );
          })}
          {lot.tests.length ? null : (
            <tr>
              <td>Nothing was tested yet.</td>
            </tr>
          )}
        </tbody>
      </table>
      {may("lots.test") && lot.status !== "rejected" ? <ResultForms lot={lot} /> : null}
    </section>
  );
}

const OUTCOME: Record<string, string> = {
  pass: "passes",
  fail: "fails",
  missing: "missing",
  expired: "too old",
  repeat: "repeat",
};
const DECISION: Record<string, string> = {
  release: "Released",
  hold: "Held",
  downgrade: "Downgraded",
  reject: "Rejected",
};

function Verdict({ lot }: { lot: Lot }) {
  const may = useMay();
  const { data: wanting } = useQuery(wantingQuery(lot.id));
  const judged = lot.judged;
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Verdict</h2>
      {judged ? (
        <>
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{judged.standard}</th>
                <th scope="col" className="num">
                  Result
                </th>
                <th scope="col">Asked</th>
                <th scope="col" className="num">
                  Margin
                </th>
                <th scope="col">
                  <span className="sr-only">Outcome</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {judged.attributes.map((one) => (
                <tr key={one.attribute}>
                  <td>
                    {one.words}
                    {one.note ? <div className="note">{one.note}</div> : null}
                    <div className="note">
                      {one.low !== null && one.high !== null
                        ? `true value ${one.low.toFixed(0)} to ${one.high.toFixed(0)} %`
                        : ""}
                    </div>
                  </td>
                  <td className="num">{one.value === null ? "" : `${one.value} ${one.unit}`}</td>
                  <td>
                    {one.asked}
                    <div className="note">
                      {one.statutory ? "by law; " : ""}
                      {one.source}
                    </div>
                  </td>
                  <td className="num">
                    {one.margin === null
                      ? ""
                      : `${one.margin >= 0 ? "+" : "−"}${Number(Math.abs(one.margin).toFixed(1))}`}
                  </td>
                  <td>
                    <b>{one.outcome === "pass" && one.value === null ? "not asked" : OUTCOME[one.outcome]}</b>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="py-1">{judged.sentence}</p>
          {wanting?.map((said) => (
            <p key={said} className="fault">
              {said[0]?.toUpperCase()}
              {said.slice(1)}.
            </p>
          ))}
          {may("lots.release") && lot.status !== "rejected" ? <Sign lot={lot} proposal={judged.proposal} /> : null}
        </>
      ) : (
        <p className="fault py-1">No seed standard of this crop and class is in the library. Add one in Methods.</p>
      )}
      <ul className="mt-2">
        {lot.signed.map((one) => (
          <li key={one.id} className="flex gap-3 border-hair border-b py-1">
            <span className="note w-20 flex-none">{shortDay(one.happened_at)}</span>
            <span>
              <b>{DECISION[one.decision]}</b> as {one.seed_class}. {one.reason || one.sentence}{" "}
              <span className="note">
                {one.by}, {one.role}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {lot.status === "released" ? <Released lot={lot} /> : null}
    </section>
  );
}

function Sign({ lot, proposal }: { lot: Lot; proposal: string }) {
  const [reason, setReason] = useState("");
  const [lower, setLower] = useState(lot.judged?.downgrade_to ?? lot.lower_classes[0]?.slug ?? "");
  const sign = useSave((decision: string) =>
    take(
      api.POST("/api/lots/{lot_id}/verdicts", {
        params: { path: { lot_id: lot.id } },
        body: { decision, reason, seed_class: decision === "downgrade" ? lower : "", client_uuid: entryId() },
      }),
    ),
  );
  const button = (decision: string, words: string) => (
    <button
      type="button"
      className={`btn ${decision === proposal ? "btn-decide" : ""}`}
      disabled={sign.isPending}
      onClick={() => sign.mutate(decision)}
    >
      {words}
    </button>
  );
  return (
    <div className="grid gap-2">
      <Field label="Reason, where one is needed">
        <input className="input" value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
      <div className="flex flex-wrap items-center gap-2">
        {lot.status === "released" ? null : button("release", "Release")}
        {button("hold", "Hold")}
        {lot.lower_classes.length ? (
          <>
            {button("downgrade", "Downgrade to")}
            <select
              className="input w-36"
              aria-label="Lower class"
              value={lower}
              onChange={(event) => setLower(event.target.value)}
            >
              {lot.lower_classes.map((one) => (
                <option key={one.slug} value={one.slug}>
                  {one.name}
                </option>
              ))}
            </select>
          </>
        ) : null}
        {button("reject", "Reject")}
      </div>
      <Faults error={sign.error} />
    </div>
  );
}

function Released({ lot }: { lot: Lot }) {
  const may = useMay();
  return (
    <div className="mt-3 grid gap-2">
      <p>
        <a href={`/api/lots/${lot.id}/label.pdf`} target="_blank" rel="noreferrer">
          Our own label
        </a>
        {lot.seals.length
          ? `; official numbers ${lot.seals[0]?.number} to ${lot.seals.at(-1)?.number}, ${lot.seals.length} in all`
          : "; no official numbers recorded"}
      </p>
      {may("lots.release") ? (
        <details>
          <summary className="btn-link cursor-pointer">Record official label or seal numbers</summary>
          <div className="mt-2">
            <QuickForm
              columns={1}
              button="Record the numbers"
              fields={[
                { name: "numbers", label: "As the authority issued them, one a line", type: "area", needed: true },
              ]}
              save={(values) =>
                take(
                  api.POST("/api/lots/{lot_id}/seals", {
                    params: { path: { lot_id: lot.id } },
                    body: { numbers: (values.numbers ?? "").split(/\s*[\n,;]\s*/).filter(Boolean), kind: "label" },
                  }),
                )
              }
            />
          </div>
        </details>
      ) : null}
    </div>
  );
}

const HOW: Record<string, string> = { sown: "sown with", cleaned: "cleaned from", blended: "blended from" };

/** Everything it was made from and everything made of it, on one screen. */
function Descent({ lot }: { lot: Lot }) {
  const { data } = useQuery(descentQuery(lot.id));
  if (!data) return null;
  const codes = new Map(data.map((one) => [one.id, one]));
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Descent</h2>
      <ol>
        {data.map((one) => (
          <li key={one.id} className="border-hair border-b py-1" aria-current={one.id === lot.id ? "true" : undefined}>
            <div
              className="flex flex-wrap items-baseline gap-x-2"
              style={{ paddingLeft: `${(one.level - (data[0]?.level ?? 0)) * 14}px` }}
            >
              <LotCode code={one.code} />
              <span className={one.id === lot.id ? "font-bold" : ""}>
                {one.cultivar || one.crop}
                {one.class_name ? `, ${one.class_name}` : ""}
                {one.label_number ? `, label ${one.label_number}` : ""}
              </span>
              <span className="note">
                {one.made_from
                  .map((from) => {
                    const parent = codes.get(from.parent);
                    return `${HOW[from.how] ?? from.how} ${quantity(from.quantity, parent?.unit ?? "")} of ${parent?.code ?? "?"}`;
                  })
                  .join(", ")}
                {one.batch ? `; batch ${one.batch}` : ""}
                {one.movements
                  .filter((move) => move.kind === "delivered")
                  .map((move) => `; ${kilos(Math.abs(move.quantity))} to ${move.code}`)
                  .join("")}
              </span>
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}
