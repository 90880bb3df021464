import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { mediaQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { fullDay, shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useAddress, useMay, useSave } from "../../ui/hooks";
import { BatchCode, Faults, Field, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Medium = Schemas["MediumOut"];

/** Media of the house: what is washed, what passed, and what was sown into it. */
export function Media() {
  const address = useAddress();
  const navigate = useNavigate();
  const [older, setOlder] = useState(false);
  const { data } = useQuery(mediaQuery(older || Boolean(address.medium)));
  const [add, setAdd] = useState(false);
  const may = useMay();
  if (!data) return null;
  const open = (medium?: string) => navigate({ to: "/sowing", search: (old) => ({ ...old, medium }) });
  const chosen = data.find((one) => one.uuid === address.medium || String(one.id) === address.medium);
  return (
    <section className="mt-8" aria-label="Media">
      <div className="flex flex-wrap items-baseline gap-3 border-rule border-b pb-1">
        <h2>Media</h2>
        <span className="note flex-1">
          {data.length ? few(data.length, "lot of medium", "lots of medium") : "none is written down"}
        </span>
        <button type="button" className="btn-link" onClick={() => setOlder(!older)}>
          {older ? "only what there is" : "used up as well"}
        </button>
        {may("diary.do") ? (
          <button type="button" className="btn" onClick={() => setAdd(true)}>
            Add a medium
          </button>
        ) : null}
      </div>
      {data.length ? (
        <ul>
          {data.map((one) => (
            <li key={one.id} className="flex flex-wrap items-baseline gap-x-4 border-hair border-b py-1">
              <button type="button" className="btn-link w-24 text-left" onClick={() => open(one.uuid)}>
                {one.code}
              </button>
              <span className="w-40">{one.name}</span>
              <span className="w-28">
                {count(one.left)} of {count(one.litres)} L
              </span>
              <span className="min-w-0 flex-1 basis-64">
                {one.state === "waits" ? <b>{one.sentence}</b> : one.sentence}
              </span>
              <span className="note">
                {one.readings.length ? `EC ${one.readings.at(-1)?.ec}, pH ${one.readings.at(-1)?.ph}` : ""}
              </span>
            </li>
          ))}
        </ul>
      ) : null}
      {add ? (
        <Sheet open onClose={() => setAdd(false)} title="Add a medium">
          <AddMedium
            onDone={(made) => {
              setAdd(false);
              void open(made.uuid);
            }}
          />
        </Sheet>
      ) : null}
      {chosen ? (
        <Sheet open onClose={() => void open()} title={`${chosen.name} ${chosen.code}`} wide>
          <OneMedium medium={chosen} />
        </Sheet>
      ) : null}
    </section>
  );
}

function AddMedium({ onDone }: { onDone: (made: Medium) => void }) {
  const { today } = useSpan();
  const start = {
    name: "",
    litres: "",
    washed: "yes",
    ph_low: "6",
    ph_high: "6.5",
    ec_below: "0.5",
    since: today,
    note: "",
  };
  const ask = useAsk({
    start,
    onDone,
    again: false,
    names: { limits: "ph_low" },
    save: ({ washed, ...typed }: typeof start) =>
      take(api.POST("/api/media", { body: { ...typed, washed: washed === "yes" } })),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  return (
    <AskForm ask={ask} button="Add it" big="phone">
      <AskField
        ask={ask}
        name="name"
        label="What it is"
        hint="coir, peat, the name of a mix"
        className="phone"
        needed
      />
      <AskField ask={ask} name="litres" label="How much" hint="litres, or “20 ft3”" className="phone" needed digits />
      <AskField ask={ask} name="since" label="Since" type="date" className="phone" max={today} />
      <AskField
        ask={ask}
        name="washed"
        label="It is washed and must pass before anything is sown into it"
        type="check"
      />
      {typed.washed === "yes" ? (
        <div className="grid grid-cols-3 gap-3">
          <AskField ask={ask} name="ph_low" label="pH from" className="phone" digits />
          <AskField ask={ask} name="ph_high" label="to" className="phone" digits />
          <AskField ask={ask} name="ec_below" label="EC below" hint="mS/cm" className="phone" digits />
        </div>
      ) : null}
      <AskField ask={ask} name="note" label="Note" maxLength={300} />
      <p className="border-ink border-l-4 pl-3 font-semibold">
        Dust from dry medium; wet it before you tip it. Legionella lives in bark and compost: open bags away from the
        face.
      </p>
    </AskForm>
  );
}

function OneMedium({ medium }: { medium: Medium }) {
  const may = useMay();
  const { show } = useWorking();
  const [right, setRight] = useState<number | null>(null);
  const limited = medium.ec_below !== null;
  const wrong = medium.readings.find((one) => one.id === right);
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[1fr_20rem]">
      <div className="min-w-0">
        <p className={`text-[1.15rem] leading-7 ${medium.state === "passed" ? "" : "border-ink border-l-4 pl-3"}`}>
          {medium.state === "passed" ? medium.sentence : <b>{medium.sentence}</b>}
          {medium.decided_by ? <span className="note"> {medium.decided_by}</span> : null}
        </p>
        <p className="note">
          {count(medium.left)} of {count(medium.litres)} L left, since {fullDay(medium.since)}
          {medium.note ? `. ${medium.note}` : ""}
        </p>
        {limited && medium.readings.length ? <Trend medium={medium} /> : null}
        {medium.working.length ? (
          <button
            type="button"
            className="btn-link"
            onClick={() =>
              show(
                {
                  title: `Washes of ${medium.code}`,
                  value: `${medium.more_washes ?? "?"} more`,
                  steps: medium.working,
                },
                true,
              )
            }
          >
            how the washes to come are reckoned
          </button>
        ) : null}
        {medium.readings.length ? (
          <table className="tbl mt-3">
            <thead>
              <tr>
                <th scope="col">Wash</th>
                <th scope="col" className="num">
                  pH
                </th>
                <th scope="col" className="num">
                  EC, mS/cm
                </th>
                <th scope="col">Read</th>
                <th scope="col">
                  <span className="sr-only">To put it right</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {medium.readings.map((one, n) => (
                <tr key={one.id}>
                  <td>{n + 1}</td>
                  <td className="num">{one.ph}</td>
                  <td className="num">{one.ec}</td>
                  <td className="note">
                    {shortDay(one.at.slice(0, 10))}, {one.by}
                    {one.reason ? `; put right: ${one.reason}` : ""}
                  </td>
                  <td className="text-right">
                    {may("diary.do") ? (
                      <button type="button" className="btn-link" onClick={() => setRight(one.id)}>
                        put right
                      </button>
                    ) : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        ) : null}
        <Uses medium={medium} />
      </div>
      <div>
        {may("diary.do") && medium.state !== "rejected" && limited ? (
          <>
            <h2 className="mb-2">{wrong ? "Put the reading right" : "After the next wash"}</h2>
            <ReadForm key={right ?? "more"} medium={medium} wrong={wrong} onDone={() => setRight(null)} />
            {wrong ? (
              <button type="button" className="btn-link mt-2" onClick={() => setRight(null)}>
                leave it
              </button>
            ) : null}
          </>
        ) : null}
        {may("batches.do") ? <Decide key={medium.state} medium={medium} /> : null}
      </div>
    </div>
  );
}

function ReadForm({ medium, wrong, onDone }: { medium: Medium; wrong?: Schemas["MediumReadOut"]; onDone: () => void }) {
  const start = { ph: wrong ? String(wrong.ph) : "", ec: wrong ? String(wrong.ec) : "", reason: "" };
  const ask = useAsk({
    start,
    onDone,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/media/{medium_id}/readings", {
          params: { path: { medium_id: medium.id } },
          body: { ...typed, replaces: wrong?.id ?? null, uuid },
        }),
      ),
  });
  return (
    <AskForm ask={ask} button={wrong ? "Put it right" : "Write it down"} big="phone">
      <div className="grid grid-cols-2 gap-3">
        <AskField
          ask={ask}
          name="ph"
          label="pH"
          hint={`${medium.ph_low} to ${medium.ph_high}`}
          className="phone"
          digits
        />
        <AskField ask={ask} name="ec" label="EC, mS/cm" hint={`below ${medium.ec_below}`} className="phone" digits />
      </div>
      {wrong ? <AskField ask={ask} name="reason" label="Why was it wrong" /> : null}
    </AskForm>
  );
}

function Decide({ medium }: { medium: Medium }) {
  const [why, setWhy] = useState("");
  const decide = useSave((decision: Medium["state"]) =>
    take(
      api.POST("/api/media/{medium_id}/decide", {
        params: { path: { medium_id: medium.id } },
        body: { decision, why },
      }),
    ),
  );
  if (medium.state !== "waits")
    return (
      <div className="mt-4">
        <button type="button" className="btn" onClick={() => decide.mutate("waits")}>
          Take that back
        </button>
        <Faults error={decide.error} />
      </div>
    );
  const sound = medium.fit !== false;
  return (
    <div className="mt-5 grid gap-3 border-rule border-t pt-3">
      <h2>May it be sown into?</h2>
      {sound ? (
        <button type="button" className="btn btn-decide phone w-fit" onClick={() => decide.mutate("passed")}>
          It passes
        </button>
      ) : null}
      <Field label={sound ? "Or why it is not to be used" : "Why is it used all the same, or not at all"}>
        <input className="input phone" value={why} maxLength={300} onChange={(event) => setWhy(event.target.value)} />
      </Field>
      <div className="flex flex-wrap gap-3">
        {sound ? null : (
          <button type="button" className="btn" disabled={!why.trim()} onClick={() => decide.mutate("passed")}>
            Use it all the same
          </button>
        )}
        <button type="button" className="btn" disabled={!why.trim()} onClick={() => decide.mutate("rejected")}>
          Not to be used
        </button>
      </div>
      <Faults error={decide.error} />
    </div>
  );
}

function Uses({ medium }: { medium: Medium }) {
  if (!medium.uses.length) return null;
  return (
    <>
      <h2 className="mt-4">Sown into it</h2>
      <ul>
        {medium.uses.map((one) => (
          <li key={`${one.batch_id}${one.on}${one.litres}`}>
            <Link to="/batches/$id" params={{ id: one.batch_id }}>
              <BatchCode code={one.code} />
            </Link>{" "}
            {count(one.litres)} L, {shortDay(one.on)} <span className="note">{one.said}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

const WIDE = 460;
const HIGH = 150;
const LEFT = 44;

/** EC from wash to wash as a stepped stand over its limit, and pH as a line of marks in its band. */
function Trend({ medium }: { medium: Medium }) {
  const { readings } = medium;
  const limit = medium.ec_below ?? 0.5;
  const top = Math.max(limit * 1.3, ...readings.map((one) => one.ec)) * 1.05;
  const more = medium.more_washes ?? 0;
  const many = Math.max(4, readings.length + Math.min(more, 6));
  const x = (n: number) => LEFT + ((n + 0.5) / many) * (WIDE - LEFT - 8);
  const y = (ec: number) => 10 + (1 - ec / top) * HIGH;
  const half = (WIDE - LEFT - 8) / many / 2;
  const steps = readings.map((one, n) => `${n ? "L" : "M"} ${x(n) - half} ${y(one.ec)} H ${x(n) + half}`).join(" ");
  const said = `EC by wash: ${readings.map((one) => one.ec).join(", ")} mS/cm; to be below ${limit}. ${medium.sentence}`;
  return (
    <svg className="mt-2 block w-full max-w-[460px]" viewBox={`0 0 ${WIDE} ${HIGH + 40}`} role="img" aria-label={said}>
      <rect x={LEFT} y={y(limit)} width={WIDE - LEFT - 8} height={y(0) - y(limit)} className="fill-plan" />
      <line x1={LEFT} x2={WIDE - 8} y1={y(limit)} y2={y(limit)} className="stroke-ink" strokeDasharray="5 3" />
      <text x={LEFT - 6} y={y(limit) + 4} textAnchor="end" className="cond fill-ink text-note">
        {limit}
      </text>
      <path d={steps} fill="none" className="stroke-ink" strokeWidth={2} />
      <line x1={LEFT} x2={WIDE - 8} y1={y(0)} y2={y(0)} className="stroke-ink" />
      {readings.map((one, n) => (
        <g key={one.id}>
          <text x={x(n)} y={y(one.ec) - 5} textAnchor="middle" className="cond fill-ink text-note">
            {one.ec}
          </text>
          <text x={x(n)} y={y(0) + 14} textAnchor="middle" className="cond fill-ink2 text-note">
            wash {n + 1}
          </text>
          <text x={x(n)} y={y(0) + 27} textAnchor="middle" className="cond fill-ink2 text-note">
            pH {one.ph}
          </text>
        </g>
      ))}
      {Array.from({ length: Math.min(more, 6) }, (_, n) => readings.length + n).map((n) => (
        <text key={n} x={x(n)} y={y(0) + 14} textAnchor="middle" className="cond fill-ink3 text-note">
          to come
        </text>
      ))}
      <text x={LEFT - 6} y={y(0)} textAnchor="end" className="cond fill-ink2 text-note">
        EC 0
      </text>
    </svg>
  );
}
