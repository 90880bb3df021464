import { api, type Schemas, take } from "../../api/client";
import { AskField, AskForm } from "../../ui/AskForm";
import { fullDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { useAsk } from "../../ui/useAsk";

type Sample = Schemas["LiftingSampleOut"];
const STEP = 16; // px a sample
const TALL = 110;
const LEFT = 44;

/** What a digging crew damages while it lifts: each sample against what is usual for so many looked at. */
export function Damage({ store }: { store: Schemas["TuberStoreOut"] }) {
  const may = useMay()("tubers.look");
  const start = { crew: "", looked: "", damaged: "", note: "" };
  const ask = useAsk({
    start,
    save: (typed: typeof start, uuid) =>
      take(api.POST("/api/tubers/samples", { body: { ...typed, client_uuid: uuid } })),
  });
  if (!store.samples.length && !may) return null;
  return (
    <section className="mt-6" aria-label="Damage in lifting">
      <h2>Damage in lifting</h2>
      {store.damage_sentence ? (
        <p className={store.samples.at(-1)?.outside ? "border-ink border-l-4 pl-3 font-semibold" : ""}>
          {store.damage_sentence}
        </p>
      ) : (
        <p className="text-ink2">
          Whoever lifts looks through a crate now and then. Each sample stands here against what is usual, so that a
          chain that bruises is seen on the day and not in the store.
        </p>
      )}
      {store.samples.length > 1 ? <Chart samples={store.samples} usual={store.usual} /> : null}
      {may ? (
        <AskForm ask={ask} button="Enter the sample" big="phone" className="mt-2 flex flex-wrap items-end gap-3">
          <AskField ask={ask} name="crew" label="Crew, machine or field" needed maxLength={60} className="phone" />
          <AskField ask={ask} name="looked" label="Looked at" needed digits="whole" className="phone !w-28" />
          <AskField ask={ask} name="damaged" label="Damaged" digits="whole" className="phone !w-28" />
          <AskField ask={ask} name="note" label="Note" maxLength={300} className="phone" />
        </AskForm>
      ) : null}
    </section>
  );
}

function Chart({ samples, usual }: { samples: Sample[]; usual: number }) {
  const top = Math.max(0.01, ...samples.map((one) => Math.max(one.share, Math.min(one.high, 3 * usual + 0.02))));
  const y = (share: number) => 8 + TALL * (1 - Math.min(1, share / top));
  const x = (n: number) => LEFT + n * STEP;
  const wide = x(samples.length) + 8;
  const limit = (of: (one: Sample) => number) =>
    samples.map((one, n) => `${n ? "L" : "M"}${x(n)} ${y(of(one))}H${x(n + 1)}`).join("");
  const percent = (share: number) => `${(share * 100).toFixed(1)} %`;
  const outside = samples.filter((one) => one.outside).length;
  return (
    <div className="overflow-x-auto">
      <svg
        role="img"
        aria-label={`${count(samples.length)} samples, ${count(outside)} outside of what is usual, ${percent(usual)}`}
        width={wide}
        height={TALL + 18}
        className="mt-2 block"
      >
        <path d={limit((one) => one.high)} className="fill-none stroke-ink" strokeDasharray="4 3" />
        <path d={limit((one) => one.low)} className="fill-none stroke-ink3" strokeDasharray="4 3" />
        <line x1={LEFT} x2={wide - 8} y1={y(usual)} y2={y(usual)} className="stroke-ink3" />
        <text x={LEFT - 6} y={y(usual) + 4} textAnchor="end" className="fill-ink text-note">
          {percent(usual)}
        </text>
        {samples.map((one, n) => (
          <g key={one.id} transform={`translate(${x(n) + STEP / 2} ${y(one.share)})`}>
            <title>{`${one.crew}, ${fullDay(one.at.slice(0, 10))}: ${one.damaged} of ${one.looked}, ${percent(one.share)}; usual up to ${percent(one.high)}`}</title>
            {one.outside ? (
              <path d="M-5 -5h10v10h-10z" className="fill-ink" />
            ) : (
              <circle r="3.5" className="fill-panel stroke-ink [stroke-width:1.5]" />
            )}
          </g>
        ))}
      </svg>
      <p className="note">
        Dashed: within it a sample of its size is usual. A full square is outside. The newest {count(samples.length)}.
      </p>
    </div>
  );
}
