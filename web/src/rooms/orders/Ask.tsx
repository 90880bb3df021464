import { useState } from "react";
import { useFieldArray, useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { addDays, isoWeek, shortDay, weekday } from "../../ui/dates";
import { chance, count, few, grams } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { RowCropAndForm, useRaised } from "./CropAndForm";
import { EMPTY, type Typed } from "./NewOrder";

type Row = Typed;
type Told = Schemas["AnswersOut"];
type Answer = Schemas["AnswerOut"];
export type Question = Schemas["QuestionOut"];

/** A kept row as it is typed: a whole week by its number, else its first day. */
function typedAgain(row: Schemas["RowIO"]): Row {
  const week = row.due && weekday(row.due) === 0 && addDays(row.due, 6) === row.until;
  if (week)
    return { ...row, due: `${isoWeek(row.due).year}-W${String(isoWeek(row.due).week).padStart(2, "0")}`, until: "" };
  return row.due === row.until ? { ...row, until: "" } : row;
}

/** Can we take it? One line or several, what limits them and what would cure it; kept as a question, or taken as an order. */
export function Ask({
  open,
  onClose,
  onTake,
  onTaken,
  question,
}: {
  open: boolean;
  onClose: () => void;
  /** One line goes on to the form of a new order. */
  onTake?: ((asked: Partial<Typed>) => void) | undefined;
  /** The first line of what was entered as an order. */
  onTaken?: ((line: number) => void) | undefined;
  /** A question that was kept. */
  question?: Question | undefined;
}) {
  const raised = useRaised(open);
  const may = useMay();
  const [told, setTold] = useState<Told>();
  const whole = (rows: Row[]) =>
    rows.map((row) => {
      const forms = raised.formsOf(row.crop);
      // Another first day is another window: the last day that was kept is of the old one.
      const same = question?.rows.some((one) => one.due === row.due && one.until === row.until);
      return {
        ...row,
        until: same ? row.until : "",
        form: forms.includes(row.form) ? row.form : (forms[0] ?? row.form),
      };
    });
  const ask = useAsk({
    start: { rows: question ? question.rows.map((row) => ({ ...EMPTY, ...typedAgain(row) })) : [EMPTY] },
    again: false,
    onDone: setTold,
    save: ({ rows }) =>
      take(api.POST("/api/orders/questions/ask", { body: { rows: whole(rows), question: question?.id ?? null } })),
  });
  const { fields, append, remove } = useFieldArray({ control: ask.form.control, name: "rows" });
  const rows = (useWatch({ control: ask.form.control, name: "rows" }) ?? []) as Row[];
  const change = (n: number, name: "due" | "quantity", value: string) => {
    ask.form.setValue(`rows.${n}.${name}`, value);
    ask.submit();
  };
  const only = rows.length === 1 && !question ? rows[0] : undefined;
  const first = told?.answers[0];
  return (
    <Sheet
      open={open}
      onClose={onClose}
      title={question ? `The question of ${question.customer}` : "Can we take it?"}
      wide={rows.length > 1}
      ready={!raised.reading}
    >
      <AskForm ask={ask} button="Work it out">
        {fields.map((field, n) => (
          <fieldset
            key={field.id}
            className={
              rows.length > 1 ? "grid grid-cols-2 gap-3 border-hair border-b pb-3 lg:grid-cols-4" : "grid gap-3"
            }
          >
            {rows.length > 1 ? <legend className="sr-only">Line {n + 1}</legend> : null}
            <RowCropAndForm ask={ask} raised={raised} row={rows[n] ?? EMPTY} n={n} />
            <AskField
              ask={ask}
              name={`rows.${n}.quantity`}
              label="How many"
              hint={n ? undefined : "12000, 12,000 or 12k"}
              needed
            />
            <AskField
              ask={ask}
              name={`rows.${n}.due`}
              label="When"
              hint={n ? undefined : "A day or a week, such as “week 36”"}
              needed
            />
            {rows.length > 1 ? (
              <button type="button" className="btn-link w-fit" onClick={() => remove(n)}>
                leave line {n + 1} out
              </button>
            ) : null}
          </fieldset>
        ))}
        <button type="button" className="btn-link w-fit" onClick={() => append({ ...EMPTY })}>
          Another line
        </button>
      </AskForm>
      {told ? (
        <div className="mt-4 grid gap-2 border-ink border-t pt-3" aria-live="polite">
          <p className="text-h2 font-bold">{told.sentence}</p>
          {told.answers.map((answer, n) => (
            <One
              key={`${answer.words} ${n}`}
              answer={answer}
              alone={told.answers.length === 1}
              onClose={onClose}
              onDue={(day) => change(n, "due", day)}
              onQuantity={(many) => change(n, "quantity", String(many))}
            />
          ))}
          <p className="note">Nothing was saved.</p>
          {only && first && onTake && may("orders.edit") ? (
            <button
              type="button"
              className="btn w-fit"
              onClick={() =>
                onTake({
                  crop: only.crop,
                  form: whole([only])[0]?.form ?? "",
                  quantity: only.quantity,
                  due: first.can || !first.earliest ? only.due : first.earliest,
                })
              }
            >
              {first.can || !first.earliest ? "Take the order" : `Take it for ${shortDay(first.earliest)}`}
            </button>
          ) : null}
        </div>
      ) : null}
      {(told || question) && may("orders.edit") ? (
        <GoOn
          rows={whole(rows)}
          standing={told?.answers.flatMap((one) => (one.standing ? [one.standing] : [])) ?? []}
          question={question}
          onClose={onClose}
          onTaken={only ? undefined : onTaken}
        />
      ) : null}
    </Sheet>
  );
}

function One({
  answer,
  alone,
  onClose,
  onDue,
  onQuantity,
}: {
  answer: Answer;
  alone: boolean;
  onClose: () => void;
  onDue: (day: string) => void;
  onQuantity: (many: number) => void;
}) {
  const { show } = useWorking();
  return (
    <section className={alone ? "grid gap-2" : "grid gap-1 pb-2"} aria-label={answer.words}>
      {alone ? null : (
        <h2>
          {answer.words}: {answer.sentence}
        </h2>
      )}
      {answer.nothing_sown ? (
        <p>{answer.standing} would be taken of it.</p>
      ) : answer.can ? (
        <p>
          Ready {shortDay(answer.ready_on)} with a chance of <b>{chance(answer.chance)}</b>:{" "}
          {answer.trays ? `${count(answer.trays)} trays` : count(answer.start)}
          {answer.seed_g ? `, ${grams(answer.seed_g)} of seed` : ""}.{" "}
          <button
            type="button"
            className="btn-link"
            onClick={() => [
              onClose(),
              show({ title: "start", value: count(answer.start), steps: answer.working }, true),
            ]}
          >
            working
          </button>
        </p>
      ) : (
        <p>
          {answer.earliest
            ? `The earliest day is ${shortDay(answer.earliest)}.`
            : "No day in the next half year has the room."}
        </p>
      )}
      {answer.limits.map((limit) => (
        <p key={limit.sentence} className="fault">
          {limit.sentence}
        </p>
      ))}
      {answer.remedies.length && alone ? <h2>Remedies</h2> : null}
      <ul>
        {answer.remedies.map((remedy) => (
          <li key={remedy.sentence} className="flex flex-wrap items-baseline gap-x-3 border-hair border-b py-1">
            <span className="min-w-0 flex-1">{remedy.sentence}</span>
            {remedy.kind === "date" && remedy.ready_on ? (
              <button type="button" className="btn-link" onClick={() => onDue(remedy.ready_on ?? "")}>
                Ask for that day
              </button>
            ) : null}
            {remedy.kind === "standing" && remedy.quantity ? (
              <button type="button" className="btn-link" onClick={() => onQuantity(remedy.quantity ?? 0)}>
                Ask for {count(remedy.quantity)}
              </button>
            ) : null}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Keep what was asked, with what stands held for it; or enter it as an order. */
function GoOn({
  rows,
  standing,
  question,
  onClose,
  onTaken,
}: {
  rows: Row[];
  standing: string[];
  question: Question | undefined;
  onClose: () => void;
  onTaken: ((line: number) => void) | undefined;
}) {
  const may = useMay();
  const keep = useAsk({
    start: { customer: question?.customer ?? "", until: question?.until ?? "", note: question?.note ?? "" },
    again: false,
    save: (typed) =>
      take(
        api.POST("/api/orders/questions", {
          body: { ...typed, rows, question: question?.id ?? null, version: question?.version ?? null },
        }),
      ),
    onDone: onClose,
  });
  const typed = useWatch({ control: keep.form.control });
  const enter = useSave(
    async () => {
      if (question)
        return await take(
          api.POST("/api/orders/questions/{question_id}/take", {
            params: { path: { question_id: question.id } },
            body: { version: question.version, order: "", rows },
          }),
        );
      const customer = typed.customer ?? "";
      const body = { rows: rows.map((row) => ({ ...row, customer })), keep: false, waited: [], plan: true };
      const taken = await take(api.POST("/api/orders", { body: { ...body, series: { every_weeks: "", times: "" } } }));
      if (may("batches.plan")) await take(api.POST("/api/batches/plan-lines", { body: { lines: taken.lines } }));
      return taken;
    },
    (taken) => {
      onClose();
      if (taken.lines[0]) onTaken?.(taken.lines[0]);
    },
  );
  const drop = useSave(
    () =>
      take(
        api.POST("/api/orders/questions/{question_id}/drop", {
          params: { path: { question_id: question?.id ?? 0 } },
          body: { version: question?.version ?? 0, order: "" },
        }),
      ),
    onClose,
  );
  const hold = standing.join(" and ");
  return (
    <div className="mt-4 border-ink border-t pt-3">
      <h2>{question ? "Keep it as it is written now" : "Keep the question"}</h2>
      <AskForm
        ask={keep}
        button={typed.until ? "Hold it, and keep the question" : "Keep the question"}
        className="mt-2 grid gap-3"
      >
        <AskField ask={keep} name="customer" label="Who asks" needed />
        {hold || question?.until ? (
          <AskField
            ask={keep}
            name="until"
            label="Hold what is there until"
            hint={hold ? `${hold}; empty to hold nothing` : "Empty to hold nothing"}
          />
        ) : null}
        <AskField ask={keep} name="note" label="Note" />
      </AskForm>
      {onTaken ? (
        <p className="mt-3 flex flex-wrap items-center gap-3">
          <button
            type="button"
            className="btn btn-decide"
            disabled={enter.isPending || !typed.customer}
            onClick={() => enter.mutate(undefined)}
          >
            {rows.length === 1 ? "Enter this order" : `Enter these ${few(rows.length, "line")}`}
          </button>
          {question ? (
            <button type="button" className="btn" disabled={drop.isPending} onClick={() => drop.mutate(undefined)}>
              Let it go
            </button>
          ) : typed.customer ? null : (
            <span className="note">Write who asks to enter it at once.</span>
          )}
          <Faults error={enter.error ?? drop.error} />
        </p>
      ) : null}
    </div>
  );
}

/** The questions that wait for an answer, over the list of orders. */
export function Questions({ questions, onOpen }: { questions: Question[]; onOpen: (id: number) => void }) {
  const [all, setAll] = useState(false);
  const shown = all ? questions : questions.slice(0, 3);
  return (
    <ul aria-label="Questions that are kept" className="mb-2">
      {shown.map((one) => (
        <li key={one.id} className="flex flex-wrap items-baseline gap-x-2 py-0.5">
          <b>Asked</b> {one.customer}, {one.words}.{" "}
          {one.until ? (
            one.ended ? (
              <b>It was held until {shortDay(one.until)}; what was held is free again.</b>
            ) : (
              <span>
                Held until {shortDay(one.until)}: {one.held}
                {one.missing ? <b>; {one.missing}</b> : ""}.
              </span>
            )
          ) : (
            <span className="note">since {shortDay(one.since)}, nothing is held</span>
          )}
          <button type="button" className="btn-link" onClick={() => onOpen(one.id)}>
            Go on with it
          </button>
        </li>
      ))}
      {questions.length > 3 ? (
        <li>
          <button type="button" className="btn-link" onClick={() => setAll(!all)}>
            {all ? "only the first" : `${questions.length - 3} more`}
          </button>
        </li>
      ) : null}
    </ul>
  );
}
