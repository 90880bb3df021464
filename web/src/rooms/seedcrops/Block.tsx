import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { blockQuery, isolationQuery, ref } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { shortDay } from "../../ui/dates";
import { chance, count, hectares, kilos, share, weighed } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { BatchCode } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { WhatWasDone } from "../../ui/TakeBack";
import { FloweringMatch } from "./FloweringMatch";
import { LayoutBar, LayoutFields, useLayoutProposal } from "./LayoutFields";
import { PatternStrip, RowsDrawing } from "./RowsDrawing";

export type BlockData = Schemas["BlockOut"];

/** The seed block: rows to scale above, the flowering match on the season line's axis below. */
export function Block() {
  const { id = "" } = useParams({ strict: false });
  const { data: block } = useSuspenseQuery(blockQuery(ref(id)));
  const { data: isolation } = useQuery({ ...isolationQuery(ref(id)), enabled: block.state !== "delivered" });
  const layout = useLayoutProposal(block);
  const drawing = layout.preview?.rows ?? block.rows;
  return (
    <div className="pb-8">
      <div className="px-4">
        <BlockHead block={block} here="rows" />
        <Lines block={block} />
        {block.warnings.map((warning) => (
          <p key={warning} className="text-ink2">
            {warning}
          </p>
        ))}
        {block.history.map((said) => (
          <p key={said} className="fault">
            {said}
          </p>
        ))}
        <div className="flex flex-wrap gap-x-6 gap-y-3 pt-1">
          <Drawn>
            {(width) => (
              <RowsDrawing
                drawing={drawing}
                pattern={block.layout.pattern}
                width={width}
                height={330}
                near={nearOf(isolation)}
              />
            )}
          </Drawn>
          {block.layout.pattern ? (
            <PatternStrip
              pattern={layout.change.pattern ?? block.layout.pattern}
              borderRows={layout.change.border_rows ?? block.layout.border_rows}
              spacing={layout.change.row_spacing_m ?? block.layout.row_spacing_m}
            />
          ) : null}
          <LayoutFields block={block} layout={layout} />
        </div>
      </div>
      <FloweringMatch block={block} flowering={layout.preview?.flowering ?? block.flowering} />
      <div className="grid grid-cols-1 gap-8 px-4 pt-4 lg:grid-cols-2">
        <Sowing block={block} />
        <Generations block={block} />
      </div>
      <div className="max-w-3xl px-4">
        <WhatWasDone of={block.acts_of} />
      </div>
      <LayoutBar layout={layout} />
    </div>
  );
}

/** What of the ground is inside the distance that a neighbour asks, where one is too close. */
function nearOf(isolation: Schemas["IsolationOut"] | undefined) {
  const close = isolation?.neighbours.filter((one) => one.state === "too close") ?? [];
  if (!isolation || !close.length || isolation.plantable_m2 >= isolation.area_m2) return undefined;
  const asked = Math.max(...close.map((one) => one.required_m ?? 0));
  return {
    kept: isolation.plantable_m,
    words: [
      `inside the ${count(asked)} m of ${close.map((one) => one.name).join(", ")}`,
      `${hectares(isolation.area_m2 - isolation.plantable_m2)} of ${hectares(isolation.area_m2)}`,
    ],
  };
}

/** The drawing takes the room that is there. */
function Drawn({ children }: { children: (width: number) => ReactNode }) {
  const holder = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(560);
  useLayoutEffect(() => {
    const element = holder.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(Math.max(240, element.clientWidth)));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  return (
    <div ref={holder} className="min-w-[240px] max-w-[640px] flex-1 basis-[420px]">
      {children(width)}
    </div>
  );
}

const TABS = [
  ["rows", "Rows and flowering", ""],
  ["isolation", "Isolation", "/isolation"],
  ["harvest", "Visits and harvest", "/harvest"],
] as const;

/** The head that the three views of a block share. */
export function BlockHead({ block, here }: { block: BlockData; here: (typeof TABS)[number][0] }) {
  const pattern = block.layout.pattern;
  const female = [...pattern].filter((letter) => letter === "F").length;
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-2">
        <h1>
          {block.crop} {block.cultivar}, {block.field}
        </h1>
        <Link to="/batches/$id" params={{ id: String(block.batch_id) }}>
          <BatchCode code={block.code} />
        </Link>
        <span className="min-w-0 flex-1 basis-56 text-ink3">
          {pattern ? `${female} female to ${pattern.length - female} male, ` : "drilled, "}
          {hectares(block.rows.outline.length ? block.area_m2 : 0)}, {block.class_name};{" "}
          {block.orders.length ? `order ${block.orders.join(", ")}: ${kilos(block.needed)} promised, ` : "for stock, "}
          {kilos(Math.round(block.expected))} expected
          {block.chance !== null && block.state !== "delivered" ? `, chance ${chance(block.chance)}` : ""}
        </span>
        <a href={`/api/seed-blocks/${block.block_id}/rows.pdf`} target="_blank" rel="noreferrer">
          Row plan
        </a>
        <a href={`/api/seed-blocks/${block.block_id}/drill.pdf`} target="_blank" rel="noreferrer">
          Drill card
        </a>
        <a href={`/api/seed-blocks/${block.block_id}/rows.csv`}>CSV</a>
        <a href={`/api/seed-blocks/${block.block_id}/rows.geojson`}>GeoJSON</a>
      </div>
      <nav aria-label="Views of the block" className="mb-2 flex gap-6 border-rule border-b">
        {TABS.map(([key, words, path]) => (
          <Link
            key={key}
            to={`/seedcrops/$id${path}`}
            params={{ id: String(block.block_id) }}
            aria-current={key === here ? "page" : undefined}
            className={`pb-1 no-underline ${key === here ? "border-ink border-b-[3px] font-bold" : ""}`}
          >
            {words}
          </Link>
        ))}
      </nav>
    </>
  );
}

/** One sentence a line: rows, plants, kilos, when. */
function Lines({ block }: { block: BlockData }) {
  const { show } = useWorking();
  return (
    <p className="flex flex-wrap gap-x-6">
      {block.parents.map((parent) => (
        <span key={parent.role}>
          <b className={parent.role === "M" ? "text-m" : "text-f"}>{parent.role}</b> {parent.line}
          {parent.plants !== null ? (
            <>
              {", "}
              <button
                type="button"
                className="btn-link"
                onClick={() => show({ title: "row plan", value: "", steps: block.working }, true)}
              >
                {count(parent.plants)} plants
              </button>
            </>
          ) : null}
          {", "}
          {parent.sown.length ? (
            <>
              {kilos(parent.sown.reduce((sum, one) => sum + one.kg, 0))} sown{" "}
              {parent.sown.map((one) => shortDay(one.on)).join(" and ")}
            </>
          ) : (
            <>
              <button
                type="button"
                className="btn-link"
                onClick={() => show({ title: "seed", value: kilos(parent.seed_kg), steps: block.working }, true)}
              >
                {kilos(parent.seed_kg)}
              </button>{" "}
              to sow {shortDay(parent.sow_on)}
              {parent.sowings > 1 ? `, in ${parent.sowings} sowings ${parent.sowing_gap_days} days apart` : ""}
            </>
          )}
        </span>
      ))}
      {block.rows.female_share !== null ? (
        <span className="text-ink3">
          {share(block.rows.female_share, 1)} of the metres female, {share(block.rows.female_share_in_pattern, 1)} in
          the pattern; borders {count(block.rows.border_metres)} m
          {block.rows.passes ? `; ${block.rows.passes} planter passes` : ""}
        </span>
      ) : null}
      <Gives block={block} />
      {block.drill ? (
        <span className="text-ink3">
          {block.drill.seeds_per_m2?.toFixed(1)} seeds/m², {block.drill.rate_kg_per_ha?.toFixed(0)} kg/ha,{" "}
          {block.drill.seeds_per_metre_of_row?.toFixed(1)} seeds a metre of row
        </span>
      ) : null}
    </p>
  );
}

/** What the block gives of its method's kilos, where it is less; its parts by a press. */
function Gives({ block }: { block: BlockData }) {
  const { show } = useWorking();
  const { gives } = block;
  if (!gives || gives.share > 0.995) return null;
  const parts = [
    gives.females < 0.995 ? `females ${share(gives.females)} of the method’s` : "",
    gives.stand < 0.995 ? `${share(gives.stand)} of the plants stand` : "",
    gives.pollen < 0.995 ? `${share(gives.pollen)} of the receptive days have pollen` : "",
  ].filter(Boolean);
  return (
    <span>
      Gives{" "}
      <button
        type="button"
        className="btn-link"
        onClick={() => show({ title: "what the block gives", value: share(gives.share), steps: gives.working }, true)}
      >
        {share(gives.share)} of the method’s kilos
      </button>
      : {parts.join(", ")}
    </span>
  );
}

/** Record what was sown, line by line, from which lot. */
function Sowing({ block }: { block: BlockData }) {
  const may = useMay();
  const { show } = useWorking();
  const open = block.state === "planned" || block.state === "sown";
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Sowing record</h2>
      <ul>
        {block.parents.flatMap((parent) =>
          parent.sown.map((one) => (
            <li
              key={`${parent.role}${one.on}${one.lot}`}
              className="flex flex-wrap items-baseline gap-x-4 border-hair border-b py-1"
            >
              <span className="note w-20">{shortDay(one.on)}</span>
              <span className="min-w-24 flex-1">
                <b>{parent.role}</b> {parent.line}
              </span>
              <Link to="/lots" search={{ lot: String(one.lot_id) }} className="lotcode">
                {one.lot}
              </Link>
              <span className="num w-16">{kilos(one.kg)}</span>
            </li>
          )),
        )}
      </ul>
      {open && !block.male_out && may("seedcrops.do") ? (
        <details className="mt-2" open={block.state === "planned"}>
          <summary className="btn-link cursor-pointer">Record a sowing</summary>
          <div className="mt-2">
            <QuickForm
              button="Record"
              fields={[
                {
                  name: "role",
                  label: "Line",
                  type: "select",
                  needed: true,
                  options: block.parents.map((p) => [p.role, `${p.role} ${p.line}, ${kilos(p.seed_kg)} needed`]),
                },
                {
                  name: "lot_id",
                  label: "From lot",
                  type: "select",
                  needed: true,
                  options: block.parents.flatMap((p) =>
                    p.lots.map(
                      (lot) =>
                        [
                          String(lot.id),
                          `${p.role} ${lot.code}, ${kilos(lot.kg)}, ${lot.seed_class || "no class"}${lot.label_number ? `, ${lot.label_number}` : ""}`,
                        ] as [string, string],
                    ),
                  ),
                },
                { name: "kg", label: "Kilos", hint: "7.3, or “16 lb”", needed: true },
                { name: "on", label: "Sown on", type: "date", needed: true },
              ]}
              save={(values, uuid) =>
                take(
                  api.POST("/api/seed-blocks/{block_id}/sown", {
                    params: { path: { block_id: block.block_id ?? 0 } },
                    body: {
                      role: values.role ?? "",
                      lot_id: Number(values.lot_id),
                      kg: values.kg ?? "",
                      on: values.on ?? "",
                      client_uuid: uuid,
                    },
                  }),
                )
              }
            />
            {block.parents.some((p) => !p.lots.length) ? (
              <p className="fault mt-2">
                No seed of{" "}
                {block.parents
                  .filter((p) => !p.lots.length)
                  .map((p) => p.line)
                  .join(" and ")}{" "}
                is in stock. Receive it in <Link to="/lots">Lots</Link> with its class and label number.
              </p>
            ) : null}
          </div>
        </details>
      ) : null}
      <button
        type="button"
        className="btn-link mt-2"
        onClick={() => show({ title: "row plan", value: "", steps: block.working }, true)}
      >
        Working of the rows
      </button>
    </section>
  );
}

/** The ladder of classes: what this block takes, and what the class above takes for it. */
function Generations({ block }: { block: BlockData }) {
  const { show } = useWorking();
  const { rungs, classes, problem, working } = block.generations;
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Generations</h2>
      {problem ? <p className="fault">{problem}</p> : null}
      <table className="tbl mt-1">
        <tbody>
          <tr>
            <td>
              <b>{block.class_name}</b>
            </td>
            <td className="num">{kilos(block.needed)}</td>
            <td className="num">{hectares(block.area_m2)}</td>
            <td className="note">laid out; {kilos(Math.round(block.expected))} expected</td>
          </tr>
          {rungs
            .filter((rung) => weighed(rung.unit))
            .map((rung) => (
              <tr key={rung.key}>
                <td>{rung.name}</td>
                <td className="num">{kilos(rung.value)}</td>
                <td />
                <td className="note">{rung.words}</td>
              </tr>
            ))}
          {classes.map((one) => (
            <tr key={one.role}>
              <td>
                <b>{one.seed_class}</b> {one.line}
              </td>
              <td className="num">{kilos(one.kg)}</td>
              <td className="num">{(one.area_ha * 10_000).toFixed(0)} m²</td>
              <td className="note">
                for what is promised; sown with {(one.seed_in_kg * 1000).toFixed(0)} g of {one.from_class}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {working.length ? (
        <button
          type="button"
          className="btn-link mt-2"
          onClick={() => show({ title: "generations", value: "", steps: working }, true)}
        >
          Working of the classes
        </button>
      ) : null}
    </section>
  );
}
