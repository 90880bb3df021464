import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useDeferredValue, useMemo, useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { deliveriesQuery, noteQuery, type Ref, ref } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { addDays, daysBetween, shortDay, windowWords } from "../../ui/dates";
import { chance, count, few, promised } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { BatchCode, Empty, Faults, LotCode, Pennant, RoomHead, Sheet } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";
import { WhatWasDone } from "../../ui/TakeBack";
import { useAsk } from "../../ui/useAsk";
import { Grade, GradeLink } from "./Grade";

type Due = Schemas["DueOut"];
const EVER = 3660; // days, as the server takes

export function Deliveries() {
  const { span, today } = useSpan();
  const address = useAddress();
  const days = useDeferredValue(Math.max(1, daysBetween(today, addDays(span.start, span.days))));
  const { data: near } = useSuspenseQuery(deliveriesQuery(days));
  // No more is fetched than is shown, but for what the address names and is due after the span.
  const named =
    (!address.line || near.due.some((line) => String(line.line_id) === address.line)) &&
    (!address.grade || gradingOf(near, address.grade) !== undefined);
  const { data: far } = useQuery({ ...deliveriesQuery(EVER), enabled: !named });
  const data = (named ? undefined : far) ?? near;
  const navigate = useNavigate();
  const end = addDays(span.start, span.days);
  const due = data.due.filter((line) => line.due_from < end);
  const done = data.done;
  const close = () => navigate({ to: "/deliveries", search: ({ note: _, line: __, grade: ___, ...old }) => old });
  const may = useMay();
  const [mayLeaveHere, mayGrade] = [may("deliveries.dispatch"), may("batches.do")];
  const columns = useMemo(() => columnsOf(today, mayLeaveHere, mayGrade), [today, mayLeaveHere, mayGrade]);
  const grading = address.grade ? gradingOf(data, address.grade) : undefined;
  const handing = data.due.find((line) => String(line.line_id) === address.line);
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Deliveries"
        note={`${few(due.length, "line")} due until ${shortDay(addDays(end, -1))}, ${few(done.length, "note")} written`}
      />
      {due.length ? (
        <section aria-label="Due">
          <DueWeeks lines={due} />
          <Table
            name="due"
            label="lines due"
            columns={columns}
            rows={due}
            rowKey={(line) => line.line_id}
            on={(line) => line.line_id === handing?.line_id}
          />
        </section>
      ) : (
        <Empty title="Nothing is due in this span">
          <p>
            Open order lines stand here by their day, with the batches that stand for them. Grade a batch, hand over,
            and the note is written.
          </p>
        </Empty>
      )}
      {data.standing.length ? <Standing rows={data.standing} /> : null}
      {done.length ? (
        <section className="mt-6" aria-label="Handed over">
          <h2>Handed over</h2>
          <table className="tbl max-w-4xl">
            <tbody>
              {done.slice(0, 40).map((row) => (
                <tr key={row.id}>
                  <td className="w-32">{shortDay(row.delivered_on)}</td>
                  <td>
                    <button
                      type="button"
                      className="btn-link"
                      onClick={() => navigate({ to: "/deliveries", search: { note: String(row.id) } })}
                    >
                      note {row.code}
                    </button>
                  </td>
                  <td>
                    order {row.order}, {row.customer}
                  </td>
                  <td className="num">{promised(row.quantity, row.unit)}</td>
                  <td>{row.short ? <b>short by {count(row.short)}</b> : "in full"}</td>
                  <td>
                    <a href={`/api/deliveries/${row.id}/note.pdf`} target="_blank" rel="noreferrer">
                      note and labels
                      <span className="sr-only"> {row.code}</span>
                    </a>
                    {row.declared ? (
                      <>
                        {"; "}
                        <a href={`/api/deliveries/${row.id}/quality-declaration.pdf`} target="_blank" rel="noreferrer">
                          quality declaration
                          <span className="sr-only"> {row.code}</span>
                        </a>
                      </>
                    ) : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      ) : null}
      {handing ? (
        <HandOver
          key={handing.line_id}
          first={handing}
          others={data.due.filter(
            (line) => line.order_id === handing.order_id && line.line_id !== handing.line_id && mayLeave(line, today),
          )}
          onClose={close}
        />
      ) : null}
      {grading && mayGrade ? <Grade key={grading.batch.batch_id} {...grading} onClose={close} /> : null}
      {address.note ? <NoteSheet id={ref(address.note)} onClose={close} /> : null}
    </div>
  );
}

/** What is graded, for which line; a batch that serves several is graded once. */
function gradingOf(data: Schemas["DeliveriesOut"], id: string) {
  for (const line of data.due)
    for (const batch of line.batches)
      if (String(batch.batch_id) === id && batch.state === "sown") return { batch, line };
  const row = data.standing.find((one) => String(one.batch_id) === id && one.state === "sown");
  return row ? { batch: row, line: { crop: row.crop, standard: "" } } : undefined;
}

/** Whether anything of a line could be handed over now. */
const mayLeave = (line: Due, today: string) => line.stock.some((lot) => lot.balance > 0) || line.due_from <= today;

function columnsOf(today: string, may: boolean, mayGrade: boolean): Column<Due>[] {
  return [
    {
      key: "due",
      head: "Due",
      value: (line) => line.due_from,
      cell: (line) => (
        <>
          {windowWords(line.due_from, line.due_last)}{" "}
          {line.due_last < today ? <Pennant>overdue</Pennant> : <span className="note">{shortDay(line.due_from)}</span>}
        </>
      ),
    },
    {
      key: "order",
      head: "Order",
      value: (line) => `${line.order} ${line.customer}`,
      cell: (line) => (
        <>
          <Link to="/orders" search={{ line: String(line.line_id) }}>
            {line.order}
          </Link>{" "}
          {line.customer}
        </>
      ),
    },
    {
      key: "what",
      head: "What",
      value: (line) => `${line.crop} ${line.cultivar}`,
      cell: (line) => (
        <>
          {line.crop} {line.cultivar}, {line.form}
          {line.class_name ? `, ${line.class_name}` : ""}
        </>
      ),
    },
    {
      key: "quantity",
      head: "Quantity",
      value: (line) => line.quantity - line.delivered,
      cell: (line) => (
        <>
          {count(line.quantity - line.delivered)} <span className="note">{line.unit}</span>
        </>
      ),
      num: true,
    },
    {
      key: "chance",
      head: "Chance",
      value: (line) => line.chance,
      cell: (line) => <span className={(line.chance ?? 0) < 0.9 ? "font-bold" : ""}>{chance(line.chance)}</span>,
      num: true,
    },
    {
      key: "standing",
      head: "Standing",
      value: (line) => line.batches.map((batch) => batch.code).join(" "),
      cell: (line) =>
        line.batches.length
          ? line.batches.map((batch) => (
              <div key={batch.batch_id} className="flex flex-wrap items-baseline gap-x-2">
                <Link to="/batches/$id" params={{ id: String(batch.batch_id) }}>
                  <BatchCode code={batch.code} />
                </Link>
                <span className="note">
                  {count(batch.expected)} forecast, ready {shortDay(batch.ready_on)}
                </span>
                {batch.state === "sown" && mayGrade ? <GradeLink batch={batch} /> : null}
              </div>
            ))
          : "",
    },
    {
      key: "stock",
      head: "Graded, in stock",
      value: (line) => line.stock.map((lot) => lot.code).join(" "),
      cell: (line) =>
        line.stock.length
          ? line.stock.map((lot) => (
              <div key={lot.lot_id} className="whitespace-nowrap">
                <Link to="/lots" search={{ lot: String(lot.lot_id) }}>
                  <LotCode code={lot.code} />
                </Link>{" "}
                {count(lot.balance)}
              </div>
            ))
          : "",
    },
    {
      key: "act",
      head: "Now",
      value: () => null,
      cell: (line) =>
        may && mayLeave(line, today) ? (
          <Link to="/deliveries" search={(old) => ({ ...old, line: String(line.line_id) })} className="btn">
            Hand over
            <span className="sr-only"> order {line.order}</span>
          </Link>
        ) : (
          ""
        ),
    },
  ];
}

const WEEK_PX = 26;

/** What is due by the week, on the season line's own axis: each line a mark, bold where its chance is low. */
function DueWeeks({ lines }: { lines: Due[] }) {
  const { scale, span } = useSpan();
  const end = addDays(span.start, span.days);
  const inside = lines.filter((line) => line.due_last >= span.start && line.due_from < end);
  const stacked = new Map<string, number>();
  const marks = inside.map((line) => {
    const day = inside.length && line.due_from >= span.start ? line.due_from : span.start;
    const at = stacked.get(day) ?? 0;
    stacked.set(day, at + 1);
    return { line, day, at };
  });
  const high = Math.min(8, Math.max(1, ...stacked.values()));
  const sure = marks.filter(({ line }) => (line.chance ?? 0) >= 0.9).length;
  if (!marks.length) return null;
  return (
    <svg
      width={scale.width}
      height={high * 6 + WEEK_PX - 12}
      className="-ml-4 block"
      role="img"
      aria-label={`${few(marks.length, "line")} due in these weeks, ${sure} of them with a chance of 90 % or more`}
    >
      {scale.left > 60 ? (
        <text x={16} y={high * 6 + 6} className="cond fill-ink3 text-note">
          hollow: under 90 %
        </text>
      ) : null}
      <line x1={scale.left} x2={scale.left + scale.open} y1={high * 6 + 4} y2={high * 6 + 4} className="stroke-rule" />
      {marks
        .filter(({ at }) => at < high)
        .map(({ line, day, at }) => (
          <rect
            key={line.line_id}
            x={scale.x(day) + 1}
            y={(high - at) * 6 - 3}
            width={Math.max(3, scale.open / span.days - 1)}
            height={4}
            className={(line.chance ?? 0) >= 0.9 ? "fill-stand stroke-line" : "fill-panel stroke-ink"}
            strokeWidth={(line.chance ?? 0) >= 0.9 ? 0.5 : 1.5}
          >
            <title>
              {line.order} {line.customer}: {line.crop}, {shortDay(line.due_from)}, {chance(line.chance) || "unplanned"}
            </title>
          </rect>
        ))}
    </svg>
  );
}

/** What stands with more than is promised of it: graded, given to an order that comes, or ended with its cause. */
function Standing({ rows }: { rows: Schemas["SpareOut"][] }) {
  const may = useMay();
  return (
    <section className="mt-6" aria-label="Promised to nobody">
      <h2>Stands, promised to nobody</h2>
      <p className="note">
        New orders are planned with these first. An order that is there already takes them at its line, in Orders.
      </p>
      <table className="tbl max-w-4xl">
        <tbody>
          {rows.map((row) => (
            <tr key={row.batch_id}>
              <td className="w-32">ready {shortDay(row.ready_on)}</td>
              <td>
                <Link to="/batches/$id" params={{ id: String(row.batch_id) }}>
                  <BatchCode code={row.code} />
                </Link>{" "}
                {row.state === "sown" && may("batches.do") ? <GradeLink batch={row} /> : null}
              </td>
              <td>
                {row.crop} {row.cultivar}, {row.form}
              </td>
              <td className="num">
                {count(row.spare)} <span className="note">{row.unit}</span>
              </td>
              <td>{row.promised ? `beside ${count(row.promised)} promised` : "nothing of it is promised"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** Pick for the line that was pressed, oldest lot first; other lines of its order go along when asked. What is missing needs its cause. */
function HandOver({ first, others, onClose }: { first: Due; others: Due[]; onClose: () => void }) {
  const [along, setAlong] = useState(false);
  return (
    <Sheet open onClose={onClose} title={`Hand over order ${first.order}`}>
      <Picking key={String(along)} lines={along ? [first, ...others] : [first]} onClose={onClose} />
      {others.length && !along ? (
        <button type="button" className="btn phone mt-4 w-fit" onClick={() => setAlong(true)}>
          {few(others.length, "more line")} of this order along with it
        </button>
      ) : null}
    </Sheet>
  );
}

function Picking({ lines, onClose }: { lines: Due[]; onClose: () => void }) {
  const { today } = useSpan();
  const navigate = useNavigate();
  const first = lines[0];
  const start = {
    on: today,
    picks: lines.flatMap((line) =>
      line.stock.map((lot) => ({
        line_id: line.line_id,
        lot_id: lot.lot_id,
        quantity: lot.proposed ? String(lot.proposed) : "",
      })),
    ),
    short: lines.map((line) => ({ line_id: line.line_id, close: "", cause: "" })),
  };
  const ask = useAsk({
    start,
    again: false,
    names: (field) => field.replace(/^(picks\.\d+)\.(lot|line)_id$/, "$1.quantity"),
    save: ({ picks, short, on }: typeof start, client_uuid) =>
      take(
        api.POST("/api/deliveries", {
          body: {
            order_id: first?.order_id ?? 0,
            on,
            picks: picks.map((pick) => ({ ...pick, quantity: pick.quantity.trim() || "0" })),
            short: short.filter((one) => one.close).map(({ line_id, cause }) => ({ line_id, cause })),
            client_uuid,
            note: "",
          },
        }),
      ),
    onDone: (made) => {
      onClose();
      navigate({ to: "/deliveries", search: ({ line: _, ...old }) => ({ ...old, note: String(made.id) }) });
    },
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  if (!first) return null;
  return (
    <AskForm ask={ask} button="Hand over and write the note" className="grid gap-4" big="phone">
      <p>{first.customer}</p>
      {lines.map((line, n) => {
        const left = line.quantity - line.delivered;
        const mine = typed.picks.filter((pick) => pick.line_id === line.line_id);
        const missing = left - mine.reduce((sum, pick) => sum + Number(pick.quantity || 0), 0);
        return (
          <fieldset key={line.line_id} className="border-hair border-t pt-2">
            <legend className="font-semibold">
              {line.crop} {line.cultivar}, {windowWords(line.due_from, line.due_last)}: {count(left)} {line.unit} wanted
            </legend>
            {start.picks.map((pick, at) => {
              const lot = line.stock.find((one) => pick.line_id === line.line_id && one.lot_id === pick.lot_id);
              return lot ? (
                <div key={lot.lot_id}>
                  <AskField
                    ask={ask}
                    name={`picks.${at}.quantity`}
                    label={`From lot ${lot.code}, ${count(lot.balance)} in stock`}
                    className="phone"
                    digits
                  />
                  {lot.barred ? <p className="fault">May not leave today: {lot.barred}.</p> : null}
                </div>
              ) : null;
            })}
            {line.stock.length ? null : <p className="text-ink2">Nothing is graded for it yet.</p>}
            {missing > 0 ? (
              <div className="mt-2 grid gap-2">
                <p className="fault">{count(missing)} are missing.</p>
                <AskField
                  ask={ask}
                  name={`short.${n}.close`}
                  type="check"
                  label="Close the line short; no more will follow"
                />
                {typed.short[n]?.close ? (
                  <AskField ask={ask} name={`short.${n}.cause`} label="Why it is short" needed />
                ) : null}
              </div>
            ) : null}
          </fieldset>
        );
      })}
      <AskField ask={ask} name="on" label="Delivered on" type="date" className="phone" max={today} />
    </AskForm>
  );
}

function NoteSheet({ id, onClose }: { id: Ref; onClose: () => void }) {
  const { data: note, error } = useQuery(noteQuery(id));
  return (
    <Sheet open onClose={onClose} title={note ? `Delivery note ${note.code}` : "Delivery note"}>
      <Faults error={error} />
      {note ? (
        <>
          <p>
            To {note.customer}, order {note.order}, on {shortDay(note.delivered_on)}
          </p>
          <table className="tbl mt-3">
            <thead>
              <tr>
                <th scope="col">What</th>
                <th scope="col">Lot, batch</th>
                <th scope="col" className="num">
                  Quantity
                </th>
              </tr>
            </thead>
            <tbody>
              {note.items.map((item) => (
                <tr key={item.label}>
                  <td>
                    {item.crop} {item.cultivar}
                    <div className="note">
                      {item.form}, label {item.label}
                    </div>
                  </td>
                  <td>
                    <LotCode code={item.lot} /> <BatchCode code={item.batch} />
                  </td>
                  <td className="num">
                    {count(item.quantity)}
                    <div className="note">{item.trays ? `${count(item.trays)} trays` : item.unit}</div>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {note.lines
            .filter((line) => line.missing > 0 && line.cause)
            .map((line) => (
              <p key={line.line} className="fault mt-2">
                Line {line.line}: {count(line.missing)} missing, {line.cause}.
              </p>
            ))}
          <p className="note mt-3">This is the supplier's own note; it is no official certificate.</p>
          <div className="mt-3 flex flex-wrap gap-3">
            <a className="btn" href={`/api/deliveries/${id}/note.pdf`} target="_blank" rel="noreferrer">
              Print note and labels
            </a>
            {note.items.some((item) => item.form === "seed") ? (
              <a
                className="btn"
                href={`/api/deliveries/${id}/quality-declaration.pdf`}
                target="_blank"
                rel="noreferrer"
              >
                Print the quality declaration
              </a>
            ) : null}
          </div>
          <WhatWasDone of={[note.uuid]} />
        </>
      ) : null}
    </Sheet>
  );
}
