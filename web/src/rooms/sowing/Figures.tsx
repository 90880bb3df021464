import type { Schemas } from "../../api/client";
import { useWorking } from "../../shell/working";

const figure = new Intl.NumberFormat("en-GB", { maximumSignificantDigits: 3 });
const whole = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 0 });
const said = (value: number) => (value >= 1000 ? whole.format(value) : figure.format(value));

/** Figures that follow from one another; each opens how it came about. */
export function Figures({ rows }: { rows: Schemas["ChainLinkOut"][] }) {
  const { show } = useWorking();
  return (
    <dl className="mt-1 grid grid-cols-2 gap-x-6 sm:grid-cols-3 lg:grid-cols-4">
      {rows.map((one) => {
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
  );
}
