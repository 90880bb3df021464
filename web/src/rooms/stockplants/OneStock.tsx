import { useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { Door } from "../../ui/Door";
import { fullDay, shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, LotCode } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Stock = Schemas["MotherStockOut"];
const INTO = [
  ["stock", "to be stuck"],
  ["mothers", "to become mothers"],
  ["discarded", "thrown away"],
] as const;

/** One planting of mothers: how it stands, what was cut, its tests, and what can be done with it. */
export function OneStock({ stock, cut = "" }: { stock: Stock; cut?: string }) {
  const may = useMay();
  const over = stock.retired_on !== null;
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[1fr_20rem]">
      <div className="min-w-0">
        <p className={`text-[1.15rem] leading-7 ${stock.on_hold ? "border-ink border-l-4 pl-3 font-semibold" : ""}`}>
          {stock.sentence}
        </p>
        <p className="note">
          {count(stock.mothers)} of {few(stock.planted, "mother")} standing, planted {fullDay(stock.planted_on)}
          {stock.place ? `, ${stock.place}` : ""}
          {stock.generation ? `, sub-mothers of generation ${stock.generation}` : ""}
          {stock.note ? `. ${stock.note}` : ""}. {stock.slows} {stock.enters ? `${stock.enters} there.` : ""}{" "}
          <Door link={`/lots?lot=${stock.lot_id}`}>Where it came from and what was made of it</Door>
        </p>
        <Cuts stock={stock} />
        <Tests stock={stock} />
      </div>
      <div className="grid content-start gap-5">
        {may("mothers.cut") && !over ? <CutForm key={cut} stock={stock} cut={cut} /> : null}
        {may("mothers.index") ? <IndexForm stock={stock} /> : null}
        {may("mothers.plan") && !over ? <Ends stock={stock} /> : null}
      </div>
    </div>
  );
}

function Cuts({ stock }: { stock: Stock }) {
  if (!stock.cuts.length) return <p className="mt-3 text-ink2">Nothing was cut of them yet.</p>;
  return (
    <>
      <h3 className="mt-4 font-semibold">Cut, {count(stock.cut)} in all</h3>
      <p className="note">
        Such mothers give {count(Math.round(stock.reckoned))} from their planting to the end of this week, whether
        anybody cuts them or not.
      </p>
      <table className="tbl">
        <tbody>
          {stock.cuts.map((one) => (
            <tr key={one.id}>
              <td className="whitespace-nowrap">{shortDay(one.on)}</td>
              <td className="num">{count(one.cuttings)}</td>
              <td>
                {one.into_words}
                {one.leaves === "compound" ? <b>, compound leaves</b> : null}
              </td>
              <td>
                {one.lot_id ? (
                  <Door link={`/lots?lot=${one.lot_id}`}>
                    <LotCode code={one.lot} />
                  </Door>
                ) : null}{" "}
                {one.lot_id ? (
                  <a href={`/api/mothers/cuts/${one.id}/label.pdf`} target="_blank" rel="noreferrer">
                    label
                  </a>
                ) : null}
              </td>
              <td className="note">
                {one.by} {one.note}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Tests({ stock }: { stock: Stock }) {
  if (!stock.index.length) return <p className="mt-3 text-ink2">No health test is written down.</p>;
  return (
    <>
      <h3 className="mt-4 font-semibold">Health tests</h3>
      <table className="tbl">
        <tbody>
          {stock.index.map((one) => (
            <tr key={one.id}>
              <td className="whitespace-nowrap">{shortDay(one.tested_on)}</td>
              <td>{one.what}</td>
              <td>{one.sound ? "clean" : <b>not clean</b>}</td>
              <td>{one.valid_until ? `valid until ${fullDay(one.valid_until)}` : ""}</td>
              <td className="note">
                {one.laboratory} {one.by}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function CutForm({ stock, cut }: { stock: Stock; cut: string }) {
  const { today } = useSpan();
  const start = { cuttings: cut, into: "stock", on: today, compound: "", note: "" };
  const ask = useAsk({
    start,
    save: ({ compound, into, ...typed }: typeof start, uuid) =>
      take(
        api.POST("/api/mothers/{stock_id}/cuts", {
          params: { path: { stock_id: stock.id } },
          body: {
            ...typed,
            into: into as Schemas["CutIn"]["into"],
            leaves: compound === "yes" ? "compound" : "",
            client_uuid: uuid,
          },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  return (
    <section>
      <h3 className="font-semibold">Cut today</h3>
      <AskForm ask={ask} button="They are cut" big="phone">
        <AskField ask={ask} name="cuttings" label="How many were cut" className="phone" needed digits="whole" />
        <AskField ask={ask} name="into" label="They are" type="select" options={[...INTO]} />
        <AskField ask={ask} name="on" label="On" type="date" className="phone" max={today} />
        <AskField ask={ask} name="compound" label="Compound leaves were seen" type="check" />
        <AskField ask={ask} name="note" label="Note" maxLength={300} />
      </AskForm>
      {typed.compound === "yes" ? (
        <p className="note">Compound leaves that stay after one cutting back: they are exhausted.</p>
      ) : null}
      <p className="mt-2 border-ink border-l-4 pl-3">
        Sterile blade for each crate, cut away from the hand. 70 % ethanol burns: no flame, no sparks. Cuttings wait in
        water at most two hours.
      </p>
    </section>
  );
}

function IndexForm({ stock }: { stock: Stock }) {
  const { today } = useSpan();
  const start = { what: "", bad: "", tested_on: today, valid_until: "", laboratory: "" };
  const ask = useAsk({
    start,
    save: ({ bad, valid_until, ...typed }: typeof start, uuid) =>
      take(
        api.POST("/api/mothers/{stock_id}/index", {
          params: { path: { stock_id: stock.id } },
          body: { ...typed, sound: bad !== "yes", valid_until: valid_until || null, client_uuid: uuid },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  return (
    <details>
      <summary className="btn-link w-fit cursor-pointer list-none">Enter a health test</summary>
      <AskForm ask={ask} button={typed.bad === "yes" ? "Hold everything made of them" : "They are clean"} big="phone">
        <AskField ask={ask} name="what" label="Tested for" className="phone" needed maxLength={120} />
        <AskField
          ask={ask}
          name="bad"
          label="It was found"
          type="check"
          hint="these mothers and everything made of them are held"
        />
        <AskField ask={ask} name="tested_on" label="On" type="date" className="phone" max={today} />
        <AskField ask={ask} name="valid_until" label="Valid until" type="date" className="phone" />
        <AskField ask={ask} name="laboratory" label="Laboratory" maxLength={120} />
      </AskForm>
    </details>
  );
}

function Ends({ stock }: { stock: Stock }) {
  const { today } = useSpan();
  const path = { stock_id: stock.id };
  const again = useSave(() =>
    take(api.POST("/api/mothers/{stock_id}/exhausted", { params: { path }, body: { on: null } })),
  );
  const tired = useAsk({
    start: { on: today },
    again: false,
    save: (typed: { on: string }) =>
      take(api.POST("/api/mothers/{stock_id}/exhausted", { params: { path }, body: { on: typed.on } })),
  });
  const retire = useAsk({
    start: { into: "" },
    again: false,
    save: (typed: { into: string }) =>
      take(api.POST("/api/mothers/{stock_id}/retire", { params: { path }, body: typed })),
  });
  const [sure, setSure] = useState(false);
  return (
    <details>
      <summary className="btn-link w-fit cursor-pointer list-none">They are exhausted, or retired</summary>
      <div className="grid gap-4 pt-2">
        {stock.exhausted_on ? (
          <button
            type="button"
            className="btn w-fit"
            disabled={again.isPending}
            onClick={() => again.mutate(undefined)}
          >
            They give cuttings again
          </button>
        ) : (
          <AskForm ask={tired} button="Exhausted from that day on">
            <AskField ask={tired} name="on" label="From" type="date" className="phone" />
          </AskForm>
        )}
        <Faults error={again.error} />
        <AskForm ask={retire} button="Retire them" disabled={!sure}>
          <AskField
            ask={retire}
            name="into"
            label="What becomes of them"
            hint="left to make tubers, composted, burnt"
            needed
            maxLength={120}
          />
          <label className="flex items-center gap-2">
            <input type="checkbox" checked={sure} onChange={(event) => setSure(event.target.checked)} />
            {few(stock.mothers, "mother")} are taken out
          </label>
        </AskForm>
      </div>
    </details>
  );
}
