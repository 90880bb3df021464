import type { Schemas } from "../../api/client";
import { useWorking } from "../../shell/working";
import { Door } from "../../ui/Door";
import { addDays, isoWeek } from "../../ui/dates";
import { count } from "../../ui/format";
import { BatchCode } from "../../ui/parts";

const WEEK = 30; // px
const TALL = 110;
const HEAD = 16;
const FOOT = 18;

/** What the mothers of a crop will give by week, what is to be stuck, and the hatched part that is short. */
export function Outlook({ outlook }: { outlook: Schemas["OutlookOut"] }) {
  const { show } = useWorking();
  const short = outlook.short.some((many) => many > 0);
  return (
    <section className="mt-4" aria-label={`${outlook.crop} cuttings by week`}>
      <h2>{outlook.crop} cuttings</h2>
      <p className={short ? "border-ink border-l-4 pl-3 font-semibold" : "note"}>{outlook.sentence}</p>
      <Weeks outlook={outlook} />
      {outlook.remedies.length ? (
        <ul className="my-2 grid max-w-prose gap-1">
          {outlook.remedies.map((one) => (
            <li key={one.code}>
              {one.sentence}{" "}
              <button
                type="button"
                className="btn-link"
                onClick={() => show({ title: one.sentence, value: "", steps: one.working }, true)}
              >
                how so<span className="sr-only">: {one.sentence}</span>
              </button>
            </li>
          ))}
        </ul>
      ) : null}
      {outlook.fed.length ? (
        <details>
          <summary className="btn-link w-fit cursor-pointer list-none">
            {outlook.fed.length === 1 ? "the batch that they feed" : `${outlook.fed.length} batches that they feed`}
          </summary>
          <table className="tbl mt-1 !w-auto">
            <tbody>
              {outlook.fed.map((one) => (
                <tr key={one.batch_id}>
                  <td>
                    <Door link={`/batches/${one.batch_id}`}>
                      <BatchCode code={one.batch} />
                    </Door>
                  </td>
                  <td>week {isoWeek(addDays(outlook.first, one.week * 7)).week}</td>
                  <td className="num">{count(one.cuttings)} cuttings</td>
                  <td>{one.orders.length ? `order ${one.orders.join(", ")}` : "for no order yet"}</td>
                  <td>{(outlook.short[one.week] ?? 0) > 0 ? <b>short that week</b> : ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      ) : null}
    </section>
  );
}

function Weeks({ outlook }: { outlook: Schemas["OutlookOut"] }) {
  const top = Math.max(1, ...outlook.given, ...outlook.wanted);
  const high = (value: number) => (value / top) * TALL;
  const told = outlook.short.flatMap((many, n) =>
    many > 0 ? [`${count(Math.round(many))} short in week ${isoWeek(addDays(outlook.first, n * 7)).week}`] : [],
  );
  const id = `short-${outlook.crop.replace(/\W/g, "")}`;
  return (
    <>
      {/* A week is a drawing of its own, so that they go on in a second row where there is no room beside each other. */}
      <div role="img" aria-label={`Cuttings by week: ${told.join(", ") || "none short"}`} className="flex flex-wrap">
        <svg width="0" height="0" className="absolute" aria-hidden="true">
          <defs>
            <pattern id={id} width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
              <rect width="2.4" height="6" className="fill-ink" />
            </pattern>
          </defs>
        </svg>
        {outlook.given.map((given, n) => {
          const wanted = outlook.wanted[n] ?? 0;
          const day = addDays(outlook.first, n * 7);
          const toCome = outlook.to_come[n] ?? 0;
          const over = Math.max(given, wanted);
          return (
            <svg key={day} width={WEEK} height={HEAD + TALL + FOOT} className="block" aria-hidden="true">
              <title>{`week ${isoWeek(day).week}: ${count(Math.round(given))} given, ${count(wanted)} to be stuck`}</title>
              <rect
                x={2}
                width={WEEK - 4}
                y={HEAD + TALL - high(given)}
                height={high(given)}
                className="fill-stand stroke-line"
              />
              {toCome > 0.5 ? (
                <rect
                  x={2.5}
                  width={WEEK - 5}
                  y={HEAD + TALL - high(given) + 0.5}
                  height={high(Math.min(toCome, given))}
                  className="fill-paper opacity-60"
                />
              ) : null}
              {wanted > given ? (
                <rect
                  x={2}
                  width={WEEK - 4}
                  y={HEAD + TALL - high(wanted)}
                  height={high(wanted) - high(given)}
                  fill={`url(#${id})`}
                  className="stroke-ink"
                />
              ) : null}
              {wanted > 0 ? (
                <line
                  x1={0}
                  x2={WEEK}
                  y1={HEAD + TALL - high(wanted)}
                  y2={HEAD + TALL - high(wanted)}
                  className="stroke-ink"
                  strokeWidth={2}
                />
              ) : null}
              {over > 0 ? (
                <text
                  x={WEEK / 2}
                  y={HEAD + TALL - high(over) - 4}
                  textAnchor="middle"
                  className="cond fill-ink text-note"
                >
                  {short(wanted > 0 ? wanted : given)}
                </text>
              ) : null}
              <text x={WEEK / 2} y={HEAD + TALL + 14} textAnchor="middle" className="cond fill-ink2 text-note">
                {isoWeek(day).week}
              </text>
              <line x1={0} x2={WEEK} y1={HEAD + TALL} y2={HEAD + TALL} className="stroke-ink" />
            </svg>
          );
        })}
      </div>
      <p className="note">
        Bars: what the mothers give in a week
        {outlook.to_come.some((many) => many > 0) ? " (paler: that are only planned)" : ""}; strokes: what is to be
        stuck; hatched: what is short. Cuttings do not wait for the next week.
      </p>
    </>
  );
}

/** A figure that fits over a bar: “940”, “1.2k”. */
function short(value: number): string {
  if (value < 1000) return String(Math.round(value));
  return `${(value / 1000).toFixed(value < 9950 ? 1 : 0)}k`;
}
