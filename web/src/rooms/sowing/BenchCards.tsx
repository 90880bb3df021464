import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useDeferredValue } from "react";
import type { Schemas } from "../../api/client";
import { benchCardQuery, laterQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { addDays, shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useAddress } from "../../ui/hooks";
import { BatchCode, Faults, Sheet } from "../../ui/parts";
import { Figures } from "./Figures";
import { MixedInRows, PartRows } from "./MixRows";

type Card = Schemas["BenchCardOut"];

/** What is pricked out, potted, spaced or thinned in the span, each with its card. */
export function BenchCards() {
  const { span, today } = useSpan();
  const navigate = useNavigate();
  const { later } = useAddress();
  const { data = [] } = useQuery(laterQuery(useDeferredValue(addDays(span.start, span.days))));
  if (!data.length && !later) return null;
  return (
    <section className="mt-8" aria-label="After sowing">
      <div className="flex flex-wrap items-baseline gap-3 border-rule border-b pb-1">
        <h2>After sowing</h2>
        <span className="note flex-1">{few(data.length, "card")} to prick out, pot, space or thin by</span>
      </div>
      <table className="tbl">
        <tbody>
          {data.map((one) => (
            <tr key={`${one.batch_id} ${one.stage}`}>
              <td className="whitespace-nowrap">
                {shortDay(one.on)} {one.on < today ? <b className="note">late</b> : null}
              </td>
              <td className="whitespace-nowrap">
                <BatchCode code={one.code} />
              </td>
              <td>{one.crop}</td>
              <td className="num">{count(one.many)}</td>
              <td>
                <Link to="/sowing" search={{ later: `${one.batch_id}.${one.stage}` }}>
                  {one.name}
                </Link>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {later ? (
        <Sheet open title="Bench card" onClose={() => navigate({ to: "/sowing", search: {} })}>
          <BenchCard asked={later} />
        </Sheet>
      ) : null}
    </section>
  );
}

function BenchCard({ asked }: { asked: string }) {
  const dot = asked.indexOf(".");
  const [batch, stage] = [asked.slice(0, dot), asked.slice(dot + 1)];
  const { data: card, error } = useQuery(benchCardQuery(batch, stage));
  if (error) return <Faults error={error} />;
  if (!card) return <p className="text-ink3">Fetching …</p>;
  return (
    <article aria-label={`Card ${card.code}, ${card.name}`}>
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 className="text-h1">{card.title}</h2>
        <BatchCode code={card.code} />
      </div>
      <p className="text-ink2">{sentence(card)}</p>
      <div className="mt-2 flex flex-wrap gap-3">
        <a className="btn" href={`/api/batches/${batch}/stages/${stage}/card.pdf`} target="_blank" rel="noreferrer">
          Print on A5
        </a>
        <Link className="btn" to="/batches/$id" params={{ id: String(card.batch_id) }}>
          {card.done ? "To the batch" : "Record it at the batch"}
        </Link>
      </div>
      <Figures rows={card.figures} />
      {card.parts.length ? (
        <section className="mt-3">
          <h3 className="font-semibold">Mix: {card.mix}</h3>
          <table className="tbl">
            <tbody>
              <PartRows parts={card.parts} />
              <MixedInRows rows={card.mixed_in} />
            </tbody>
          </table>
        </section>
      ) : null}
      {card.work.length ? (
        <section className="mt-3">
          <h3 className="font-semibold">Work</h3>
          <table className="tbl">
            <tbody>
              {card.work.map((one) => (
                <tr key={one.words}>
                  <td>
                    {one.words}
                    {one.uses ? `; with ${one.uses}` : ""}
                  </td>
                  <td className="note">{one.part}</td>
                  <td className="num">{one.minutes ? few(one.minutes, "minute") : ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      ) : null}
      {card.next.length ? (
        <section className="mt-3">
          <h3 className="font-semibold">Then</h3>
          <table className="tbl">
            <tbody>
              {card.next.map((one) => (
                <tr key={one.words}>
                  <td>{one.words}</td>
                  <td className="num note">{one.day_words}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      ) : null}
      {card.watch_for.length ? <p className="mt-3">Watch for: {card.watch_for.join(". ")}.</p> : null}
      {card.cautions.length ? (
        <section className="mt-3 border-ink border-l-4 pl-3">
          <h3 className="font-semibold">Take care</h3>
          {card.cautions.map((caution) => (
            <p key={caution}>{caution}</p>
          ))}
          <p className="note">Follow the label and local rules.</p>
        </section>
      ) : null}
    </article>
  );
}

/** Where from, where to, into what and how far apart. */
function sentence(card: Card): string {
  const stays = card.from_place === card.place;
  const way = [
    card.from_place && !stays ? `out of ${card.from_place}` : "",
    card.place ? `${stays ? "in" : "into"} ${card.place}` : "",
  ];
  const where = way.filter(Boolean).join(" ");
  const how = [card.container, card.apart_words].filter(Boolean).join(", ");
  return `${[`${card.done ? "Done " : ""}${card.day_words}`, where, how].filter(Boolean).join("; ")}.`;
}
