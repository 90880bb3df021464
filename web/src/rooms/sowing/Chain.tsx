import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import type { Schemas } from "../../api/client";
import { chainQuery } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { Faults } from "../../ui/parts";

const figure = new Intl.NumberFormat("en-GB", { maximumSignificantDigits: 3 });
const whole = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 0 });
const said = (value: number) => (value >= 1000 ? whole.format(value) : figure.format(value));

/** One sowing from kilos of seed to hours; every figure opens how it came about. */
export function Chain({ card }: { card: Schemas["CardOut"] }) {
  const [planted, setPlanted] = useState("");
  const [rate, setRate] = useState("");
  const { data, error } = useQuery(chainQuery(card.batch_id, useDeferredValue(planted), useDeferredValue(rate)));
  const { show } = useWorking();
  if (!data?.length) return error ? <Faults error={error} /> : null;
  return (
    <section className="mt-3" aria-label="From seed to hours">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h2>From seed to hours</h2>
        <label className="flex items-baseline gap-2">
          <span className="note">planted at</span>
          <input
            className="input !h-8 !w-40"
            placeholder="45 × 45 cm, 40,000/ha"
            value={planted}
            maxLength={40}
            onChange={(event) => setPlanted(event.target.value)}
          />
        </label>
        <label className="flex items-baseline gap-2">
          <span className="note">a rate you were told</span>
          <input
            className="input !h-8 !w-32"
            placeholder="600 g/ha"
            value={rate}
            maxLength={40}
            onChange={(event) => setRate(event.target.value)}
          />
        </label>
      </div>
      {error ? <Faults error={error} /> : null}
      <dl className="mt-1 grid grid-cols-2 gap-x-6 sm:grid-cols-3 lg:grid-cols-4">
        {data.map((one) => {
          const value = `${said(one.value)} ${one.unit}`;
          return (
            <div key={one.key} className="border-hair border-b py-1">
              <dt className="note">{one.label}</dt>
              <dd>
                <button
                  type="button"
                  className="btn-link min-h-6 font-bold"
                  onClick={() => show({ title: one.label, value, steps: one.working }, true)}
                >
                  {value}
                </button>
              </dd>
            </div>
          );
        })}
      </dl>
      {data.map((one) =>
        one.note ? (
          <p key={one.key} role="status" className="max-w-prose py-1">
            {one.note}
          </p>
        ) : null,
      )}
    </section>
  );
}
