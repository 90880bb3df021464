import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { drawnQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { Door } from "../../ui/Door";
import { fullDay, shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Stack = Schemas["TuberStackOut"];

export const stacksOf = (one: Stack) =>
  one.first === one.last ? `stack ${one.first}` : `stacks ${one.first} to ${one.last}`;

/** Stacks of one grade: how they stand, which trays to draw, what was found, and what is done with them. */
export function OneStack({ stack }: { stack: Stack }) {
  const may = useMay();
  const params = { path: { stack_id: String(stack.id) } };
  const turn = useSave(() => take(api.POST("/api/tubers/{stack_id}/turn", { params })));
  const wrong = stack.on_hold || stack.state === "rejected";
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[1fr_20rem]">
      <div className="min-w-0">
        <p className={`text-[1.15rem] leading-7 ${wrong ? "border-ink border-l-4 pl-3 font-semibold" : ""}`}>
          {stack.sentence}
        </p>
        <p className="note">
          {few(stack.left, "tray")} of {count(stack.a_tray)}, {few(stack.left_tubers, "tuber")} of {stack.tuber_g} g,{" "}
          {count(Math.round(stack.kg))} kg; {stack.trays_a_stack} trays a stack, stood {fullDay(stack.stood_on)}
          {stack.place ? `, ${stack.place}` : ""}. <Door link={`/lots?lot=${stack.lot_id}`}>Lot {stack.lot}</Door>
        </p>
        {stack.left && stack.turn_on ? (
          <p className="mt-2 flex flex-wrap items-center gap-3">
            <span>
              {stack.late ? (
                <b>To be turned since {fullDay(stack.turn_on)}.</b>
              ) : (
                `Turned next on ${fullDay(stack.turn_on)}.`
              )}
            </span>
            {may("tubers.look") ? (
              <button type="button" className="btn" disabled={turn.isPending} onClick={() => turn.mutate(undefined)}>
                They are turned
              </button>
            ) : null}
            <Faults error={turn.error} />
          </p>
        ) : null}
        {stack.left ? <Drawn stack={stack} /> : null}
        {stack.checks.length ? (
          <>
            <h3 className="mt-4 font-semibold">Looked through</h3>
            <table className="tbl">
              <tbody>
                {stack.checks.map((one) => (
                  <tr key={one.id}>
                    <td className="whitespace-nowrap">{shortDay(one.on)}</td>
                    <td>
                      {count(one.bad)} of {count(one.looked)} in {few(one.trays, "tray")}
                    </td>
                    <td>{one.rejected ? <b>rejected</b> : "passed"}</td>
                    <td className="note">rejected from {one.reject_at} on</td>
                    <td>{one.sprout_mm === null ? "" : `${one.sprout_mm} mm`}</td>
                    <td className="note">
                      {one.by} {one.note}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </>
        ) : null}
        {stack.out.length ? (
          <>
            <h3 className="mt-4 font-semibold">Carried out</h3>
            <table className="tbl">
              <tbody>
                {stack.out.map((one, n) => (
                  <tr key={n}>
                    <td className="whitespace-nowrap">{shortDay(one.on)}</td>
                    <td>{few(one.tubers, "tuber")}</td>
                    <td>
                      {one.thrown ? <b>thrown away: </b> : null}
                      {one.to}
                    </td>
                    <td className="note">{one.by}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </>
        ) : null}
      </div>
      <div className="grid content-start gap-5">
        {may("tubers.look") && stack.left ? <LookForm stack={stack} /> : null}
        {may("tubers.store") && stack.left ? <OutForm stack={stack} /> : null}
      </div>
    </div>
  );
}

/** Which trays an inspector pulls, so that what is found speaks for all of them. */
function Drawn({ stack }: { stack: Stack }) {
  const [limit, setLimit] = useState("2");
  const { data, error } = useQuery(drawnQuery(stack.id, Number(limit.replace(",", ".")) || 0));
  return (
    <section className="mt-3">
      <h3 className="flex flex-wrap items-baseline gap-2 font-semibold">
        Trays to draw
        <label className="flex items-baseline gap-2 font-normal">
          <span className="note">below standard at most</span>
          <input className="input !h-8 !w-16" value={limit} onChange={(event) => setLimit(event.target.value)} /> %
        </label>
      </h3>
      {error ? <Faults error={error} /> : null}
      <p className="mt-1">
        {data?.map((one) => (
          <span key={`${one.stack} ${one.tray}`} className="mr-4 inline-block whitespace-nowrap">
            stack <b>{one.stack}</b>, tray {one.tray}
          </span>
        ))}
      </p>
      <p className="note">Counted from the top. Drawn by lot and evenly, so that nobody picks the good ones.</p>
    </section>
  );
}

function LookForm({ stack }: { stack: Stack }) {
  const start = { trays: "", looked: "", bad: "", limit_percent: "2", sprout_mm: "", note: "" };
  const ask = useAsk({
    start,
    names: { limit: "limit_percent" },
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/tubers/{stack_id}/look", {
          params: { path: { stack_id: String(stack.id) } },
          body: { ...typed, client_uuid: uuid },
        }),
      ),
  });
  return (
    <section>
      <h3 className="font-semibold">Looked through</h3>
      <AskForm ask={ask} button="Give the verdict" big="phone">
        <AskField ask={ask} name="trays" label="Trays drawn" className="phone" needed digits="whole" />
        <AskField ask={ask} name="looked" label="Tubers looked at" className="phone" needed digits="whole" />
        <AskField ask={ask} name="bad" label="Below standard" className="phone" digits="whole" />
        <AskField ask={ask} name="limit_percent" label="At most, %" digits />
        <AskField ask={ask} name="sprout_mm" label="Sprouts" hint="mm, the longest that is usual" digits />
        <AskField ask={ask} name="note" label="Note" maxLength={300} />
      </AskForm>
    </section>
  );
}

function OutForm({ stack }: { stack: Stack }) {
  const start = { trays: "", to: "", thrown: "" };
  const ask = useAsk({
    start,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/tubers/{stack_id}/out", {
          params: { path: { stack_id: String(stack.id) } },
          body: { ...typed, thrown: typed.thrown === "yes", client_uuid: uuid },
        }),
      ),
  });
  return (
    <section>
      <h3 className="font-semibold">Carried out</h3>
      <AskForm ask={ask} button="They are out" big="phone">
        <AskField ask={ask} name="trays" label="Trays carried out" className="phone" needed digits="whole" />
        <AskField ask={ask} name="to" label="Where to, or why" needed maxLength={300} />
        <AskField ask={ask} name="thrown" label="They are thrown away" type="check" />
      </AskForm>
      <p className="note">By truck, or two people to a tray; nobody stands beside a stack that is lifted.</p>
    </section>
  );
}
