import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { batchQuery, libraryQuery, lotsQuery, placesForQuery, ref } from "../../api/queries";
import { useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { DayField } from "../../ui/DayField";
import { addDays, shortDay, windowWords } from "../../ui/dates";
import { area, chance, count, few, grams, promised, quantity, share, weighed } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { BatchCode, Faults, LotCode, Pennant } from "../../ui/parts";
import { DoneRows } from "../../ui/TakeBack";
import { textWidth } from "../../ui/textWidth";
import { Doing } from "./Doing";
import { Futures } from "./Futures";
import { Rungs } from "./Rungs";
import { SeedRungs } from "./SeedRungs";
import { WantedForm } from "./WantedForm";

type Batch = Schemas["LadderOut"];

export function Ladder() {
  const { id = "" } = useParams({ strict: false });
  const { data: batch } = useSuspenseQuery(batchQuery(ref(id)));
  const { content, show } = useWorking();
  useEffect(() => {
    // Whoever opens the working before touching a number finds the start explained.
    if (!content)
      show({
        title: "start",
        value: count(batch.start),
        steps: batch.workings.start ?? [],
        // Once it was counted, what will come is no matter of what was planned at its start.
        picture: batch.forecast && batch.counted === null ? <Futures forecast={batch.forecast} /> : undefined,
      });
  }, [content, show, batch]);
  const cultivar = batch.cultivar ? ` ${batch.cultivar}` : "";
  return (
    <div className="pb-8">
      <Where batch={batch} />
      <div className="px-4">
        <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-2">
          <h1>
            {batch.crop}
            {cultivar}, {batch.form}
          </h1>
          <BatchCode code={batch.code} />
          <span className="min-w-0 flex-1 basis-56 text-ink3">
            {batch.orders.length ? <ForOrders batch={batch} /> : "for stock, no order yet"}
          </span>
          {batch.state === "planned" && batch.way === "plants" ? (
            <Link to="/sowing" search={{ card: String(batch.id) }}>
              Sowing card
            </Link>
          ) : null}
          {batch.way === "plants" ? (
            <a href={`/api/batches/${batch.id}/card.pdf`} target="_blank" rel="noreferrer">
              Card as A5
            </a>
          ) : null}
          {batch.way === "plants" && batch.trays ? (
            <a href={`/api/batches/${batch.id}/tray-labels.pdf`} target="_blank" rel="noreferrer">
              Tray labels
            </a>
          ) : null}
          <Pin batch={batch} />
        </div>
        <Says batch={batch} />
        <Assumptions batch={batch} />
        <Rungs batch={batch} />
        {batch.way === "plants" ? null : <SeedRungs batchId={batch.id} />}
        <div className="mt-6 grid grid-cols-1 gap-8 lg:grid-cols-2">
          <Doing batch={batch} />
          <History batch={batch} />
        </div>
      </div>
    </div>
  );
}

/** Whether levelling may move it; only what is planned is ever moved. */
function Pin({ batch }: { batch: Batch }) {
  const may = useMay();
  const pin = useSave((pinned: boolean) =>
    take(api.POST("/api/batches/{batch_id}/pin", { params: { path: { batch_id: batch.id } }, body: { pinned } })),
  );
  if (batch.state !== "planned" || batch.way !== "plants") return null;
  if (!may("batches.plan")) return batch.pinned ? <span className="note">pinned</span> : null;
  return (
    <>
      <button
        type="button"
        className="btn-link"
        disabled={pin.isPending}
        title={batch.pinned ? "Levelling leaves it where it stands." : "Levelling may move it; pinned, it stays."}
        onClick={() => pin.mutate(!batch.pinned)}
      >
        {batch.pinned ? "Pinned: let it move" : "Pin"}
      </button>
      <Faults error={pin.error} />
    </>
  );
}

function ForOrders({ batch }: { batch: Batch }) {
  return (
    <>
      for{" "}
      {batch.orders.map((order, n) => (
        <span key={order.line_id}>
          {n ? "; " : ""}
          <Link to="/orders" search={{ line: String(order.line_id) }}>
            order {order.number}
          </Link>
          , {order.customer}: {promised(order.quantity, order.unit)} in {windowWords(order.due_from, order.due_last)}
        </span>
      ))}
    </>
  );
}

/** Where it stands, on the season line's own axis. */
function Where({ batch }: { batch: Batch }) {
  const { scale, span, today } = useSpan();
  const end = addDays(span.start, span.days);
  const left = scale.left;
  const right = scale.left + scale.open;
  const clamp = (x: number) => Math.min(right, Math.max(left, x));
  const todayX = scale.x(today) + scale.open / span.days / 2;
  const shown = batch.stages.filter((stage) => stage.end > stage.start && stage.end > span.start && stage.start < end);
  const lastDue = batch.orders.map((order) => order.due_last).sort()[0];
  return (
    <div className="relative hidden h-9 border-hair border-b bg-paper lg:block">
      <span className="note absolute top-2 left-4 truncate" style={{ maxWidth: scale.left - 18 }}>
        where it stands
      </span>
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: the words stand in it */}
      <svg width={scale.width} height={36} className="absolute inset-0">
        {shown.map((stage) => {
          const [from, to] = [clamp(scale.x(stage.start)), clamp(scale.x(stage.end))];
          const past = clamp(Math.min(to, Math.max(from, scale.x(today))));
          const name = stage.place || stage.name;
          return (
            <g key={stage.order}>
              <rect x={from} y={9} width={to - from} height={18} className="fill-plan" />
              {batch.state !== "planned" ? (
                <rect x={from} y={9} width={past - from} height={18} className="fill-stand" />
              ) : null}
              <rect x={from} y={9} width={to - from} height={18} className="fill-none stroke-line" />
              <rect x={from} y={9} width={3} height={18} className="fill-line" />
              {to - from > textWidth(name) + 12 ? (
                <text x={from + 7} y={22} className="cond fill-ink text-note">
                  {name}
                </text>
              ) : null}
            </g>
          );
        })}
        {batch.ready_on >= span.start && batch.ready_on < end ? (
          <text x={clamp(scale.x(batch.ready_on)) + 6} y={22} className="cond fill-ink text-note">
            ready {shortDay(batch.ready_on)}
          </text>
        ) : null}
        {lastDue && lastDue >= span.start && lastDue < end && scale.x(lastDue) - scale.x(batch.ready_on) > 96 ? (
          <g>
            <line
              x1={scale.x(addDays(lastDue, 1))}
              x2={scale.x(addDays(lastDue, 1))}
              y1={7}
              y2={29}
              className="stroke-ink"
              strokeWidth={2}
            />
            <text x={scale.x(addDays(lastDue, 1)) + 4} y={22} className="cond fill-ink text-note">
              window ends {shortDay(lastDue)}
            </text>
          </g>
        ) : null}
        {todayX > left && todayX < right ? (
          <line x1={todayX} x2={todayX} y1={0} y2={36} className="stroke-ink" strokeWidth={1.5} />
        ) : null}
      </svg>
    </div>
  );
}

/** How sure the day is on which it is ready, where its method says how long its stages may take. */
function Ready({ batch }: { batch: Batch }) {
  const { show } = useWorking();
  const sure = batch.in_time;
  if (!sure) return null;
  const open = () =>
    show({ title: "ready in time", value: chance(sure.chance), steps: batch.workings.in_time ?? [] }, true);
  return (
    <p>
      Ready {shortDay(sure.ready_on)}, give or take {few(Math.round(sure.give_days), "day")}
      {sure.chance !== null && sure.last_day ? (
        <>
          ; in time for {shortDay(sure.last_day)} with a chance of{" "}
          <button type="button" className="btn-link font-bold" onClick={open}>
            {chance(sure.chance)}
          </button>
          {sure.chance < batch.chance_wanted && sure.days_wanted !== null
            ? `; ${few(sure.days_wanted, "day")} in hand would make it ${chance(batch.chance_wanted)}`
            : ""}
        </>
      ) : (
        <>
          {" "}
          <button type="button" className="btn-link" onClick={open}>
            working
          </button>
        </>
      )}
      .
    </p>
  );
}

/** What the batch has to say: its forecast, and the decision that waits. */
function Says({ batch }: { batch: Batch }) {
  const { show } = useWorking();
  const may = useMay();
  const { forecast, offer } = batch;
  const resow = useSave(() =>
    take(
      api.POST("/api/batches/{batch_id}/resow", {
        params: { path: { batch_id: batch.id } },
        body: { version: batch.version },
      }),
    ),
  );
  const good = weighed(batch.unit) ? `${batch.unit} of clean seed` : "good ones";
  if (batch.state === "delivered" || batch.state === "abandoned") {
    return (
      <p className="border-rule border-y py-2">
        This batch is {batch.state}
        {batch.yield_lot ? (
          <>
            ; its {count(batch.yield_quantity)} {good} were lot <LotCode code={batch.yield_lot} />
          </>
        ) : null}
        .
      </p>
    );
  }
  return (
    <div className="grid gap-2 border-rule border-y py-2">
      {forecast?.needed ? (
        <p>
          {batch.counted !== null && batch.counted !== undefined ? <>Counted {share(batch.counted)}. </> : null}
          {forecast.batches > 1 ? `${forecast.batches} batches together: forecast ` : "Forecast "}
          <b>{count(forecast.expected)}</b> {good} ({count(forecast.low)} to {count(forecast.high)}) of{" "}
          {count(forecast.needed)} promised
          {forecast.short > 0 ? (
            <>
              : <b>short by {count(forecast.short)}</b>
            </>
          ) : null}
          . Chance{" "}
          <button
            type="button"
            className="btn-link font-bold"
            onClick={() =>
              show(
                {
                  title: "chance of the promise",
                  value: chance(forecast.chance),
                  steps: batch.workings.chance ?? [],
                  picture: <Futures forecast={forecast} />,
                },
                true,
              )
            }
          >
            {chance(forecast.chance)}
          </button>
          ,{" "}
          {batch.state === "planned" && may("batches.plan") ? (
            <button
              type="button"
              className="btn-link"
              onClick={() =>
                show(
                  {
                    title: "chance wanted",
                    value: chance(batch.chance_wanted),
                    steps: [],
                    picture: <WantedForm key={batch.version} batch={batch} />,
                  },
                  true,
                )
              }
            >
              wanted {chance(batch.chance_wanted)}
            </button>
          ) : (
            `wanted ${chance(batch.chance_wanted)}`
          )}
          .
        </p>
      ) : (
        <p>
          Forecast <b>{count(batch.expected)}</b> {good}.
        </p>
      )}
      <Ready batch={batch} />
      {offer ? (
        <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
          <Pennant>Decide by {shortDay(offer.last_day)}</Pennant>
          {may("batches.plan") ? (
            <button
              type="button"
              className="btn btn-decide h-8"
              disabled={resow.isPending}
              onClick={() => resow.mutate(undefined)}
            >
              Sow {offer.trays} trays more
            </button>
          ) : null}
          <span>
            on {shortDay(offer.sow_on)}: chance {chance(offer.chance_before)} to <b>{chance(offer.chance_after)}</b>
            {offer.grams ? (
              <>
                , {grams(offer.grams)} of lot <LotCode code={offer.lot || "none"} />
              </>
            ) : null}
            , {area(offer.space)} m² of bench. It helps until <b>{shortDay(offer.last_day)}</b>.
          </span>
          <button
            type="button"
            className="btn-link"
            onClick={() =>
              show({ title: "trays to sow again", value: count(offer.trays), steps: batch.workings.offer ?? [] }, true)
            }
          >
            working
          </button>
          <Faults error={resow.error} />
        </div>
      ) : null}
      {batch.problems.map((problem) => (
        <p key={problem} className="fault">
          {problem}
        </p>
      ))}
      {batch.orders
        .filter((order) => order.problem && order.state === "open")
        .map((order) => (
          <p key={order.line_id} className="fault">
            Order {order.number}: {order.problem}
          </p>
        ))}
      {batch.space.flatMap((place) =>
        place.over.map((run) => (
          <p key={`${place.place_id}${run.start}`} className="fault">
            {place.place} is over by {area(run.amount)} {place.unit} from {shortDay(run.start)} to{" "}
            {shortDay(addDays(run.end, -1))} while this batch stands there.{" "}
            <Link to="/batches" search={{ view: "board", place: String(place.place_id) }}>
              See the board
            </Link>
          </p>
        )),
      )}
    </div>
  );
}

/** What the plan rests on and may be changed: lot, tray, dates, places. Each change is a proposal first. */
function Assumptions({ batch }: { batch: Batch }) {
  const { data: lots } = useQuery(lotsQuery);
  const { data: library } = useQuery(libraryQuery);
  const { propose } = useProposal();
  const may = useMay();
  const [stage, setStage] = useState<string | null>(null);
  const planning = may("batches.plan") && batch.state !== "delivered" && batch.state !== "abandoned";
  const planned = batch.state === "planned";
  const next = batch.next_stage;
  const movable = batch.stages.filter((s) => s.end > s.start && !s.happened && !s.starts);
  const chosen = movable.find((s) => s.key === (stage ?? next)) ?? movable[0];
  const { data: offers } = useQuery({
    ...placesForQuery(batch.id, chosen?.key ?? ""),
    enabled: chosen !== undefined && planning,
  });
  if (!planning) return null;
  return (
    <div className="flex flex-wrap items-end gap-x-5 gap-y-2 border-hair border-b py-2">
      {planned && batch.by_seed ? (
        <label className="field">
          <span className="note">Seed lot</span>
          <select
            className="input !w-60"
            value={batch.lot_id ?? ""}
            onChange={(e) => propose(batch.id, { lot_id: Number(e.target.value) })}
          >
            {batch.lot_id ? null : <option value="">no lot yet</option>}
            {(lots ?? [])
              .filter(
                (lot) =>
                  lot.crop_id === batch.crop_id && lot.form === "seed" && (lot.balance > 0 || lot.id === batch.lot_id),
              )
              .map((lot) => (
                <option key={lot.id} value={lot.id}>
                  {lot.code} {lot.cultivar}, {quantity(lot.balance, lot.unit)}
                  {lot.germination ? `, ${share(lot.germination)}` : ""}
                </option>
              ))}
          </select>
        </label>
      ) : null}
      {planned ? (
        <label className="field">
          <span className="note">Tray</span>
          <select
            className="input !w-40"
            value={batch.container_id ?? ""}
            onChange={(e) => propose(batch.id, { container_id: Number(e.target.value) })}
          >
            {library?.containers.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </select>
        </label>
      ) : null}
      {planned ? (
        <PlanDay label="Sow on" value={batch.sow_on} onPick={(day) => propose(batch.id, { sow_on: day })} />
      ) : null}
      {planned ? (
        <PlanDay label="Ready on" value={batch.ready_on} onPick={(day) => propose(batch.id, { ready_on: day })} />
      ) : null}
      {chosen ? (
        <div className="flex max-w-full flex-wrap items-end gap-1">
          <label className="field">
            <span className="note">Stage</span>
            <select className="input !w-32" value={chosen.key} onChange={(e) => setStage(e.target.value)}>
              {movable.map((s) => (
                <option key={s.key} value={s.key}>
                  {s.name}
                </option>
              ))}
            </select>
          </label>
          <label className="field">
            <span className="note">stands in</span>
            <select
              className="input !w-56 max-w-full"
              value={chosen.place_id ?? ""}
              onChange={(e) => propose(batch.id, { place_id: Number(e.target.value), stage: chosen.key })}
            >
              {chosen.place_id ? null : <option value="">no place</option>}
              {[
                ["of its kind", offers?.filter((one) => one.of_kind)] as const,
                ["elsewhere", offers?.filter((one) => !one.of_kind)] as const,
              ].map(([words, some]) =>
                some?.length ? (
                  <optgroup key={words} label={words}>
                    {some.map((place) => (
                      <option key={place.place_id} value={place.place_id}>
                        {place.name}: {place.words}
                      </option>
                    ))}
                  </optgroup>
                ) : null,
              )}
              {chosen.place_id && offers && !offers.some((one) => one.place_id === chosen.place_id) ? (
                <option value={chosen.place_id}>{chosen.place}</option>
              ) : null}
            </select>
          </label>
        </div>
      ) : null}
      {planned && batch.start_typed ? (
        <button type="button" className="btn-link" onClick={() => propose(batch.id, { back_to_planned: true })}>
          let the start follow the chance again
        </button>
      ) : null}
    </div>
  );
}

function PlanDay({ label, value, onPick }: { label: string; value: string; onPick: (day: string) => void }) {
  const [day, setDay] = useState(value);
  const open = useProposal().proposed !== null;
  // What was dropped or kept leaves the day that stands.
  useEffect(() => {
    if (!open) setDay(value);
  }, [value, open]);
  return (
    <label className="field">
      <span className="note">{label}</span>
      <DayField
        value={day}
        onChange={setDay}
        onDone={() => {
          if (day && day !== value) onPick(day);
        }}
      />
    </label>
  );
}

function History({ batch }: { batch: Batch }) {
  return (
    <section>
      <h2 className="border-rule border-b pb-1">What was done</h2>
      <DoneRows rows={batch.history} empty="Planned with its order; nothing since." />
    </section>
  );
}
