import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { calibrationQuery, machinesQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { count, grams } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { MachineForm } from "./MachineForm";

type Calibration = Schemas["CalibrationOut"];
type Trial = Schemas["TrialOut"];

/** The sower of a batch: how it stands, and the sheet on which it is set. */
export function Sower({ card }: { card: Schemas["CardOut"] }) {
  const [open, setOpen] = useState(false);
  const may = useMay();
  if (!card.trays || !card.grams) return null;
  const closed = card.state === "delivered" || card.state === "abandoned";
  return (
    <section className="mt-3 flex flex-wrap items-baseline gap-x-3 border-hair border-b pb-2">
      <h2>Sower</h2>
      <span className="min-w-0 flex-1 basis-64">
        {card.sower ? (
          <>
            <b>{card.sower.name}.</b> {card.sower.words}
          </>
        ) : (
          <span className="note">not set for it yet</span>
        )}
      </span>
      {may("diary.do") && !closed ? (
        <button type="button" className="btn" onClick={() => setOpen(true)}>
          {card.sower ? "Go on setting it" : "Set the sower"}
        </button>
      ) : null}
      {open ? (
        <Sheet open onClose={() => setOpen(false)} title={`Set the sower for ${card.code}`} wide>
          <Setting card={card} />
        </Sheet>
      ) : null}
    </section>
  );
}

function Setting({ card }: { card: Schemas["CardOut"] }) {
  const { data: machines, error } = useQuery(machinesQuery);
  const [chosen, setChosen] = useState<number | null>(card.sower?.machine_id ?? null);
  const [form, setForm] = useState<"add" | "change" | null>(null);
  const may = useMay();
  if (!machines) return error ? <Faults error={error} /> : <p role="status">Reading the sowers …</p>;
  const usable = machines.filter((one) => !one.retired || one.id === chosen);
  const machine = usable.find((one) => one.id === chosen) ?? usable[0];
  const done = () => setForm(null);
  return (
    <div className="grid gap-4">
      <div className="flex flex-wrap items-end gap-3">
        {usable.length ? (
          <Field label="With">
            <select
              className="input phone"
              value={String(machine?.id ?? "")}
              onChange={(event) => setChosen(Number(event.target.value))}
            >
              {usable.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </select>
          </Field>
        ) : (
          <p>No sower is described yet: from where to where its dial goes, and which way.</p>
        )}
        {may("places.edit") ? (
          <>
            <button type="button" className="btn-link" onClick={() => setForm(form === "add" ? null : "add")}>
              add a sower
            </button>
            {machine ? (
              <button type="button" className="btn-link" onClick={() => setForm(form === "change" ? null : "change")}>
                change this one
              </button>
            ) : null}
          </>
        ) : null}
      </div>
      {form === "add" ? <MachineForm key="add" onDone={done} /> : null}
      {form === "change" && machine ? <MachineForm key={machine.id} machine={machine} onDone={done} /> : null}
      {machine ? <Trials key={machine.id} card={card} machine={machine} /> : null}
    </div>
  );
}

function Trials({ card, machine }: { card: Schemas["CardOut"]; machine: Schemas["MachineOut"] }) {
  const { data, error } = useQuery(calibrationQuery(card.batch_id, machine.id));
  const [right, setRight] = useState<Trial | null>(null);
  if (!data) return error ? <Faults error={error} /> : <p role="status">Reading what was caught …</p>;
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[1fr_20rem] lg:grid-rows-[auto_1fr]">
      <div className="min-w-0">
        <p className={`text-[1.15rem] leading-7 ${data.fault ? "border-ink border-l-4 pl-3" : ""}`} role="status">
          {data.settled ? <b>{data.sentence}</b> : data.sentence}
        </p>
        {data.warnings
          .filter((one) => one !== data.sentence)
          .map((one) => (
            <p key={one} className="border-ink border-l-4 pl-3">
              {one}
            </p>
          ))}
        <Curve data={data} />
      </div>
      <div className="lg:col-start-2 lg:row-span-2 lg:row-start-1">
        <h2 className="mb-2">{right ? `Put right: ${grams(right.grams)} at ${right.setting}` : "One more tray"}</h2>
        <TrialForm key={right?.id ?? "more"} card={card} data={data} right={right} onDone={() => setRight(null)} />
        {right ? (
          <button type="button" className="btn-link mt-2" onClick={() => setRight(null)}>
            leave it
          </button>
        ) : null}
        <p className="note mt-4">
          A tray is to catch {grams(data.target_g)} ± {grams(data.tolerance_g)}. Seed is weighed as it is sown: where it
          was soaked it is heavier, so say then what a tray is to catch.
        </p>
        {machine.note ? <p className="note mt-2">{machine.note}</p> : null}
        <p className="note mt-2">Keep fingers and sleeves out of a running sower; stop it before you clear it.</p>
      </div>
      <div className="min-w-0">
        <TrialTable data={data} onRight={setRight} />
      </div>
    </div>
  );
}

function TrialForm({
  card,
  data,
  right,
  onDone,
}: {
  card: Schemas["CardOut"];
  data: Calibration;
  right: Trial | null;
  onDone: () => void;
}) {
  const { machine } = data;
  const proposed = (told: Calibration) =>
    told.next_setting === null ? "" : String(Number(told.next_setting.toFixed(2)));
  const start = {
    setting: right ? String(right.setting) : proposed(data),
    grams: right ? String(right.grams) : "",
    uneven: right && !right.even ? "yes" : "",
    target: "",
    reason: "",
  };
  const ask = useAsk({
    start,
    again: false,
    onDone: (told: Calibration) => {
      ask.form.reset({ ...start, grams: "", uneven: "", setting: proposed(told) });
      onDone();
    },
    save: ({ uneven, ...typed }: typeof start, uuid) =>
      take(
        api.POST("/api/batches/{batch_id}/trials", {
          params: { path: { batch_id: card.batch_id } },
          body: { ...typed, machine_id: machine.id, even: uneven !== "yes", uuid, replaces: right?.id ?? null },
        }),
      ),
  });
  // What somebody else caught meanwhile moves the setting, but never what is being typed here.
  const { isDirty } = ask.form.formState;
  const next = start.setting;
  useEffect(() => {
    if (!isDirty) ask.form.resetField("setting", { defaultValue: next });
  }, [next]);
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  const path = { batch_id: card.batch_id };
  const put = (told: Schemas["WeighedOut"]) => ask.form.setValue("grams", String(told.grams));
  const weigh = useSave(
    () => take(api.POST("/api/machines/{machine_id}/weigh", { params: { path: { machine_id: machine.id } } })),
    put,
  );
  const practise = useSave(
    () =>
      take(
        api.POST("/api/batches/{batch_id}/practise", {
          params: { path },
          body: { machine_id: machine.id, setting: typed.setting, evenly: typed.uneven !== "yes" },
        }),
      ),
    put,
  );
  return (
    <AskForm
      ask={ask}
      button={right ? "Put it right" : "Write it down"}
      big="phone"
      disabled={!typed.grams || weigh.isPending || practise.isPending}
    >
      <AskField
        ask={ask}
        name="setting"
        label={`Setting, ${machine.setting_min} to ${machine.setting_max}`}
        className="phone"
        digits
      />
      {machine.simulated && !right ? (
        <button
          type="button"
          className="btn phone w-fit"
          disabled={practise.isPending}
          onClick={() => practise.mutate(undefined)}
        >
          Sow a tray for practice
        </button>
      ) : null}
      <AskField ask={ask} name="grams" label="The tray caught" hint="g, or with its unit" className="phone" digits />
      {machine.has_scale && !machine.simulated && !right ? (
        <button
          type="button"
          className="btn phone w-fit"
          disabled={weigh.isPending}
          onClick={() => weigh.mutate(undefined)}
        >
          Read the scale
        </button>
      ) : null}
      <Faults error={weigh.error ?? practise.error} />
      <AskField ask={ask} name="uneven" label="Not walked evenly: it does not count" type="check" />
      {right ? (
        <AskField ask={ask} name="reason" label="Why was it wrong" />
      ) : (
        <AskField ask={ask} name="target" label="A tray is to catch" hint={`as planned ${grams(data.target_g)}`} />
      )}
    </AskForm>
  );
}

function TrialTable({ data, onRight }: { data: Calibration; onRight: (trial: Trial) => void }) {
  if (!data.trials.length) return null;
  const off = (trial: Trial) => {
    const part = Math.round((trial.grams / data.target_g - 1) * 100);
    const told = part === 0 ? "as wanted" : `${part > 0 ? "+" : "−"}${Math.abs(part)} %`;
    if (!trial.even) return `${told}, uneven: not counted`;
    return part !== 0 && Math.abs(trial.grams - data.target_g) <= data.tolerance_g ? `${told}, near enough` : told;
  };
  return (
    <table className="tbl mt-2">
      <thead>
        <tr>
          <th scope="col">Tray</th>
          <th scope="col" className="num">
            Set at
          </th>
          <th scope="col" className="num">
            Caught
          </th>
          <th scope="col">Against what is wanted</th>
          <th scope="col">By</th>
          <th scope="col">
            <span className="sr-only">To put it right</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {data.trials.map((trial, n) => (
          <tr key={trial.id}>
            <td>{count(n + 1)}</td>
            <td className="num">{trial.setting}</td>
            <td className="num">{grams(trial.grams)}</td>
            <td>
              {off(trial)}
              {trial.own ? "" : `, for ${trial.batch_code}`}
              {trial.reason ? <span className="note"> put right: {trial.reason}</span> : null}
            </td>
            <td className="note">{trial.by}</td>
            <td className="text-right">
              {trial.own ? (
                <button type="button" className="btn-link" onClick={() => onRight(trial)}>
                  put right
                </button>
              ) : null}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const WIDE = 420;
const HIGH = 190;
const LEFT = 52;
const FOOT = 30;

/** Catch by setting: the fit as a line, what is wanted as a band, every tray as a mark, and where to set next. */
function Curve({ data }: { data: Calibration }) {
  const { machine, target_g, tolerance_g } = data;
  const top = 1.15 * Math.max(target_g + 2 * tolerance_g, ...data.trials.map((one) => one.grams));
  const x = (at: number) =>
    LEFT + ((at - machine.setting_min) / (machine.setting_max - machine.setting_min)) * (WIDE - LEFT - 12);
  const y = (g: number) => 8 + (1 - Math.min(g, top) / top) * HIGH;
  const shown = data.curve.filter((one) => one.grams <= top);
  const line = shown.map((one, n) => `${n ? "L" : "M"} ${x(one.setting)} ${y(one.grams)}`).join(" ");
  const whole = Array.from(
    { length: 5 },
    (_, n) => machine.setting_min + (n * (machine.setting_max - machine.setting_min)) / 4,
  );
  const next = data.next_setting;
  const said = `Catch by setting. Wanted ${grams(target_g)}. ${data.sentence}`;
  return (
    <svg
      className="mt-2 block w-full max-w-[420px]"
      viewBox={`0 0 ${WIDE} ${HIGH + FOOT + 12}`}
      role="img"
      aria-label={said}
    >
      <rect
        x={LEFT}
        width={WIDE - LEFT - 12}
        y={y(target_g + tolerance_g)}
        height={Math.max(2, y(target_g - tolerance_g) - y(target_g + tolerance_g))}
        className="fill-plan"
      />
      <text x={LEFT - 6} y={y(target_g) + 4} textAnchor="end" className="cond fill-ink text-note">
        {grams(target_g)}
      </text>
      <line x1={LEFT} x2={WIDE - 12} y1={8 + HIGH} y2={8 + HIGH} className="stroke-ink" />
      <text x={LEFT - 6} y={8 + HIGH + 4} textAnchor="end" className="cond fill-ink2 text-note">
        0
      </text>
      {whole.map((at) => (
        <g key={at}>
          <line x1={x(at)} x2={x(at)} y1={8 + HIGH} y2={8 + HIGH + 5} className="stroke-ink" />
          <text x={x(at)} y={8 + HIGH + 20} textAnchor="middle" className="cond fill-ink2 text-note">
            {Number(at.toFixed(2))}
          </text>
        </g>
      ))}
      <path d={line} className="fill-none stroke-ink" strokeWidth={2} />
      {next === null ? null : (
        <>
          <line
            x1={x(next)}
            x2={x(next)}
            y1={8}
            y2={8 + HIGH}
            className="stroke-decide"
            strokeDasharray="5 3"
            strokeWidth={1.5}
          />
          <text
            x={x(next) + (x(next) > WIDE - 90 ? -6 : 6)}
            y={HIGH}
            textAnchor={x(next) > WIDE - 90 ? "end" : "start"}
            className="cond fill-decide stroke-paper text-note font-bold"
            strokeWidth={4}
            style={{ paintOrder: "stroke" }}
          >
            {data.settled ? "settled at" : "set"} {Number(next.toFixed(2))}
          </text>
        </>
      )}
      {data.trials.map((one) => (
        <Mark key={one.id} x={x(one.setting)} y={y(one.grams)} even={one.even} own={one.own} />
      ))}
    </svg>
  );
}

/** A tray: filled where it counts, hollow where it was caught for another batch, a cross where it does not count. */
function Mark({ x, y, even, own }: { x: number; y: number; even: boolean; own: boolean }) {
  if (!even)
    return <path d={`M ${x - 4} ${y - 4} l 8 8 m -8 0 l 8 -8`} className="fill-none stroke-ink" strokeWidth={1.5} />;
  return <circle cx={x} cy={y} r={4} className={own ? "fill-ink" : "fill-paper stroke-ink"} strokeWidth={1.5} />;
}
