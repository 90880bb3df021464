import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { type CSSProperties, lazy, Suspense, useState, useSyncExternalStore } from "react";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { onLater, orLater, waits } from "../../api/later";
import { dayQuery, seasonQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { Door, useGo } from "../../ui/Door";
import { addDays, daysBetween, isoWeek, longDay, shortDay, weekday } from "../../ui/dates";
import { count, few, hours, quantity } from "../../ui/format";
import { useAddress, useMay, useSave } from "../../ui/hooks";
import { BatchCode, Empty, Faults, Field, Pennant, RoomHead, Sheet } from "../../ui/parts";
import { Applied } from "./Applied";
import { PARTS } from "./parts";
import { Running } from "./Running";

type Task = Schemas["TaskOut"];

const AddTask = lazy(() => import("./AddTask").then(({ AddTask }) => ({ default: AddTask })));

/** The morning brief and the day sheet: today by place and time of day, and the next few days. */
export function Diary() {
  const { today } = useSpan();
  const address = useAddress();
  const navigate = useNavigate();
  const day = address.day && /^\d{4}-\d{2}-\d{2}$/.test(address.day) ? address.day : today;
  const setDay = (next: string) =>
    navigate({ to: "/diary", search: (old) => ({ ...old, day: next === today ? undefined : next }) });
  const { data, isError, refetch } = useQuery(dayQuery(day, 1));
  const { data: line } = useQuery(seasonQuery);
  const may = useMay();
  const [add, setAdd] = useState(false);
  const tasks = data?.tasks ?? [];
  const todo = tasks.filter((task) => task.state === "todo").length;
  const late = tasks.filter((task) => task.late).length;
  return (
    <div className="pb-6">
      <div className="px-4">
        <RoomHead
          title={longDay(day)}
          note={
            data
              ? `${few(tasks.length, "task")}, ${todo} still to do${late ? `, ${late} of them overdue` : ""}, ${hours(data.minutes_todo)} of work`
              : ""
          }
        >
          <DayStep day={day} today={today} setDay={setDay} />
          {may("diary.do") ? (
            <button type="button" className="btn" onClick={() => setAdd(true)}>
              Add a task
            </button>
          ) : null}
          <Applied />
          <a href={`/api/day.pdf?day=${day}`} target="_blank" rel="noreferrer">
            Print the sheet
          </a>
        </RoomHead>
      </div>
      {day === today && line ? <Brief line={line} /> : null}
      {day === today ? <Running /> : null}
      {data && line && !tasks.length && !line.decisions.length && !line.ticks.length ? (
        <FirstStep />
      ) : data ? (
        <>
          <Beside rows={data.beside} />
          <Sheets tasks={tasks} />
        </>
      ) : isError ? (
        <p className="flex gap-3 px-4 py-4">
          The tasks of this day did not arrive; nothing is known of them here.
          <button type="button" className="btn-link" onClick={() => void refetch()}>
            Ask again
          </button>
        </p>
      ) : (
        <p className="px-4 py-4 text-ink3">Fetching …</p>
      )}
      {day === today ? <Ahead from={addDays(today, 1)} /> : null}
      {add ? (
        <Suspense fallback={null}>
          <AddTask open onClose={() => setAdd(false)} day={day} />
        </Suspense>
      ) : null}
    </div>
  );
}

/** A house in which nothing is promised yet: what a season begins with. */
function FirstStep() {
  const may = useMay();
  return (
    <div className="px-4">
      <Empty title="The season begins with a promise">
        <p>
          Say what must be delivered, by when and how many: Aldrip works back from it to trays, seed, days and places,
          and each day's work stands here.
        </p>
        <p className="flex flex-wrap gap-3">
          {may("orders.edit") ? (
            <>
              <Link className="btn btn-decide" to="/orders" search={{ new: "1" }}>
                Enter an order
              </Link>
              <Link className="btn" to="/orders/import">
                Paste or import orders
              </Link>
            </>
          ) : null}
          <Link className="btn" to="/places">
            Look at the places
          </Link>
          <Link className="btn" to="/lots">
            Receive seed
          </Link>
        </p>
      </Empty>
    </div>
  );
}

function DayStep({ day, today, setDay }: { day: string; today: string; setDay: (day: string) => void }) {
  return (
    <span className="flex gap-3">
      <button type="button" className="btn-link" onClick={() => setDay(addDays(day, -1))}>
        day before
      </button>
      {day === today ? null : (
        <button type="button" className="btn-link" onClick={() => setDay(today)}>
          today
        </button>
      )}
      <button type="button" className="btn-link" onClick={() => setDay(addDays(day, 1))}>
        day after
      </button>
    </span>
  );
}

const FIRST = 5;

/** Decisions that wait, the most urgent first, each with its last useful day. */
function Brief({ line }: { line: Schemas["SeasonLineOut"] }) {
  const [all, setAll] = useState(false);
  const shown = all ? line.decisions : line.decisions.slice(0, FIRST);
  if (!line.decisions.length && !line.ticks.length) return null;
  if (!line.decisions.length)
    return <p className="border-rule border-b px-4 pb-3 text-ink2">Nothing waits for a decision.</p>;
  return (
    <section aria-label="Morning brief" className="grid border-rule border-b pb-2 lg:grid-cols-[104px_1fr]">
      <div className="px-4 lg:pr-0">
        <h2>
          Morning
          <br className="hidden lg:inline" /> brief
        </h2>
        <span className="note">
          {line.decisions.length} {line.decisions.length === 1 ? "decision" : "decisions"}
        </span>
      </div>
      <ul className="min-w-0 px-4 lg:pl-0">
        {shown.map((decision) => (
          <li
            key={decision.title + decision.link}
            className="flex flex-wrap items-center gap-x-4 gap-y-1 border-hair border-b py-0.5"
          >
            <span className="w-24 flex-none">
              {decision.by ? (
                <Pennant later={daysBetween(line.today, decision.by) > 6 - weekday(line.today)}>
                  by {shortDay(decision.by)}
                </Pennant>
              ) : (
                <span className="note">any day</span>
              )}
            </span>
            <span className="min-w-0 flex-1 basis-64">{decision.sentence}</span>
            {decision.effect ? <span className="cond text-ink2 text-note">{decision.effect}</span> : null}
            <Door className="btn lg:!min-h-6" link={decision.link}>
              {decision.action}
            </Door>
          </li>
        ))}
        {line.decisions.length > FIRST ? (
          <li className="py-1">
            <button type="button" className="btn-link" onClick={() => setAll(!all)}>
              {all ? "show fewer" : `show all ${line.decisions.length}`}
            </button>
          </li>
        ) : null}
      </ul>
    </section>
  );
}

/** What is to be done on the day and is no task to be ticked: it follows from what is planned, and goes when that is done. */
function Beside({ rows }: { rows: Schemas["BesideOut"][] }) {
  if (!rows.length) return null;
  return (
    <ul className="border-hair border-b px-4 py-2" aria-label="Beside the tasks">
      {rows.map((one) => (
        <li key={one.words} className="flex flex-wrap gap-x-3">
          <span className="cond w-20 text-note capitalize">{one.part}</span>
          <Door link={one.link}>{one.wrong ? <b>{one.words}</b> : one.words}</Door>
        </li>
      ))}
    </ul>
  );
}

function Sheets({ tasks }: { tasks: Task[] }) {
  const places = [...new Set(tasks.map((task) => task.place || "Anywhere"))];
  // A part of the day in which nothing is to be done takes no more room than its name.
  const columns = PARTS.map((part) => (tasks.some((task) => task.part_of_day === part) ? "1fr" : "72px"));
  const grid = { "--parts": `104px ${columns.join(" ")}` } as CSSProperties;
  if (!places.length) return <p className="px-4 py-4 text-ink2">No task stands on this day.</p>;
  return (
    <section aria-label="Day sheet" style={grid}>
      <div className="hidden grid-cols-(--parts) border-rule border-b lg:grid">
        <span />
        {PARTS.map((part) => (
          <b key={part} className="cond px-2 py-1 text-note capitalize">
            {part}
          </b>
        ))}
      </div>
      {places.map((place) => (
        <div key={place} className="grid border-hair border-b lg:grid-cols-(--parts)">
          <h2 className="px-4 pt-2 text-room lg:pr-0">{place}</h2>
          {PARTS.map((part) => {
            const own = tasks.filter((task) => (task.place || "Anywhere") === place && task.part_of_day === part);
            return (
              <ul
                key={part}
                aria-label={`${place}, ${part}`}
                className={`px-4 lg:px-2 lg:py-1 ${own.length ? "py-1" : ""} ${part === "early" || part === "evening" ? "lg:bg-frame" : ""}`}
              >
                {own.map((task) => (
                  <TaskRow key={task.id} task={task} />
                ))}
              </ul>
            );
          })}
        </div>
      ))}
    </section>
  );
}

const MARKS: Record<string, string> = { todo: "☐", done: "☑", partly: "◪", not_done: "☒", held: "▥" };

/** What is recorded where it belongs: its tick follows from the record, and the plan from what happened. */
const RECORDED: Record<string, string> = {
  sow: "Record the sowing on its card",
  move: "Record the move at the batch",
  stack: "Record it at the batch",
  pot: "Record the potting at the batch",
  space: "Record the spacing at the batch",
  count: "Enter the count at the batch",
  grade: "Grade it in Deliveries",
  deliver: "Hand it over in Deliveries",
};
const recordOf = (task: Task) => (task.subject_kind === "batch" && task.subject_id ? RECORDED[task.kind] : undefined);

const STATE_WORDS = { todo: "Still to do", partly: "Partly", done: "Done", not_done: "Not done" } as const;

/** The card of a batch's work, where it has one. */
function cardOf(task: Task): string {
  if (task.kind === "sow") return `/sowing?card=${task.subject_id}`;
  if (task.card) return `/sowing?later=${task.subject_id}.${task.stage}`;
  return `/batches/${task.subject_id}`;
}

/** Where it is recorded. */
function recordLink(task: Task): string {
  if (task.kind === "sow") return `/sowing?card=${task.subject_id}`;
  if (task.kind === "grade" || task.kind === "deliver") return "/deliveries";
  return `/batches/${task.subject_id}${task.kind === "count" ? "?do=count" : ""}`;
}

type State = "todo" | "partly" | "done" | "not_done";

function useMark(task: Task, onDone?: () => void) {
  return useSave(async (marked: { state: State; note?: string; took?: string; much?: string }) => {
    const body = {
      state: marked.state,
      note: marked.note ?? task.note,
      minutes_spent: marked.took ?? "",
      quantity_done: marked.much ?? "",
    };
    // A tick in a house without a signal waits on this device; it is sent under its key, once.
    await orLater(
      (key) =>
        take(
          api.POST("/api/tasks/{task_id}/mark", {
            params: { path: { task_id: task.id } },
            body,
            headers: { "Idempotency-Key": key },
          }),
        ),
      { path: `/api/tasks/${task.id}/mark`, body, words: `${STATE_WORDS[marked.state]}: ${task.words}` },
    );
  }, onDone);
}

/** A task: a tap on its box is done as planned, a tap on its number another amount; the rest in its sheet. */
function TaskRow({ task }: { task: Task }) {
  const may = useMay();
  const [open, setOpen] = useState(false);
  const mark = useMark(task);
  const go = useGo();
  const mayDo = may("diary.do");
  const here = useSyncExternalStore(onLater, waits)
    .filter((one) => one.path === `/api/tasks/${task.id}/mark`)
    .at(-1);
  const todo = task.state === "todo" && !here;
  const atOnce = todo && !recordOf(task);
  return (
    <li className={`flex items-start gap-1 py-0.5 ${task.state === "done" ? "text-ink3" : ""}`}>
      <button
        type="button"
        aria-label={`${task.state_words}: ${task.words}. ${atOnce ? "Done as planned" : todo ? (recordOf(task) ?? "") : "Change"}`}
        className="-ml-1 grid size-7 flex-none place-items-center font-sans text-h2 leading-4 max-lg:size-11"
        disabled={!mayDo || mark.isPending}
        onClick={() => {
          if (atOnce) mark.mutate({ state: "done" });
          else if (todo && recordOf(task)) go(recordLink(task));
          else setOpen(true);
        }}
      >
        {MARKS[here ? (here.body as { state: State }).state : todo && task.held ? "held" : task.state]}
      </button>
      <span className="min-w-0 pt-1 max-lg:pt-2.5">
        {task.late ? <b>overdue since {shortDay(task.due_from)}: </b> : null}
        {todo && task.held ? <b>held: </b> : null}
        {task.state === "partly" || task.state === "not_done" ? <b>{task.state_words}: </b> : null}
        {mayDo && todo ? (
          <button
            type="button"
            className="text-left hover:underline"
            aria-label={`${task.words}: otherwise than planned`}
            onClick={() => setOpen(true)}
          >
            {task.title}
          </button>
        ) : (
          task.title
        )}
        {task.quantity ? ", " : ""}
        {task.quantity && mayDo && atOnce ? (
          <Amount task={task} save={(much) => mark.mutate({ state: "done", much })} />
        ) : task.quantity ? (
          `${count(task.quantity)} ${task.unit}`
        ) : null}{" "}
        {task.subject_kind === "batch" && task.subject_id ? (
          <Door link={todo ? cardOf(task) : `/batches/${task.subject_id}`}>
            <BatchCode code={task.subject_code} />
          </Door>
        ) : null}{" "}
        {task.minutes ? <span className="note">{hours(task.minutes)}</span> : null}
        {task.every ? <span className="note"> every {few(task.every, "day")}</span> : null}
        {task.planned_for ? (
          <span className="note block">planned for {shortDay(task.planned_for)}, waits for what comes before it</span>
        ) : null}
        {todo && task.held ? <span className="note block">{task.held}</span> : null}
        {task.note ? <span className="note block">{task.note}</span> : null}
        {task.done_by ? (
          <span className="note block">
            {worked(task)}{" "}
            {mayDo && !recordOf(task) ? (
              <button type="button" className="btn-link" onClick={() => mark.mutate({ state: "todo" })}>
                undo<span className="sr-only">: {task.words}</span>
              </button>
            ) : null}
          </span>
        ) : null}
        {task.caution && todo ? <span className="note block font-semibold text-ink2">{task.caution}</span> : null}
        {here ? <span className="note block">recorded on this device, waits for the server</span> : null}
        <Faults error={mark.error} />
      </span>
      {open ? <MarkTask task={task} onClose={() => setOpen(false)} /> : null}
    </li>
  );
}

/** The planned number; pressed, it takes what was really done, and Enter is the tick. */
function Amount({ task, save }: { task: Task; save: (much: string) => void }) {
  const [typed, setTyped] = useState<string | null>(null);
  if (typed === null)
    return (
      <button
        type="button"
        className="whitespace-nowrap border-rule border-b border-dotted"
        aria-label={`${task.title}: another amount than ${count(task.quantity)} ${task.unit}`}
        onClick={() => setTyped("")}
      >
        {count(task.quantity)} {task.unit}
      </button>
    );
  return (
    <form
      className="inline-flex items-center gap-1"
      onSubmit={(event) => {
        event.preventDefault();
        if (typed.trim()) save(typed);
      }}
    >
      <input
        className="input !h-7 !w-20"
        aria-label={`How much was done of ${task.title}`}
        inputMode="decimal"
        placeholder={count(task.quantity)}
        value={typed}
        ref={(field) => field?.focus()}
        onChange={(event) => setTyped(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && setTyped(null)}
      />
      {task.unit}
      <button type="submit" className="btn-link">
        done
      </button>
    </form>
  );
}

/** Who did it, how much of it, and how long it took. */
function worked(task: Task): string {
  const done = task.quantity_done === null ? "" : quantity(task.quantity_done, task.unit);
  return [
    task.done_by,
    done && task.quantity !== null && task.quantity !== task.quantity_done
      ? `${done} of ${quantity(task.quantity, task.unit)}`
      : "",
    done && task.quantity === null ? done : "",
    task.minutes_spent === null ? "" : `${count(task.minutes_spent)} min`,
  ]
    .filter(Boolean)
    .join(", ");
}

function MarkTask({ task, onClose }: { task: Task; onClose: () => void }) {
  const [note, setNote] = useState(task.note);
  const [took, setTook] = useState(task.minutes_spent?.toString() ?? "");
  const [much, setMuch] = useState(task.state === "partly" ? (task.quantity_done?.toString() ?? "") : "");
  const save = useMark(task, onClose);
  const mark = { ...save, mutate: (state: State) => save.mutate({ state, note, took, much }) };
  const error = mark.error instanceof ApiError ? mark.error : null;
  const link = recordLink(task);
  return (
    <Sheet open onClose={onClose} title={task.title}>
      <p>{task.words}</p>
      {task.caution ? (
        <p className="mt-2 border-ink border-l-4 pl-3 font-semibold">
          {task.caution}. Follow the label and local rules.
        </p>
      ) : null}
      {recordOf(task) && task.state === "todo" ? (
        <p className="mt-3">
          <Door className="btn phone" link={link}>
            {recordOf(task)}
          </Door>
          <span className="note mt-1 block">That ticks this task, and the plan follows what happened.</span>
        </p>
      ) : null}
      <div className="mt-4 grid gap-3">
        <div className="grid grid-cols-2 items-start gap-3">
          <Field
            label="How much was done"
            hint={task.quantity ? `planned ${quantity(task.quantity, task.unit)}` : "if it matters"}
            fault={error?.of("quantity_done")}
          >
            <input className="input phone" value={much} onChange={(e) => setMuch(e.target.value)} />
          </Field>
          <Field
            label="How long it took"
            hint={task.minutes ? `planned ${count(task.minutes)} min` : "in minutes, or “1.5 h”"}
            fault={error?.of("minutes_spent")}
          >
            <input className="input phone" value={took} onChange={(e) => setTook(e.target.value)} />
          </Field>
        </div>
        <Field label="Note" fault={error?.of("note")}>
          <input className="input phone" value={note} onChange={(e) => setNote(e.target.value)} />
        </Field>
        <Faults error={mark.error} fields={["quantity_done", "minutes_spent", "note"]} />
        <div className="flex flex-wrap gap-3">
          <button type="button" className="btn phone" onClick={() => mark.mutate("done")}>
            ☑ Done
          </button>
          <button type="button" className="btn phone" onClick={() => mark.mutate("partly")}>
            ◪ Partly
          </button>
          <button type="button" className="btn phone" onClick={() => mark.mutate("not_done")}>
            ☒ Not done
          </button>
          {task.state === "todo" ? null : (
            <button type="button" className="btn phone" onClick={() => mark.mutate("todo")}>
              ☐ Still to do
            </button>
          )}
        </div>
      </div>
    </Sheet>
  );
}

/** The next days, a line a day. */
function Ahead({ from }: { from: string }) {
  const { span } = useSpan();
  const days = Math.min(9, Math.max(4, span.days));
  const { data } = useQuery(dayQuery(from, days));
  const tasks = (data?.tasks ?? []).filter((task) => task.state === "todo");
  const named = [...new Set(tasks.map((task) => task.due_from))].filter((day) => day >= from).sort();
  if (!named.length) return null;
  return (
    <section className="px-4 pt-4" aria-label="The next days">
      <h2>The next days</h2>
      <table className="tbl">
        <tbody>
          {named.map((day) => (
            <tr key={day}>
              <th scope="row" className="w-24">
                {shortDay(day)} <span className="note">w {isoWeek(day).week}</span>
              </th>
              <td>
                {tasks
                  .filter((task) => task.due_from === day)
                  .map((task) => (
                    <span key={task.id} className="mr-4 inline-block">
                      {task.title}
                      {task.quantity ? `, ${count(task.quantity)} ${task.unit}` : ""}{" "}
                      <span className="note">{task.place}</span>
                    </span>
                  ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
