import { useQuery } from "@tanstack/react-query";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { treatmentsQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { quantity } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { useAsk } from "../../ui/useAsk";

type Lot = Schemas["LotDetail"];

/** What was done to a lot by the clock, and what may be. */
export function Treatments({ lot }: { lot: Lot }) {
  const { data } = useQuery(treatmentsQuery(lot.id));
  const may = useMay();
  if (!data || (!data.done.length && !data.treatments.length)) return null;
  const runs = data.done.some((one) => !one.ended_at);
  return (
    <section className="mt-4">
      <h2>Treatments</h2>
      {lot.use_by ? (
        <p>
          To be used by <b>{lot.use_by_words}</b>.
        </p>
      ) : null}
      <ul>
        {data.done.map((one) => (
          <li key={one.id} className="border-hair border-b py-1">
            <b>{one.ended_at ? one.sentence : `${one.name} runs since ${at(one.begun_at)}`}</b>
            {one.ended_at ? null : <span className="note"> it is ended on the day sheet</span>}
            <span className="note block">
              {one.of}
              {one.uses ? `; ${one.uses}` : ""}
              {one.readings.length ? `; read ${one.readings.map((read) => `${read.temp_c} °C`).join(", ")}` : ""}
              {one.by ? `; ${one.by}, ${at(one.begun_at)}` : ""}
            </span>
          </li>
        ))}
      </ul>
      {may("clocks.run") && lot.balance > 0 && !runs && data.treatments.length ? (
        <details className="mt-2">
          <summary className="btn-link cursor-pointer">Treat it by the clock</summary>
          <Treat lot={lot} data={data} />
        </details>
      ) : null}
    </section>
  );
}

const at = (moment: string) =>
  new Date(moment).toLocaleString("en-GB", {
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
  });

function Treat({ lot, data }: { lot: Lot; data: Schemas["TreatingOut"] }) {
  const start = { treatment: data.treatments[0]?.slug ?? "", quantity: "", product: "", rate: "", water: "", note: "" };
  const ask = useAsk({
    start,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/lots/{lot_id}/treat", {
          params: { path: { lot_id: lot.id } },
          body: { ...typed, at: null, uuid },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  const chosen = data.treatments.find((one) => one.slug === typed.treatment);
  return (
    <AskForm ask={ask} button="Begin: the clock runs" big="phone" className="mt-2 grid gap-3">
      <AskField
        ask={ask}
        name="treatment"
        label="Treatment"
        type="select"
        options={data.treatments.map((one) => [one.slug, one.name] as const)}
      />
      {chosen ? (
        <div>
          <ol>
            {chosen.steps.map((step, n) => (
              <li key={step}>
                {n + 1}. {step}
              </li>
            ))}
          </ol>
          <span className="note block">
            {chosen.use_within_words ? `To be used within ${chosen.use_within_words} of its end. ` : ""}
            {chosen.note ? `${chosen.note}. ` : ""}
            {chosen.source}
          </span>
          {chosen.heats && !chosen.sampled ? (
            <p className="mt-1 border-ink border-l-4 pl-3">
              Heat may kill what it is to clean: treat a sample first and test its germination.
            </p>
          ) : null}
          {chosen.cautions.map((caution) => (
            <p key={caution} className="mt-1 border-ink border-l-4 pl-3 font-semibold">
              {caution}
            </p>
          ))}
        </div>
      ) : null}
      <AskField
        ask={ask}
        name="quantity"
        label="How much of it"
        hint={`empty for all of it, ${quantity(lot.balance, lot.unit)}; a part becomes a lot of its own`}
      />
      <AskField
        ask={ask}
        name="product"
        label="With a product"
        hint="its name; none for water and heat"
        list="products"
        maxLength={120}
      />
      <datalist id="products">
        {data.products.map((one) => (
          <option key={one.slug} value={one.name} />
        ))}
      </datalist>
      {typed.product ? (
        <>
          <AskField ask={ask} name="rate" label="The label says" hint="“2 g/kg”, “5 ml/kg”, “1 g/L”" />
          <AskField ask={ask} name="water" label="Litres of dip" hint="where the rate is for a litre" />
          <p className="border-ink border-l-4 pl-3 font-semibold">
            Follow the label and your law; licensed work is for licensed people. Treated seed is never food or feed.
          </p>
        </>
      ) : null}
      <AskField ask={ask} name="note" label="Note" maxLength={300} />
    </AskForm>
  );
}
