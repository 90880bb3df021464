import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { AskField, AskForm } from "../../ui/AskForm";
import { area, count, few, share, stepValue } from "../../ui/format";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";

type Found = Schemas["BedsOut"];
const POTS = ["pot", "apart", "pots"];
const START = {
  house_length: "",
  house_width: "",
  end_clearance: "0.6",
  bed_width: "1.2",
  path_width: "0.4",
  outer: "yes",
  beds: "",
  bed_length: "",
  rows: "",
  in_row: "",
  pot: "",
  apart: "",
  staggered: "",
  pots: "",
  lines: "",
  emitter_apart: "30 cm",
  emitter_flow: "1.6",
  water: "",
  sheet: "",
  overlap: "0.5",
  held: "0.5",
};

/** Beds laid out in a house, drawn to scale; what does not fit says what would. */
export function BedLayout({ onClose, onTake }: { onClose: () => void; onTake: ((net_m2: number) => void) | null }) {
  const [found, setFound] = useState<Found | null>(null);
  const [paper, setPaper] = useState("");
  const ask = useAsk({
    start: START,
    again: false,
    names: (field) => field.replace(/_m$/, ""),
    onDone: (made) => {
      setFound(made);
      setPaper(paperOf(ask.form.getValues()));
    },
    save: (typed: typeof START) => take(api.POST("/api/places/layout", { body: bodyOf(typed) })),
  });
  return (
    <Sheet open onClose={onClose} title="Lay out beds" wide>
      <div className="grid items-start gap-6 lg:grid-cols-[20rem_1fr]">
        <AskForm ask={ask} button="Lay them out" big="phone">
          <p className="note">In metres, or with the unit: “46 ft”, “30 in”.</p>
          <div className="grid grid-cols-2 gap-3">
            <AskField ask={ask} name="house_length" label="House, long" />
            <AskField ask={ask} name="house_width" label="wide" />
            <AskField ask={ask} name="bed_width" label="A bed, wide" />
            <AskField ask={ask} name="path_width" label="A path, wide" />
            <AskField ask={ask} name="end_clearance" label="Free at each end" />
          </div>
          <AskField ask={ask} name="outer" label="A path along both walls too" type="check" />
          <div className="grid grid-cols-2 gap-3">
            <AskField ask={ask} name="beds" label="Beds wanted" hint="empty: as many as fit" digits="whole" />
            <AskField ask={ask} name="bed_length" label="of length" hint="empty: as long as fits" />
            <AskField ask={ask} name="rows" label="Rows on a bed" hint="empty: no plants" digits="whole" />
            <AskField ask={ask} name="in_row" label="Plant to plant" />
          </div>
          <details open={found?.pots.length || ask.told.some((one) => POTS.includes(one)) ? true : undefined}>
            <summary className="btn-link w-fit cursor-pointer list-none">Pots, and how they are spaced</summary>
            <div className="mt-2 grid grid-cols-2 items-start gap-3">
              <AskField ask={ask} name="pot" label="A pot, across" hint="cm" />
              <AskField ask={ask} name="pots" label="How many" hint="empty: as many as stand" digits="whole" />
              <AskField
                ask={ask}
                name="apart"
                label="From middle to middle"
                hint="cm, as they are spaced: “10, 18, 25”"
              />
              <AskField ask={ask} name="staggered" label="In the gaps of the row before" type="check" />
            </div>
          </details>
          <details open={found?.drip || found?.watering || found?.cover ? true : undefined}>
            <summary className="btn-link w-fit cursor-pointer list-none">Drip lines, water, covers</summary>
            <div className="mt-2 grid grid-cols-2 items-start gap-3">
              <AskField ask={ask} name="lines" label="Lines on a bed" hint="empty: none" digits="whole" />
              <AskField ask={ask} name="emitter_apart" label="An emitter every" />
              <AskField ask={ask} name="emitter_flow" label="One gives" hint="litres an hour" digits />
              <AskField ask={ask} name="water" label="Water at once" hint="mm: “5”, “0.2 in”" />
              <AskField ask={ask} name="sheet" label="A sheet is wide" hint="empty: no cover" />
              <AskField ask={ask} name="overlap" label="lies over by" />
              <AskField ask={ask} name="held" label="held at the edges by" />
            </div>
          </details>
        </AskForm>
        {found ? (
          <Laid found={found} paper={paper} onTake={onTake} />
        ) : (
          <p className="note">What fits is drawn here, to scale, with the ground of the beds and of the house.</p>
        )}
      </div>
    </Sheet>
  );
}

const bodyOf = ({ outer, staggered, ...typed }: typeof START) => ({
  ...typed,
  outer_paths: outer === "yes",
  staggered: staggered === "yes",
});

/** The card on paper, of what was typed. */
function paperOf(typed: typeof START): string {
  const query = new URLSearchParams(Object.entries(bodyOf(typed)).map(([name, value]) => [name, String(value)]));
  return `/api/places/layout.pdf?${query}`;
}

interface LaidProps {
  found: Found;
  paper: string;
  onTake: ((net_m2: number) => void) | null;
}

function Laid({ found, paper, onTake }: LaidProps) {
  const two = (value: number) => value.toFixed(2);
  return (
    <div className="min-w-0">
      <p className="text-[1.15rem] leading-7" role="status">
        <b>
          {few(found.beds, "bed")} of {two(found.bed_length_m)} m
        </b>
        {found.plants === null ? "" : `, ${count(found.plants)} plants`}.
      </p>
      <Plan found={found} />
      <table className="tbl mt-3 max-w-xl">
        <tbody>
          <Row words="Ground of the beds, net" value={`${area(found.net_m2)} m²`} per={found.net_per_m2} />
          <Row words="Ground of the house, gross" value={`${area(found.gross_m2)} m²`} per={found.gross_per_m2} />
          <Row words="Used by the beds" value={share(found.share_used)} />
          {found.drip ? (
            <Row
              words={`${few(found.drip.lines, "drip line")}, ${count(Math.ceil(found.drip.metres))} m`}
              value={`${few(found.drip.emitters, "emitter")}, ${count(Math.round(found.drip.litres_an_hour))} L/h`}
            />
          ) : null}
          {found.watering ? (
            <Row
              words={`${Number(found.watering.mm.toFixed(2))} mm at once`}
              value={[
                `${count(Math.round(found.watering.litres))} L`,
                found.watering.minutes === null ? "" : `runs for ${few(Math.round(found.watering.minutes), "minute")}`,
                found.watering.litres_a_plant === null ? "" : `${found.watering.litres_a_plant.toFixed(2)} L a plant`,
              ]
                .filter(Boolean)
                .join(", ")}
            />
          ) : null}
          {found.cover ? (
            <Row
              words={`${few(found.cover.sheets, "sheet")} over all beds`}
              value={`each ${two(found.cover.length_m)} m, ${count(Math.ceil(found.cover.metres))} m in all`}
            />
          ) : null}
        </tbody>
      </table>
      {found.pots.length && found.pot_m !== null ? <Pots found={found} pot={found.pot_m} /> : null}
      <details className="mt-3">
        <summary className="btn-link cursor-pointer">How it was reckoned</summary>
        <ul className="mt-1">
          {found.working.map((step) => (
            <li key={step.label}>
              <b>{step.label}</b>: {step.formula} = {stepValue(step.value, step.unit)}
            </li>
          ))}
        </ul>
      </details>
      <div className="mt-3 flex flex-wrap gap-3">
        {onTake ? (
          <button type="button" className="btn" onClick={() => onTake(found.net_m2)}>
            Add these beds as a place
          </button>
        ) : null}
        <a className="btn" href={paper} target="_blank" rel="noreferrer">
          Print on A5
        </a>
      </div>
    </div>
  );
}

/** Pots at each distance to which they are spaced: the figures, and the first metres of a bed to scale. */
function Pots({ found, pot }: { found: Found; pot: number }) {
  const cm = (value: number) => `${Number((value * 100).toFixed(1))} cm`;
  const long = Math.min(2, found.bed_length_m);
  const scale = 150 / long;
  return (
    <section className="mt-4" aria-label="Pots">
      <h3 className="font-semibold">Pots of {cm(pot)}, spaced as they grow</h3>
      <table className="tbl mt-1 max-w-xl">
        <thead>
          <tr>
            <th>From middle to middle</th>
            <th className="num">Rows</th>
            <th className="num">On a bed</th>
            <th className="num">On all</th>
            <th className="num">a m² net</th>
            <th className="num">gross</th>
            {found.pots_wanted === null ? null : <th className="num">Beds for {count(found.pots_wanted)}</th>}
          </tr>
        </thead>
        <tbody>
          {found.pots.map((one) => (
            <tr key={one.apart_m}>
              <td>{cm(one.apart_m)}</td>
              <td className="num">{count(one.rows)}</td>
              <td className="num">{count(one.a_bed)}</td>
              <td className="num">{count(one.pots)}</td>
              <td className="num">{one.net_per_m2.toFixed(1)}</td>
              <td className="num">{one.gross_per_m2.toFixed(1)}</td>
              {one.beds_for === null ? null : (
                <td className="num">
                  {one.beds_for > found.beds ? <b>{count(one.beds_for)}, too many</b> : count(one.beds_for)}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-2 flex flex-wrap gap-4">
        {found.pots.map((one) => (
          <figure key={one.apart_m} className="m-0">
            <svg
              width={150}
              height={found.bed_width_m * scale + 2}
              role="img"
              aria-label={`${long} m of a bed with pots ${cm(one.apart_m)} apart`}
            >
              <rect x={0.5} y={0.5} width={149} height={found.bed_width_m * scale} className="fill-frame stroke-ink" />
              {one.middles_m.map(({ along, across }) => (
                <circle
                  key={`${along} ${across}`}
                  cx={along * scale}
                  cy={across * scale}
                  r={(pot / 2) * scale}
                  className="fill-plan stroke-line"
                />
              ))}
            </svg>
            <figcaption className="note">
              {cm(one.apart_m)}, {long} m of a bed
            </figcaption>
          </figure>
        ))}
      </div>
    </section>
  );
}

function Row({ words, value, per }: { words: string; value: string; per?: number | null }) {
  return (
    <tr>
      <th scope="row">{words}</th>
      <td className="num">{value}</td>
      <td className="num">{per == null ? "" : `${per.toFixed(1)} plants a m²`}</td>
    </tr>
  );
}

const WIDE = 640;
const MOST = 340;
const EDGE = 30;

/** The house from above, its beds and paths to scale. */
function Plan({ found }: { found: Found }) {
  const scale = Math.min((WIDE - 2 * EDGE) / found.house_length_m, MOST / found.house_width_m);
  const [long, high] = [found.house_length_m * scale, found.house_width_m * scale];
  const begin = EDGE + ((found.house_length_m - found.bed_length_m) / 2) * scale;
  const metres = (value: number) => `${Number(value.toFixed(2))} m`;
  const thick = found.bed_width_m * scale;
  return (
    <svg
      className="mt-2 block w-full max-w-[640px]"
      viewBox={`0 0 ${WIDE} ${high + 52}`}
      role="img"
      aria-label={`A house of ${metres(found.house_length_m)} by ${metres(found.house_width_m)} with ${few(found.beds, "bed")} along it`}
    >
      <rect x={EDGE} y={8} width={long} height={high} className="fill-frame stroke-ink" strokeWidth={2} />
      {found.edges_m.map((edge, n) => (
        <g key={edge}>
          <rect
            x={begin}
            y={8 + edge * scale}
            width={found.bed_length_m * scale}
            height={thick}
            className="fill-plan stroke-line"
          />
          {thick > 13 ? (
            <text x={begin + 6} y={8 + edge * scale + thick / 2 + 4} className="cond fill-ink text-note font-bold">
              {n + 1}
            </text>
          ) : null}
        </g>
      ))}
      <path d={`M ${EDGE} ${high + 16} v 6 h ${long} v -6`} className="fill-none stroke-ink" />
      <text x={EDGE + long / 2} y={high + 38} textAnchor="middle" className="cond fill-ink text-note">
        {metres(found.house_length_m)}
      </text>
      <text
        x={EDGE - 8}
        y={8 + high / 2}
        textAnchor="middle"
        className="cond fill-ink text-note"
        transform={`rotate(-90 ${EDGE - 8} ${8 + high / 2})`}
      >
        {metres(found.house_width_m)}
      </text>
    </svg>
  );
}
