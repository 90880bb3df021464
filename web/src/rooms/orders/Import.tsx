import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { waitingQuery } from "../../api/queries";
import { shortDay, windowWords } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, RoomHead } from "../../ui/parts";
import { KEPT } from "./kept";
import { OwnWords, Together } from "./Together";

type Row = Schemas["RowIO"];
type Checked = Schemas["CheckedOut"];
const MANY = 150;
const COLUMNS: [keyof Row, string, string][] = [
  ["order", "Order", "w-20"],
  ["customer", "Customer", "w-40"],
  ["crop", "Crop", "w-28"],
  ["cultivar", "Cultivar", "w-28"],
  ["form", "Form", "w-32"],
  ["container", "Container", "w-28"],
  ["seed_class", "Class", "w-24"],
  ["quantity", "Quantity", "w-24"],
  ["due", "Due", "w-28"],
  ["until", "Until", "w-24"],
  ["note", "Note", "w-36"],
];

/** Bring orders in: every problem is named by row and column, and nothing is taken in until all are settled. */
export function Import() {
  const navigate = useNavigate();
  const may = useMay();
  const [text, setText] = useState("");
  const [checked, setChecked] = useState<Checked | null>(
    () => JSON.parse(sessionStorage.getItem(KEPT) ?? "null") as Checked | null,
  );
  const [rows, setRows] = useState<Row[]>(checked?.rows ?? []);
  const [edited, setEdited] = useState(false);
  const file = useRef<HTMLInputElement>(null);
  const got = (answer: Checked) => {
    setChecked(answer);
    setRows(answer.rows);
    setEdited(false);
  };
  useEffect(() => {
    if (checked) sessionStorage.setItem(KEPT, JSON.stringify({ ...checked, rows }));
    else sessionStorage.removeItem(KEPT);
  }, [checked, rows]);
  const paste = useMutation({
    mutationFn: () => take(api.POST("/api/orders/import/paste", { body: { text } })),
    onSuccess: got,
  });
  const upload = useMutation({
    mutationFn: (chosen: File) =>
      take(
        api.POST("/api/orders/import/file", {
          body: { file: "" },
          bodySerializer: () => {
            const form = new FormData();
            form.append("file", chosen);
            return form;
          },
        }),
      ),
    onSuccess: got,
  });
  const check = useMutation({
    mutationFn: (now: Row[]) => take(api.POST("/api/orders/import/check", { body: { rows: now } })),
    onSuccess: (answer) => {
      setChecked((old) => ({
        ...answer,
        waited: old?.waited ?? [],
        lines: old?.lines.length === answer.rows.length ? old.lines : answer.lines,
      }));
      setEdited(false);
    },
  });
  // Somebody may have been away to add what was missing.
  const again = useRef(Boolean(checked?.faults.length));
  useEffect(() => {
    if (again.current) check.mutate(rows);
    again.current = false;
  }, [check, rows]);
  const { data: waiting } = useQuery({ ...waitingQuery, enabled: !checked });
  const takeIn = useSave(
    async () => {
      const body = {
        rows,
        keep: Boolean(problems.length || checked?.waited.length),
        waited: checked?.waited ?? [],
        plan: true,
      };
      const taken = await take(api.POST("/api/orders", { body }));
      if (may("batches.plan") && taken.lines.length)
        await take(api.POST("/api/batches/plan-lines", { body: { lines: taken.lines } }));
      return taken;
    },
    () => {
      setChecked(null);
      sessionStorage.removeItem(KEPT);
      navigate({ to: "/orders" });
    },
  );
  const leaveOut = useSave(
    () => take(api.POST("/api/orders/waiting/let-go", { body: { waiting: checked?.waited ?? [] } })),
    () => setChecked(null),
  );
  const problems = checked?.faults ?? [];
  const bad = new Set(problems.map((fault) => fault.row));
  const held = rows.length - bad.size;
  // Of a long list those with problems are worked on; the rest is there to be looked at.
  const [all, setAll] = useState(false);
  const shown = new Set(
    rows
      .map((_, index) => index)
      .filter((index) => all || !bad.size || bad.has(index))
      .slice(0, all ? rows.length : MANY),
  );
  const planned = may("batches.plan") ? "Take in and plan" : "Take in";
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Bring in orders"
        note="From a spreadsheet: paste it, or choose a CSV or XLSX file. No order is saved before you say so; what words mean here is kept at once."
      />
      {checked ? null : (
        <div className="grid max-w-4xl gap-3">
          {waiting?.rows.length ? (
            <p className="flex flex-wrap items-center gap-3 border-ink border-l-4 pl-3">
              {few(waiting.rows.length, "row")} {waiting.rows.length === 1 ? "waits" : "wait"} to be understood.
              <button type="button" className="btn btn-decide" onClick={() => got(waiting)}>
                Go on with {waiting.rows.length === 1 ? "it" : "them"}
              </button>
            </p>
          ) : null}
          <label className="field">
            <span>Paste rows with their headings</span>
            <textarea
              className="input min-h-40 py-1"
              value={text}
              onChange={(event) => setText(event.target.value)}
              placeholder={"Order\tCustomer\tCrop\tForm\tQuantity\tDue"}
            />
          </label>
          <div className="flex flex-wrap items-center gap-3">
            <button
              type="button"
              className="btn"
              disabled={!text.trim() || paste.isPending}
              onClick={() => paste.mutate()}
            >
              Read what is pasted
            </button>
            <label className="flex items-center gap-2">
              or a file
              <input
                ref={file}
                type="file"
                accept=".csv,.txt,.tsv,.xlsx"
                onChange={(event) => {
                  const chosen = event.target.files?.[0];
                  if (chosen) upload.mutate(chosen);
                  event.target.value = "";
                }}
              />
            </label>
          </div>
          <Faults error={paste.error ?? upload.error} />
          <p className="note">
            Headings that are understood: Order, Customer, Crop, Cultivar, Form, Container, Quantity, Due (a day or a
            week), Until, Note. Crop, Form, Quantity and Due are needed; without a Customer it is for own use.
          </p>
        </div>
      )}
      <OwnWords onDone={() => (checked ? check.mutate(rows) : undefined)} />
      {checked ? (
        <>
          <div className="flex flex-wrap items-center gap-3 pb-2" aria-live="polite">
            <p className="text-h2">
              {count(rows.length)} rows read,{" "}
              {problems.length ? (
                <b>
                  {problems.length} {problems.length === 1 ? "problem" : "problems"} in {bad.size}{" "}
                  {bad.size === 1 ? "row" : "rows"}
                </b>
              ) : (
                <b>no problem</b>
              )}
              .
            </p>
            {problems.length || edited ? (
              <button type="button" className="btn" disabled={check.isPending} onClick={() => check.mutate(rows)}>
                Check again
              </button>
            ) : null}
            {rows.length && !edited && (held || !checked.waited.length) ? (
              <button
                type="button"
                className={`btn ${problems.length ? "" : "btn-decide"}`}
                disabled={takeIn.isPending}
                onClick={() => takeIn.mutate(undefined)}
              >
                {problems.length
                  ? held
                    ? `${planned} ${held}; keep ${bad.size} waiting`
                    : `Keep ${bad.size} waiting`
                  : `${planned} ${count(rows.length)} lines`}
              </button>
            ) : null}
            {rows.length || !checked.waited.length ? null : (
              <button type="button" className="btn" onClick={() => leaveOut.mutate(undefined)}>
                Leave them out for good
              </button>
            )}
            <button type="button" className="btn" onClick={() => setChecked(null)}>
              {checked.waited.length ? "Let them wait" : "Start over"}
            </button>
            <Faults error={check.error ?? takeIn.error ?? leaveOut.error} />
          </div>
          {problems.length ? (
            <Together
              checked={checked}
              rows={rows}
              onRows={(now) => {
                setRows(now);
                check.mutate(now);
              }}
            />
          ) : null}
          {rows.length > MANY ? (
            <p className="note mb-1">
              {shown.size} of {count(rows.length)} rows shown{all || !bad.size ? "" : ", those with problems"}.{" "}
              <button type="button" className="btn-link" onClick={() => setAll(!all)}>
                {all ? "Only those with problems" : "Show all"}
              </button>
            </p>
          ) : null}
          <section className="overflow-x-auto" aria-label="Rows read" tabIndex={0}>
            <table className="tbl">
              <thead>
                <tr>
                  <th scope="col">Line</th>
                  {COLUMNS.map(([key, words]) => (
                    <th scope="col" key={key}>
                      {words}
                    </th>
                  ))}
                  <th scope="col">Understood as</th>
                  <th scope="col">
                    <span className="sr-only">Leave out</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {rows.map((row, index) => {
                  const understood = checked.understood[index];
                  if (!shown.has(index)) return null;
                  return (
                    <tr key={index}>
                      <td className="note">{checked.lines[index] ?? index + 1}</td>
                      {COLUMNS.map(([key, words, width]) => {
                        const fault = problems.find((f) => f.row === index && f.column === key);
                        return (
                          <td key={key} id={`cell-${index}-${key}`}>
                            <input
                              className={`input ${width}`}
                              aria-label={`${words}, line ${checked.lines[index] ?? index + 1}`}
                              aria-invalid={Boolean(fault)}
                              title={fault?.message}
                              value={row[key] ?? ""}
                              onChange={(event) => {
                                setRows(
                                  rows.map((old, n) => (n === index ? { ...old, [key]: event.target.value } : old)),
                                );
                                setEdited(true);
                              }}
                            />
                          </td>
                        );
                      })}
                      <td className="note whitespace-nowrap">
                        {understood && !edited
                          ? `${count(understood.quantity)} ${understood.unit} ${[understood.crop, understood.cultivar].filter(Boolean).join(" ")}, ${[understood.form, understood.container].filter(Boolean).join(", ")}, ${windowWords(understood.due_from, understood.due_last)}${understood.due_from === understood.due_last ? "" : ` from ${shortDay(understood.due_from)}`}`
                          : ""}
                      </td>
                      <td>
                        <button
                          type="button"
                          className="btn-link"
                          onClick={() => {
                            const left = rows.filter((_, n) => n !== index);
                            setRows(left);
                            // Each row keeps the line that it has in the file.
                            setChecked((old) => old && { ...old, lines: old.lines.filter((_, n) => n !== index) });
                            check.mutate(left);
                          }}
                        >
                          leave out
                          <span className="sr-only"> line {checked.lines[index] ?? index + 1}</span>
                        </button>
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </section>
        </>
      ) : null}
    </div>
  );
}
