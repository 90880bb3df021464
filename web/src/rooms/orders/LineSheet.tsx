import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { batchQuery, libraryQuery, standingQuery } from "../../api/queries";
import { type Command, useProposal } from "../../shell/proposal";
import { useSpan } from "../../shell/span";
import { shortDay } from "../../ui/dates";
import { chance, count, quantity } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { BatchCode, Faults, Field, LotCode, Sheet } from "../../ui/parts";
import { WhatWasDone } from "../../ui/TakeBack";
import { formsOf } from "./forms";

type Line = Schemas["OrderLineOut"];
type Ask = (command: Omit<Command, "line">) => void;

/** One order line: what it asks, what serves it, and what can be done to it; each change shows what it does first. */
export function LineSheet({ line, others, onClose }: { line: Line; others: Line[]; onClose: () => void }) {
  const may = useMay();
  const { proposeAll } = useProposal();
  const look = useSave((command: Command) => proposeAll([command]), onClose);
  const open = line.state === "open";
  const edits = open && may("orders.edit");
  const ask: Ask = (command) => look.mutate({ ...command, line: line.id });
  const props = { line, ask, error: look.error, busy: look.isPending };
  return (
    <Sheet open onClose={onClose} title={`Order ${line.order}, line ${line.number}`}>
      <p>
        {line.customer}: {line.crop} {line.cultivar}, {line.form}
        {line.container ? `, ${line.container}` : ""}
      </p>
      {line.problem ? <p className="fault mt-2">{line.problem}</p> : null}
      {open ? <Outcome line={line} /> : null}
      <Serves {...props} may={open && may("proposals")} />
      {edits ? (
        <>
          <ChangeForm {...props} />
          <SplitForm {...props} />
          <JoinForm {...props} others={others.filter((other) => joins(line, other))} />
          <CancelForm {...props} />
        </>
      ) : (
        <p className="mt-3 text-ink2">
          {quantity(line.quantity, line.unit)}, due {shortDay(line.due_from)}
          {line.due_last === line.due_from ? "" : ` to ${shortDay(line.due_last)}`}; {line.state_words}.
        </p>
      )}
      {open && line.problem ? (
        <div className="mt-4 border-ink border-t pt-3">
          <h2>Remedies</h2>
          <Remedies line={line} />
        </div>
      ) : null}
      <WhatWasDone of={[line.uuid]} empty="The line stands as it was taken in." />
    </Sheet>
  );
}

/** What becomes of the line as things stand: its chance, and the ladder of what is raised for it, in small. */
function Outcome({ line }: { line: Line }) {
  const batch = line.batch_ids[0];
  const { data } = useQuery({ ...batchQuery(batch ?? 0), enabled: batch !== undefined });
  const { today } = useSpan();
  if (!line.planned) return null;
  const rungs = data?.rungs.filter((rung) => rung.kind === "stage" || rung.kind === "start") ?? [];
  const most = Math.max(1, ...rungs.map((rung) => Math.log10(Math.max(1, rung.value))));
  return (
    <section aria-label="What becomes of it" className="mt-3 border-ink border-t pt-2">
      <p className="text-h2">
        Chance <b>{chance(line.chance) || "not reckoned yet"}</b>, {count(line.forecast)} {line.unit} forecast
      </p>
      {data ? (
        <>
          <p>
            {data.sow_on >= today ? "Sow" : "Sown"} {data.trays ? `${count(data.trays)} trays` : count(data.start)} on{" "}
            {shortDay(data.sow_on)}, ready {shortDay(data.ready_on)}.
          </p>
          <ul className="mt-1">
            {rungs.map((rung) => (
              <li key={rung.key} className="grid grid-cols-[7rem_1fr_5rem] items-center gap-2">
                <span className="note truncate">{rung.name}</span>
                <span
                  className="block h-2 border-line border-r-[1.5px] bg-stand"
                  style={{ width: `${(Math.log10(Math.max(1, rung.value)) / most) * 100}%` }}
                />
                <span className="text-right">{count(rung.value)}</span>
              </li>
            ))}
          </ul>
        </>
      ) : null}
    </section>
  );
}

interface Part {
  line: Line;
  ask: Ask;
  error: unknown;
  busy: boolean;
}

const faultOf = (error: unknown, name: string) => (error instanceof ApiError ? error.of(name) : undefined);

function joins(line: Line, other: Line): boolean {
  const same = ["crop_id", "cultivar", "form", "container", "seed_class", "unit"] as const;
  return other.state === "open" && same.every((name) => line[name] === other[name]);
}

/** What is typed is looked at before it is kept. */
function See({ busy, children }: { busy: boolean; children: ReactNode }) {
  return (
    <button type="submit" className="btn w-fit" disabled={busy}>
      {children}
    </button>
  );
}

function ChangeForm({ line, ask, error, busy }: Part) {
  const { data: library } = useQuery(libraryQuery);
  const [typed, setTyped] = useState({
    quantity: `${line.quantity}${line.form === "seed" ? ` ${line.unit}` : ""}`,
    due: line.due_from,
    until: line.due_last,
    cultivar: line.cultivar,
    form: line.form,
    container: line.container,
    seed_class: line.seed_class,
    note: line.note,
  });
  const classes = library?.schemes.find((scheme) => scheme.chosen)?.classes ?? [];
  const put = (name: keyof typeof typed) => ({
    className: "input",
    value: typed[name],
    onChange: (event: { target: { value: string } }) => setTyped({ ...typed, [name]: event.target.value }),
  });
  const cultivars = library?.lines.filter((one) => one.crop_id === line.crop_id) ?? [];
  const forms = library ? formsOf(library, line.crop_id) : [];
  const told = ["quantity", "due", "until", "cultivar", "form", "container", "seed_class", "note"];
  return (
    <form
      className="mt-4 grid gap-3 border-ink border-t pt-3"
      aria-label="Change what is asked"
      onSubmit={(event) => {
        event.preventDefault();
        ask({ do: "change", ...typed });
      }}
    >
      <h2>What is asked</h2>
      <Field
        label="Quantity"
        fault={faultOf(error, "quantity")}
        hint={line.form === "seed" ? "2400 kg or 250 g" : "12000, 12,000 or 12k"}
      >
        <input {...put("quantity")} />
      </Field>
      <Field label="Due from" fault={faultOf(error, "due")} hint="A day or a week, such as “week 31”">
        <input {...put("due")} />
      </Field>
      <Field label="Until" fault={faultOf(error, "until")} hint="Empty for the day or the week above">
        <input {...put("until")} />
      </Field>
      <Field label="Cultivar" fault={faultOf(error, "cultivar")} hint="Empty for any">
        <input {...put("cultivar")} list="cultivars-of-line" autoComplete="off" />
      </Field>
      <datalist id="cultivars-of-line">
        {cultivars.map((one) => (
          <option key={one.id} value={one.name} />
        ))}
      </datalist>
      {forms.length > 1 ? (
        <Field label="Form" fault={faultOf(error, "form")}>
          <select {...put("form")}>
            {forms.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </Field>
      ) : null}
      {line.form === "seed" ? (
        <Field label="Class" fault={faultOf(error, "seed_class")} hint="A higher class fills it as well">
          <select {...put("seed_class")}>
            {classes.map((one) => (
              <option key={String(one.slug)} value={String(one.slug)}>
                {String(one.name)}
              </option>
            ))}
          </select>
        </Field>
      ) : (
        <Field label="Container" fault={faultOf(error, "container")}>
          <select {...put("container")}>
            <option value="">the usual one</option>
            {library?.containers.map((one) => (
              <option key={one.id}>{one.name}</option>
            ))}
          </select>
        </Field>
      )}
      <Field label="Note" fault={faultOf(error, "note")}>
        <input {...put("note")} />
      </Field>
      <Faults error={error} fields={told} />
      <See busy={busy}>See what it does</See>
    </form>
  );
}

function Fold({ words, children }: { words: string; children: ReactNode }) {
  return (
    <details className="mt-4">
      <summary className="btn-link cursor-pointer">{words}</summary>
      {children}
    </details>
  );
}

function SplitForm({ ask, error, busy }: Part) {
  const [part, setPart] = useState("");
  const [due, setDue] = useState("");
  return (
    <Fold words="Split some off for another day">
      <form
        className="mt-2 grid gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          ask({ do: "split", quantity: part, due, until: "" });
        }}
      >
        <Field label="How much of it">
          <input className="input" value={part} onChange={(e) => setPart(e.target.value)} />
        </Field>
        <Field label="When" hint="A day or a week; empty for the same">
          <input className="input" value={due} onChange={(e) => setDue(e.target.value)} />
        </Field>
        <Faults error={error} />
        <See busy={busy}>See what splitting does</See>
      </form>
    </Fold>
  );
}

function JoinForm({ others, ask, error, busy }: Part & { others: Line[] }) {
  const [other, setOther] = useState("");
  if (!others.length) return null;
  return (
    <Fold words="Join another line of this order to it">
      <form
        className="mt-2 grid gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          ask({ do: "join", other: Number(other || others[0]?.id) });
        }}
      >
        <Field label="Which line">
          <select className="input" value={other} onChange={(e) => setOther(e.target.value)}>
            {others.map((one) => (
              <option key={one.id} value={one.id}>
                line {one.number}: {quantity(one.quantity, one.unit)}, {shortDay(one.due_from)}
              </option>
            ))}
          </select>
        </Field>
        <p className="note">All of it is then due on the days of this line.</p>
        <Faults error={error} />
        <See busy={busy}>See what joining does</See>
      </form>
    </Fold>
  );
}

function CancelForm({ ask, error, busy }: Part) {
  const [reason, setReason] = useState("");
  return (
    <Fold words="Cancel this line">
      <form
        className="mt-2 grid gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          ask({ do: "cancel", reason });
        }}
      >
        <Field label="Why" fault={faultOf(error, "reason")}>
          <input className="input" value={reason} onChange={(e) => setReason(e.target.value)} />
        </Field>
        <p className="note">What is only planned for it is let go; what stands is promised to nobody then.</p>
        <Faults error={error} fields={["reason"]} />
        <See busy={busy}>See what cancelling does</See>
      </form>
    </Fold>
  );
}

/** What serves the line, and what stands and could. */
function Serves({ line, ask, error, busy, may }: Part & { may: boolean }) {
  const { data } = useQuery({ ...standingQuery(line.id), enabled: may });
  const free = data?.filter((one) => !line.batch_ids.includes(one.batch_id ?? -1)) ?? [];
  if (line.state !== "open") return null;
  return (
    <section className="mt-3" aria-label="Served by">
      {line.planned ? (
        <ul>
          {line.batches.map((code, index) => (
            <Row
              key={code}
              act="take off"
              busy={busy}
              onAct={may ? () => ask({ do: "take_off", batch: line.batch_ids[index] ?? 0 }) : null}
            >
              <Link to="/batches/$id" params={{ id: String(line.batch_ids[index]) }}>
                <BatchCode code={code} />
              </Link>{" "}
              is meant for it
            </Row>
          ))}
          {line.aside.map((code, index) => (
            <Row
              key={code}
              act="put back"
              busy={busy}
              onAct={may ? () => ask({ do: "take_off", lot: line.aside_ids[index] ?? 0 }) : null}
            >
              <Link to="/lots" search={{ lot: String(line.aside_ids[index]) }}>
                <LotCode code={code} />
              </Link>{" "}
              is set aside for it
            </Row>
          ))}
        </ul>
      ) : (
        <p className="flex items-center gap-3">
          Nothing is meant for it yet.
          {may ? (
            <button type="button" className="btn" disabled={busy} onClick={() => ask({ do: "raise" })}>
              Plan it
            </button>
          ) : null}
        </p>
      )}
      {free.length ? (
        <>
          <h2 className="mt-3">Stands, promised to nobody</h2>
          <ul>
            {free.map((one) => (
              <Give key={one.code} one={one} ask={ask} busy={busy} whole={line.planned} />
            ))}
          </ul>
        </>
      ) : null}
      <Faults error={error} fields={["quantity", "due", "until", "cultivar", "form", "container", "note", "reason"]} />
    </section>
  );
}

function Row({
  children,
  act,
  onAct,
  busy,
}: {
  children: ReactNode;
  act: string;
  onAct: (() => void) | null;
  busy: boolean;
}) {
  return (
    <li className="flex items-baseline justify-between gap-3 border-hair border-b py-1">
      <span>{children}</span>
      {onAct ? (
        <button type="button" className="btn-link" disabled={busy} onClick={onAct}>
          {act}
        </button>
      ) : null}
    </li>
  );
}

function Give({ one, ask, busy, whole }: { one: Schemas["StandingForOut"]; ask: Ask; busy: boolean; whole: boolean }) {
  const [typed, setTyped] = useState("");
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-hair border-b py-1">
      {one.batch_id ? (
        <Link to="/batches/$id" params={{ id: String(one.batch_id) }}>
          <BatchCode code={one.code} />
        </Link>
      ) : (
        <Link to="/lots" search={{ lot: String(one.lot_id) }}>
          <LotCode code={one.code} />
        </Link>
      )}
      <span className="flex-1">
        {quantity(one.quantity, one.unit)}{" "}
        <span className="note">
          {one.state}
          {one.batch_id ? `, ready ${shortDay(one.ready_on)}` : ""}
        </span>
      </span>
      <input
        className="input w-24"
        aria-label={`How much of ${one.code}`}
        placeholder={whole ? "how much" : "all it asks"}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
      />
      <button
        type="button"
        className="btn-link"
        disabled={busy}
        onClick={() =>
          ask({ do: "give", quantity: typed, ...(one.batch_id ? { batch: one.batch_id } : { lot: one.lot_id ?? 0 }) })
        }
      >
        give<span className="sr-only"> {one.code}</span>
      </button>
    </li>
  );
}

function Remedies({ line }: { line: Line }) {
  const ask = useSave(() =>
    take(
      api.POST("/api/orders/can-we-take-it", {
        body: {
          crop_id: line.crop_id,
          form: line.form,
          quantity: `${line.quantity} ${line.unit}`,
          due: line.due_from,
          for_line: line.id,
        },
      }),
    ),
  );
  if (!ask.data)
    return (
      <>
        <button type="button" className="btn" disabled={ask.isPending} onClick={() => ask.mutate(undefined)}>
          Work out the remedies
        </button>
        <Faults error={ask.error} />
      </>
    );
  return (
    <ul>
      {ask.data.limits.map((limit) => (
        <li key={limit.sentence} className="fault">
          {limit.sentence}
        </li>
      ))}
      {ask.data.remedies.map((remedy) => (
        <li key={remedy.sentence} className="border-hair border-b py-1">
          {remedy.sentence}
        </li>
      ))}
    </ul>
  );
}
