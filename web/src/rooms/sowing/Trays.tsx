import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { libraryQuery, traysQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { Faults, Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Row = Schemas["TrayRowOut"];
const WHAT = [
  ["counted", "counted: all that there are"],
  ["washed", "washed"],
  ["bought", "bought, clean"],
  ["thrown", "thrown away"],
] as const;

/** Trays of the house: clean, dirty and in use, how often each was filled, and when they run short. */
export function Trays() {
  const may = useMay()("diary.do");
  const { data, error } = useQuery(traysQuery);
  const [open, setOpen] = useState<Row | "new" | null>(null);
  return (
    <section className="mt-8" aria-label="Trays">
      <div className="flex flex-wrap items-baseline gap-3 border-rule border-b pb-1">
        <h2>Trays</h2>
        <span className="note flex-1">{data?.length ? few(data.length, "kind") : "none counted yet"}</span>
        {may ? (
          <button type="button" className="btn" onClick={() => setOpen("new")}>
            Count trays
          </button>
        ) : null}
      </div>
      <Faults error={error} />
      {data?.length ? (
        <ul>
          {data.map((row) => (
            <li key={row.name} className="flex flex-wrap items-baseline gap-x-4 border-hair border-b py-1">
              <button type="button" className="btn-link w-40 text-left" onClick={() => setOpen(row)}>
                {row.name}
              </button>
              <Bar row={row} />
              <span className="w-72">
                {count(row.clean)} clean, {count(row.dirty)} dirty, {count(row.in_use)} in use
                <span className="note"> of {count(row.owned)}</span>
              </span>
              <span className={`min-w-0 flex-1 basis-64 ${row.pressing || row.wash ? "font-semibold" : ""}`}>
                {row.sentence}
              </span>
              <span className="note">
                filled {row.fills_each.toFixed(1)}, washed {row.washes_each.toFixed(1)} times each
              </span>
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-ink2">
          Count a kind once, and how many of it are clean. What is sown takes clean ones, what is delivered or set over
          comes back dirty; the day before a sowing asks for what is to be washed.
        </p>
      )}
      {open ? (
        <Sheet open onClose={() => setOpen(null)} title={open === "new" ? "Count trays" : open.name}>
          <Entry row={open === "new" ? null : open} onDone={() => setOpen(null)} />
          {open === "new" ? null : <Written row={open} />}
        </Sheet>
      ) : null}
    </section>
  );
}

/** Clean, in use and dirty as lengths of one bar. */
function Bar({ row }: { row: Row }) {
  const whole = Math.max(1, row.owned, row.clean + row.in_use + row.dirty);
  const wide = (many: number) => (110 * many) / whole;
  return (
    <svg width={112} height={12} role="img" aria-label={`${count(row.clean)} of ${count(row.owned)} clean`}>
      <rect x={1} y={1} width={wide(row.clean)} height={10} className="fill-plan stroke-line" />
      <rect x={1 + wide(row.clean)} y={1} width={wide(row.in_use)} height={10} className="fill-line stroke-line" />
      <rect x={0.5} y={0.5} width={111} height={11} className="fill-none stroke-rule" />
    </svg>
  );
}

function Entry({ row, onDone }: { row: Row | null; onDone: () => void }) {
  const { today } = useSpan();
  const { data: library } = useQuery(libraryQuery);
  const start = {
    name: row?.name ?? "",
    what: row ? "washed" : "counted",
    many: row?.wash ? String(Math.min(row.wash, row.dirty) || "") : "",
    clean: "",
    lasts: row?.lasts ? String(row.lasts) : "",
    on: today,
    note: "",
  };
  const ask = useAsk({
    start,
    onDone,
    again: false,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/trays", {
          body: { ...typed, what: typed.what as Schemas["TrayEntryIn"]["what"], client_uuid: uuid },
        }),
      ),
  });
  const counted = useWatch({ control: ask.form.control, name: "what" }) === "counted";
  const names = (library?.containers ?? []).map((one) => [one.name, one.name] as const);
  return (
    <AskForm ask={ask} button="Write it down" big="phone">
      {row ? (
        <AskField ask={ask} name="what" label="They were" type="select" options={[...WHAT]} />
      ) : (
        <AskField ask={ask} name="name" label="Which" type="select" options={[["", ""], ...names]} needed />
      )}
      <AskField
        ask={ask}
        name="many"
        label={counted ? "How many there are, filled ones too" : "How many"}
        className="phone"
        digits="whole"
        needed
      />
      {counted ? (
        <>
          <AskField ask={ask} name="clean" label="of them clean and empty" className="phone" digits="whole" />
          <AskField
            ask={ask}
            name="lasts"
            label="One lasts"
            hint="fillings; leave it empty where nobody knows"
            digits="whole"
          />
        </>
      ) : null}
      <AskField ask={ask} name="on" label="On" type="date" className="phone" max={today} />
      <AskField ask={ask} name="note" label="Note" hint="washed with what, as its label says" maxLength={300} />
      {counted ? null : (
        <p className="border-ink border-l-4 pl-3">Gloves and eye protection at the wash; air the room.</p>
      )}
    </AskForm>
  );
}

function Written({ row }: { row: Row }) {
  return (
    <section className="mt-6">
      <h3 className="font-semibold">Written down</h3>
      <table className="tbl">
        <tbody>
          {row.events.map((one) => (
            <tr key={one.id}>
              <td className="whitespace-nowrap">{shortDay(one.on)}</td>
              <td className="num">{count(one.many)}</td>
              <td>
                {one.what}
                {one.clean ? `, ${count(one.clean)} clean` : ""}
              </td>
              <td className="note">
                {one.by} {one.note}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
