import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { motherPlansQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { Door } from "../../ui/Door";
import { isoWeek, shortDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, LotCode } from "../../ui/parts";
import { PlanWeeks } from "./PlanWeeks";

type Plan = Schemas["MotherPlanOut"];
type Start = Schemas["MotherStartOut"];

/** Plans of mothers that were kept: what is to be ordered and planted, and the picture they were kept with. */
export function Plans({ chosen, onPlant }: { chosen?: string; onPlant: (plan: Plan, start: Start) => void }) {
  const { data: plans, error } = useQuery(motherPlansQuery);
  return (
    <>
      <Faults error={error} />
      {plans?.map((plan) => (
        <OnePlan key={plan.id} plan={plan} open={chosen === String(plan.id)} onPlant={onPlant} />
      ))}
    </>
  );
}

function OnePlan({ plan, open, onPlant }: { plan: Plan; open: boolean; onPlant: (plan: Plan, start: Start) => void }) {
  const may = useMay()("mothers.plan");
  const [sure, setSure] = useState(false);
  const drop = useSave(() =>
    take(api.POST("/api/mothers/plans/{plan_id}/drop", { params: { path: { plan_id: plan.id } } })),
  );
  const name = `${plan.crop}${plan.line ? ` ${plan.line}` : ""}`;
  return (
    <section className="mt-5" aria-label={`Plan for ${name} mothers`}>
      <h2>{name} mothers, planned</h2>
      <p>{plan.sentence}</p>
      <p className="note">
        From week {isoWeek(plan.first).week} on: {plan.raising}. {plan.note}
      </p>
      <table className="tbl mt-1 !w-auto">
        <tbody>
          {plan.starts.map((one) => (
            <StartRow key={one.id} start={one} may={may} onPlant={() => onPlant(plan, one)} />
          ))}
        </tbody>
      </table>
      <details open={open} className="mt-1">
        <summary className="btn-link w-fit cursor-pointer list-none">week by week</summary>
        <PlanWeeks weeks={plan.weeks} first={plan.first} />
      </details>
      {may ? (
        sure ? (
          <p className="mt-1 flex flex-wrap items-center gap-3">
            What is planted of it stands; the rest is asked for no more.
            <button type="button" className="btn" disabled={drop.isPending} onClick={() => drop.mutate(undefined)}>
              Give it up
            </button>
            <button type="button" className="btn-link" onClick={() => setSure(false)}>
              keep it
            </button>
          </p>
        ) : (
          <button type="button" className="btn-link" onClick={() => setSure(true)}>
            give this plan up
          </button>
        )
      ) : null}
      <Faults error={drop.error} />
    </section>
  );
}

function StartRow({ start, may, onPlant }: { start: Start; may: boolean; onPlant: () => void }) {
  const { today } = useSpan();
  const [whom, setWhom] = useState<string | null>(null);
  const order = useSave(
    (on: string | null) =>
      take(
        api.POST("/api/mothers/starts/{start_id}/ordered", {
          params: { path: { start_id: start.id } },
          body: { from_whom: whom ?? "", on },
        }),
      ),
    () => setWhom(null),
  );
  return (
    <tr>
      <td className="whitespace-nowrap">week of {shortDay(start.on)}</td>
      <td className="num">{count(start.plantlets)} plantlets</td>
      <td>
        {start.late ? <b>{start.sentence}</b> : start.sentence}{" "}
        {start.stock_uuid ? (
          <Door link={`/stockplants?stock=${start.stock_uuid}`}>
            <LotCode code={start.stock} />
          </Door>
        ) : null}
        <Faults error={order.error} />
      </td>
      <td>
        {may && !start.stock_uuid ? (
          <span className="flex flex-wrap items-center gap-3">
            {start.ordered_on ? (
              <button type="button" className="btn-link" disabled={order.isPending} onClick={() => order.mutate(null)}>
                not ordered after all
              </button>
            ) : whom === null ? (
              <button type="button" className="btn-link" onClick={() => setWhom("")}>
                they are ordered
              </button>
            ) : (
              <form
                className="flex items-center gap-2"
                onSubmit={(event) => {
                  event.preventDefault();
                  order.mutate(today);
                }}
              >
                <input
                  className="input !w-40"
                  placeholder="From whom"
                  aria-label="From whom"
                  maxLength={120}
                  value={whom}
                  onChange={(event) => setWhom(event.target.value)}
                />
                <button type="submit" className="btn" disabled={order.isPending}>
                  Ordered
                </button>
              </form>
            )}
            <button type="button" className="btn-link" onClick={onPlant}>
              they are planted
            </button>
          </span>
        ) : null}
      </td>
    </tr>
  );
}
