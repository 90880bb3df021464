import { useQuery } from "@tanstack/react-query";
import { api, type Schemas, take } from "../../api/client";
import { halvesQuery, pairsQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { Door } from "../../ui/Door";
import { fullDay } from "../../ui/dates";
import { count, few, quantity } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { useAsk } from "../../ui/useAsk";
import { Measured } from "./Measured";

type Half = Schemas["HalfOut"];

/** What is joined: who grows each part, and whether the two fit each other at the cut. */
export function Grafts({ batch }: { batch: Schemas["BatchOut"] }) {
  const may = useMay();
  const { data } = useQuery({ ...halvesQuery(batch.id), enabled: Boolean(batch.joins) });
  if (!data?.length) return null;
  const open = batch.state === "planned" && may("batches.plan");
  return (
    <section className="mt-3" aria-label="What is joined">
      <h2>What is joined</h2>
      <div className="grid gap-x-8 sm:grid-cols-2">
        {data.map((half) => (
          <div key={half.part} className="min-w-0 py-1">
            <h3 className="font-semibold">
              {count(half.needed)} {half.part}s, {half.crop} {half.cultivar}
            </h3>
            {half.grown.map((one) => (
              <p key={one.batch_id}>
                <Door link={`/batches/${one.batch_id}`}>{one.code}</Door> is to give {count(one.quantity)},{" "}
                {one.expected < one.quantity ? (
                  <b>only {count(Math.round(one.expected))} expected</b>
                ) : (
                  `${count(Math.round(one.expected))} expected`
                )}
                , ready on {fullDay(one.ready_on)}
                {one.late_days ? <b>, {few(one.late_days, "day")} after the grafting</b> : null}
                {one.waits_days ? <b>, {few(one.waits_days, "day")} before the grafting: too old by then</b> : null}.
              </p>
            ))}
            {half.used.map((one) => (
              <p key={one.lot_id}>
                <Door link={`/lots?lot=${one.lot_id}`}>{one.lot}</Door> gave {quantity(one.quantity, one.unit)} on{" "}
                {fullDay(one.on)}.
              </p>
            ))}
            {half.grown.length || batch.state !== "planned" ? null : (
              <p className="note">Nobody raises them for this yet. What stands in stock can be grafted too.</p>
            )}
            {open && !half.grown.length && half.methods.length ? <Raise batch={batch} half={half} /> : null}
          </div>
        ))}
      </div>
      <Measured
        title="Do they fit?"
        measures={[
          ["top_mm", "scions, mm", "1.8 2.0 2.1", "many"],
          ["foot_mm", "rootstocks, mm", "2.0 2.2 2.3", "many"],
          ["within", "may differ by", "0.3 mm"],
          ["tops", "scions there", count(batch.start)],
          ["feet", "rootstocks there", count(batch.start)],
        ]}
        query={(typed) => pairsQuery(batch.id, typed)}
      />
    </section>
  );
}

/** Plan the batch that gives one part, ready on the day of the grafting. */
function Raise({ batch, half }: { batch: Schemas["BatchOut"]; half: Half }) {
  const start = { method_id: String(half.methods[0]?.id ?? ""), line_id: "", more: "10 %" };
  const ask = useAsk({
    start,
    again: false,
    save: ({ method_id, line_id, more }: typeof start) =>
      take(
        api.POST("/api/batches/{batch_id}/halves", {
          params: { path: { batch_id: String(batch.id) } },
          body: { part: half.part, method_id: Number(method_id), line_id: line_id ? Number(line_id) : null, more },
        }),
      ),
  });
  return (
    <AskForm ask={ask} button={`Raise the ${half.part}s`} className="flex flex-wrap items-end gap-3">
      <AskField
        ask={ask}
        name="method_id"
        label="By"
        type="select"
        className="!w-80 max-w-full"
        options={half.methods.map((one) => [String(one.id), one.name] as const)}
      />
      {half.lines.length ? (
        <AskField
          ask={ask}
          name="line_id"
          label="Cultivar"
          type="select"
          className="!w-40"
          options={[["", "any"], ...half.lines.map((one) => [String(one.id), one.name] as const)]}
        />
      ) : null}
      <AskField ask={ask} name="more" label="More than grafted" className="!w-28" />
    </AskForm>
  );
}
