import { useState, useSyncExternalStore } from "react";
import { api, entryId, type Schemas, take } from "../../api/client";
import { onLater, orLater, waits } from "../../api/later";
import { AskField, AskForm } from "../../ui/AskForm";
import { Door } from "../../ui/Door";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, LotCode, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { leftWords, wallClock, withWaiting } from "./clockTimes";

type Clock = Schemas["ClockOut"];

/** One clock with wet hands: what is left, the next step, what the thermometer reads, the end. */
export function ClockSheet({
  clock: given,
  data,
  now,
  onClose,
}: {
  clock: Clock;
  data: Schemas["RunningOut"];
  now: number;
  onClose: () => void;
}) {
  const later = useSyncExternalStore(onLater, waits);
  const { clock, waiting, ended } = withWaiting(given, later);
  const may = useMay();
  const moment = () => new Date(now).toISOString();
  const act = useSave(
    async (one: { what: "step" | "end"; words: string; body: object }) => {
      const path = `/api/clocks/${clock.id}/${one.what}`;
      const body = { ...one.body, at: moment(), uuid: entryId() };
      await orLater(
        () =>
          one.what === "step"
            ? take(
                api.POST("/api/clocks/{clock_id}/step", {
                  params: { path: { clock_id: clock.id } },
                  body: body as Schemas["ClockStepIn"],
                }),
              )
            : take(
                api.POST("/api/clocks/{clock_id}/end", {
                  params: { path: { clock_id: clock.id } },
                  body: body as Schemas["ClockEndIn"],
                }),
              ),
        { path, body, words: `${one.words}: ${clock.name} ${clock.subject_code}` },
      );
    },
    () => undefined,
  );
  const step = clock.steps[clock.step];
  const next = clock.steps[clock.step + 1];
  const until = Date.parse(clock.until);
  const runs = !clock.ended_at && !ended;
  const [broken, setBroken] = useState(false);
  return (
    <Sheet open onClose={onClose} title={clock.name}>
      <p>
        {clock.of}{" "}
        {clock.subject_kind === "lot" && clock.subject_id ? (
          <Door link={`/lots?lot=${clock.subject_id}`}>
            <LotCode code={clock.subject_code} />
          </Door>
        ) : null}
      </p>
      {clock.uses ? <p>{clock.uses}. Follow the label.</p> : null}
      {runs ? (
        <p className="mt-2" role="timer">
          <b className="block text-[2.5rem] leading-[3rem]">
            {until > now ? leftWords(until - now) : `over by ${leftWords(now - until)}`}
          </b>
          {step?.name}
          {step?.at_c !== null && step?.at_c !== undefined ? `, ${step.at_c} ± ${step.give_c} °C` : ""}, since{" "}
          {wallClock(Date.parse(clock.since), data.zone, now)}
        </p>
      ) : (
        <p className="mt-2">{clock.sentence || "Ended on this device; waits for the server."}</p>
      )}
      {step?.caution && runs ? (
        <p className="mt-2 border-ink border-l-4 pl-3 font-semibold">
          {step.caution}. Follow the label and local rules.
        </p>
      ) : null}
      {waiting ? <p className="note">recorded on this device, waits for the server</p> : null}
      {clock.strayed.length && runs ? (
        <p className="mt-2 border-ink border-l-4 pl-3">{clock.strayed.join("; ")}</p>
      ) : null}
      {may("clocks.run") && runs ? (
        <div className="mt-3 grid gap-3">
          {next ? (
            <button
              type="button"
              className={`btn phone !min-h-14 text-left ${until <= now ? "btn-decide" : ""}`}
              disabled={act.isPending}
              onClick={() => act.mutate({ what: "step", words: next.name, body: { step: clock.step + 1 } })}
            >
              Now: {next.name.toLowerCase()}
            </button>
          ) : (
            <button
              type="button"
              className={`btn phone !min-h-14 text-left ${until <= now ? "btn-decide" : ""}`}
              disabled={act.isPending}
              onClick={() => act.mutate({ what: "end", words: "Ended", body: {} })}
            >
              It is over
            </button>
          )}
          <Faults error={act.error} />
          {clock.steps.some((one) => one.at_c !== null) ? <Read clock={clock} at={moment} /> : null}
          {broken ? (
            <BreakOff
              save={(note) => act.mutate({ what: "end", words: "Broken off", body: { broken_off: true, note } })}
            />
          ) : (
            <button type="button" className="btn-link w-fit" onClick={() => setBroken(true)}>
              break it off
            </button>
          )}
        </div>
      ) : null}
      <Steps clock={clock} zone={data.zone} now={now} />
      <Readings clock={clock} zone={data.zone} now={now} />
    </Sheet>
  );
}

function Steps({ clock, zone, now }: { clock: Clock; zone: string; now: number }) {
  if (clock.steps.length < 2) return null;
  return (
    <ol className="mt-4">
      {clock.steps.map((step, n) => (
        <li key={step.name} className={n < clock.step ? "text-ink3" : n === clock.step ? "font-semibold" : ""}>
          {n + 1}. {step.name}, {step.lasts}
          {step.at_c === null ? "" : ` at ${step.at_c} °C`}
          {step.begun_at ? (
            <span className="note"> begun {wallClock(Date.parse(step.begun_at), zone, now)}</span>
          ) : null}
        </li>
      ))}
    </ol>
  );
}

function BreakOff({ save }: { save: (note: string) => void }) {
  const [note, setNote] = useState("");
  return (
    <form
      className="grid gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        save(note);
      }}
    >
      <Field label="Why is it broken off">
        <input className="input phone" value={note} maxLength={300} onChange={(e) => setNote(e.target.value)} />
      </Field>
      <button type="submit" className="btn phone w-fit" disabled={!note.trim()}>
        Break it off
      </button>
    </form>
  );
}

/** What the thermometer reads, kept on the device where there is no signal. */
function Read({ clock, at }: { clock: Clock; at: () => string }) {
  const start = { temp: "" };
  const ask = useAsk({
    start,
    save: ({ temp }: typeof start, uuid) => {
      const body = { temp, at: at(), uuid };
      return orLater(
        () =>
          take(
            api.POST("/api/clocks/{clock_id}/warmth", {
              params: { path: { clock_id: clock.id } },
              body: { ...body, reason: "" },
            }),
          ),
        { path: `/api/clocks/${clock.id}/warmth`, body, words: `${temp} °C: ${clock.name} ${clock.subject_code}` },
      );
    },
  });
  return (
    <AskForm ask={ask} button="Write it down" big="phone" className="flex flex-wrap items-end gap-2">
      <AskField ask={ask} name="temp" label="The thermometer reads" hint="°C, or “122 F”" className="phone" digits />
    </AskForm>
  );
}

function Readings({ clock, zone, now }: { clock: Clock; zone: string; now: number }) {
  const [right, setRight] = useState<number | null>(null);
  const may = useMay();
  if (!clock.readings.length) return null;
  return (
    <table className="tbl mt-4">
      <thead>
        <tr>
          <th scope="col">Read</th>
          <th scope="col" className="num">
            °C
          </th>
          <th scope="col">By</th>
          <th scope="col">
            <span className="sr-only">To put it right</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {clock.readings.map((one) => (
          <tr key={one.id}>
            <td>{wallClock(Date.parse(one.at), zone, now)}</td>
            <td className="num">{one.temp_c.toFixed(1)}</td>
            <td className="note">
              {one.by}
              {one.reason ? `; put right: ${one.reason}` : ""}
            </td>
            <td className="text-right">
              {right === one.id ? (
                <PutRight clock={clock} of={one} onDone={() => setRight(null)} />
              ) : may("clocks.run") ? (
                <button type="button" className="btn-link" onClick={() => setRight(one.id)}>
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

function PutRight({ clock, of, onDone }: { clock: Clock; of: Schemas["ClockReadOut"]; onDone: () => void }) {
  const start = { temp: String(of.temp_c), reason: "" };
  const ask = useAsk({
    start,
    onDone,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/clocks/{clock_id}/warmth", {
          params: { path: { clock_id: clock.id } },
          body: { ...typed, replaces: of.id, uuid },
        }),
      ),
  });
  return (
    <AskForm ask={ask} button="Put it right" className="grid gap-2 text-left">
      <AskField ask={ask} name="temp" label="It read" hint="°C" digits />
      <AskField ask={ask} name="reason" label="Why was it wrong" />
    </AskForm>
  );
}

/** A clock of one's own. */
export function NewClock({ onClose }: { onClose: () => void }) {
  const start = { name: "", minutes: "", at_c: "" };
  const ask = useAsk({
    start,
    onDone: onClose,
    save: (typed: typeof start, uuid) => {
      const body = { ...typed, at: new Date().toISOString(), uuid };
      return orLater(() => take(api.POST("/api/clocks", { body })), {
        path: "/api/clocks",
        body,
        words: `Clock: ${typed.name}`,
      });
    },
  });
  return (
    <Sheet open onClose={onClose} title="Start a clock">
      <AskForm ask={ask} button="Start it" big="phone">
        <AskField ask={ask} name="name" label="What runs" hint="“Curing, tunnel 2”" className="phone" needed />
        <AskField ask={ask} name="minutes" label="For how long" hint="minutes, or “24 h”" className="phone" needed />
        <AskField ask={ask} name="at_c" label="At" hint="°C, where that matters" className="phone" digits />
      </AskForm>
      <p className="note mt-3">
        A treatment of a lot is begun at the lot, under Lots: then nothing of it leaves before it has ended.
      </p>
    </Sheet>
  );
}
