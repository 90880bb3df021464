import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { Suspense, useDeferredValue } from "react";
import type { Schemas } from "../../api/client";
import { cardQuery, toSowQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { addDays, isoWeek, shortDay } from "../../ui/dates";
import { count, few, quantity } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { BatchCode, Empty, LotCode, RoomHead } from "../../ui/parts";
import { BenchCards } from "./BenchCards";
import { Chain } from "./Chain";
import { Drinks } from "./Drinks";
import { FeedSection } from "./Feeds";
import { Grafts } from "./Grafts";
import { Media } from "./Media";
import { MixedInRows, PartRows } from "./MixRows";
import { Setts } from "./Setts";
import { SowChecks } from "./SowChecks";
import { Sower } from "./Sower";
import { SownForm } from "./SownForm";
import { Stand } from "./Stand";
import { Trays } from "./Trays";

type Batch = Schemas["BatchOut"];
const HEAD = 22; // px, of a day
const CARD = 33; // px, of a batch

/** What was done with what a batch is begun with. */
const DONE: Record<string, string> = { Sow: "sown", Stick: "stuck", Set: "set", Plant: "planted", Graft: "grafted" };

/** The cards of what is to be sown in the span, by day; one card open beside them. */
export function Sowing() {
  const { span, today } = useSpan();
  const navigate = useNavigate();
  const address = useAddress();
  const end = addDays(span.start, span.days);
  const { data: near } = useSuspenseQuery(toSowQuery(useDeferredValue(end), ""));
  const is = (b: Batch) => String(b.id) === address.card || b.uuid === address.card;
  // A card that the address names may be sown already, or much later.
  const elsewhere = address.card !== undefined && !near.some(is);
  const { data: named } = useQuery({ ...toSowQuery(end, address.card ?? ""), enabled: elsewhere });
  const data = (elsewhere ? named : undefined) ?? near;
  const rows = data
    .filter((b) => b.state === "planned" && b.way === "plants" && b.sow_on < end)
    .sort((a, b) => a.sow_on.localeCompare(b.sow_on) || a.id - b.id);
  const chosen = data.find(is) ?? (elsewhere && !named ? undefined : rows[0]);
  const ofDay = Map.groupBy(rows, (row) => row.sow_on);
  const days = [...ofDay.keys()];
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Sowing"
        note={`${few(rows.length, "batch", "batches")} to sow until ${shortDay(addDays(end, -1))}`}
      />
      {rows.length || chosen ? (
        <div className="grid gap-6 lg:grid-cols-[300px_1fr]">
          <nav aria-label="Cards by day">
            {days.map((day) => (
              // A day out of sight is laid out when it comes into sight: a season has thousands of cards.
              <section
                key={day}
                className="mb-3 [content-visibility:auto]"
                style={{ containIntrinsicSize: `auto ${HEAD + CARD * (ofDay.get(day)?.length ?? 0)}px` }}
              >
                <h2 className="border-rule border-b">
                  {shortDay(day)}, week {isoWeek(day).week}{" "}
                  {day === today ? (
                    <span className="note">today</span>
                  ) : day < today ? (
                    <b className="note">late</b>
                  ) : null}
                </h2>
                {ofDay.get(day)?.map((row) => (
                  <button
                    type="button"
                    key={row.id}
                    aria-current={row.id === chosen?.id}
                    className={`flex w-full items-baseline gap-2 border-hair border-b py-1.5 text-left ${row.id === chosen?.id ? "border-l-4 border-l-ink bg-panel pl-2" : ""}`}
                    onClick={() => navigate({ to: "/sowing", search: { card: String(row.id) } })}
                  >
                    <BatchCode code={row.code} />
                    <span className="flex-1">{row.crop}</span>
                    <span className="note">{row.trays ? `${count(row.trays)} trays` : count(row.start)}</span>
                  </button>
                ))}
              </section>
            ))}
          </nav>
          {chosen ? (
            <Suspense fallback={<div className="text-ink3">Fetching …</div>}>
              <Card key={chosen.id} batch={chosen} />
            </Suspense>
          ) : null}
        </div>
      ) : (
        <Empty title="Nothing to sow in this span">
          <p>
            Planned batches stand here by their sowing day, each with its card: lot, grams, trays, mix, water, where the
            trays go next.
          </p>
          <Link className="btn" to="/orders">
            Go to orders
          </Link>
        </Empty>
      )}
      <BenchCards />
      <Trays />
      <Media />
      <FeedSection />
    </div>
  );
}

function Card({ batch }: { batch: Batch }) {
  const { data: card } = useSuspenseQuery(cardQuery(batch.id));
  const { show } = useWorking();
  const may = useMay();
  const big = "text-[1.75rem] font-bold leading-8";
  return (
    <article aria-label={`Sowing card ${card.code}`} className="max-w-3xl">
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 className="text-h1">
          {card.verb} {card.crop.toLowerCase()} {card.cultivar}
        </h2>
        <BatchCode code={card.code} />
        <span className="flex-1" />
        <Link to="/batches/$id" params={{ id: String(card.batch_id) }}>
          Ladder
        </Link>
        <a href={`/api/batches/${card.batch_id}/card.pdf`} target="_blank" rel="noreferrer">
          Print on A5
        </a>
        {card.trays ? (
          <a href={`/api/batches/${card.batch_id}/tray-labels.pdf`} target="_blank" rel="noreferrer">
            Tray labels
          </a>
        ) : null}
        {card.trays ? (
          <a href={`/api/batches/${card.batch_id}/tray-labels.pdf?roll=true`} target="_blank" rel="noreferrer">
            on a roll
          </a>
        ) : null}
      </div>
      <p className="text-ink2">
        {card.day_words}, {card.place.toLowerCase()}. For {card.orders_words}.
      </p>
      <dl className="mt-3 grid grid-cols-1 gap-4 border-rule border-y py-3 sm:grid-cols-3">
        <div>
          <dt className="note">{card.container}</dt>
          <dd className={big}>{card.trays_words}</dd>
        </div>
        <div>
          <dt className="note">{card.units_note}</dt>
          <dd className={big}>{card.units_words}</dd>
        </div>
        {card.grams ? (
          <div>
            <dt className="note">
              {card.lot ? (
                <>
                  <LotCode code={card.lot} /> {card.lot_left === null ? "" : quantity(card.lot_left, card.lot_unit)}{" "}
                  left
                </>
              ) : (
                <b>no lot chosen yet</b>
              )}
            </dt>
            <dd className={big}>{card.grams_words}</dd>
          </div>
        ) : null}
      </dl>
      <div className="mt-3 grid gap-6 sm:grid-cols-2">
        <section>
          <h2>Medium: {card.mix}</h2>
          <table className="tbl">
            <tbody>
              <PartRows parts={card.parts} />
              <tr>
                <td>
                  <b>in all</b> <span className="note">{card.medium_note}</span>
                </td>
                <td className="num">
                  <button
                    type="button"
                    className="btn-link font-bold"
                    onClick={() =>
                      show({ title: "medium", value: `${(card.litres ?? 0).toFixed(1)} L`, steps: card.working }, true)
                    }
                  >
                    {(card.litres ?? 0).toFixed(1)} L
                  </button>
                </td>
              </tr>
              <MixedInRows rows={card.mixed_in} />
              <PartRows parts={card.more_media} />
            </tbody>
          </table>
          {card.filled_from.map((one) => (
            <p key={one.words}>
              Filled from <b>{one.code}</b> <span className="note">{one.words}</span>
            </p>
          ))}
        </section>
        <section>
          <h2>Where the trays go</h2>
          <table className="tbl">
            <tbody>
              {card.next.map((stage) => (
                <tr key={stage.words}>
                  <td>{stage.words}</td>
                  <td className="num note">{stage.day_words}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
      <section className="mt-3">
        <table className="tbl">
          <tbody>
            {card.steps.map((step) => (
              <tr key={step.label}>
                <th scope="row" className="w-24">
                  {step.label}
                </th>
                <td>{step.words}</td>
              </tr>
            ))}
            {card.watch_for.length ? (
              <tr>
                <th scope="row">Watch for</th>
                <td>{card.watch_for.join(". ")}.</td>
              </tr>
            ) : null}
          </tbody>
        </table>
      </section>
      <Sower card={card} />
      {card.trays ? <Chain card={card} /> : <Setts card={card} />}
      {card.trays ? null : <Stand card={card} />}
      <Drinks batchId={card.batch_id} />
      <Grafts batch={batch} />
      <SowChecks card={card} />
      {card.cautions.length ? (
        <section className="mt-3 border-ink border-l-4 pl-3">
          <h2>Take care</h2>
          {card.cautions.map((caution) => (
            <p key={caution}>{caution}</p>
          ))}
          <p className="note">Follow the label and local rules; licensed work is for licensed people.</p>
        </section>
      ) : null}
      {batch.state === "planned" && may("batches.do") ? (
        <section className="mt-4 border-ink border-t pt-3">
          <h2 className="mb-2">When it is {DONE[card.verb] ?? "begun"}</h2>
          <SownForm batch={batch} />
        </section>
      ) : null}
      {batch.state !== "planned" ? <p className="mt-4 font-semibold">This batch is {batch.state}.</p> : null}
    </article>
  );
}
