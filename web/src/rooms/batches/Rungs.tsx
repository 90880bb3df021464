import { useLayoutEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { useProposal } from "../../shell/proposal";
import { useWorking } from "../../shell/working";
import { isoWeek, shortDay } from "../../ui/dates";
import { count, decimals, hectares, isGround, share } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { OriginMark } from "../../ui/parts";
import { Futures } from "./Futures";
import { type LogScale, makeLogScale } from "./ladderScale";
import { RateForm } from "./RateForm";

type Batch = Schemas["LadderOut"];
type Rung = Schemas["RungOut"];
const RUNG = 42;
const RATE = 23;
const BAR = 20;
const LEFT = 372;

/** The ladder: from what is delivered down to what is sown, one rung a stage. */
export function Rungs({ batch }: { batch: Batch }) {
  const holder = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(420);
  const narrow = width < 200; // a phone has room for the figures, not for the bars
  useLayoutEffect(() => {
    const element = holder.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(element.clientWidth - LEFT));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  const promised = batch.orders.reduce((sum, order) => sum + order.quantity, 0);
  const scale = makeLogScale(batch.rungs, Math.max(160, width - 120), promised);
  const tops: number[] = [];
  let y = 26;
  for (const rung of batch.rungs) {
    tops.push(y);
    y += RUNG + (rung.rate ? RATE : 0);
  }
  return (
    <div ref={holder} className="relative mt-2" style={{ height: y }}>
      {narrow ? null : (
        <svg className="absolute top-0" style={{ left: LEFT }} width={width} height={y} aria-hidden="true">
          <Axis scale={scale} height={y} />
          {batch.rungs.map((rung, n) => (
            <Bar key={rung.key} rung={rung} y={tops[n] ?? 0} scale={scale} promised={n === 0 ? promised : 0} />
          ))}
          <Links rungs={batch.rungs} tops={tops} scale={scale} />
          <Band rungs={batch.rungs} tops={tops} scale={scale} />
        </svg>
      )}
      {batch.rungs.map((rung, n) => (
        <RungRow key={rung.key} batch={batch} rung={rung} y={tops[n] ?? 0} />
      ))}
    </div>
  );
}

function Axis({ scale, height }: { scale: LogScale; height: number }) {
  return (
    <g>
      <rect x={0} y={18} width={scale.fold} height={height} className="fill-frame" />
      {[...scale.foldTicks, ...scale.ticks].map((tick) => (
        <g key={tick}>
          <line x1={scale.x(tick)} x2={scale.x(tick)} y1={16} y2={height} className="stroke-hair" />
          <text
            x={scale.x(tick)}
            y={11}
            textAnchor={tick === 1 ? "start" : "middle"}
            className="cond fill-ink2 text-note"
          >
            {count(tick)}
          </text>
        </g>
      ))}
      <line x1={0} x2={scale.width} y1={16} y2={16} className="stroke-rule" />
    </g>
  );
}

function Bar({ rung, y, scale, promised }: { rung: Rung; y: number; scale: LogScale; promised: number }) {
  const end = scale.x(rung.value);
  const need = rung.needed === null ? end : Math.min(end, scale.x(rung.needed));
  const inFold = rung.key === "trays" || rung.key === "seed_g";
  return (
    <g>
      <rect x={0} y={y + 4} width={end} height={BAR} className="fill-plan" />
      <rect x={0} y={y + 4} width={need} height={BAR} className={inFold ? "fill-plan" : "fill-stand"} />
      <rect x={0} y={y + 4} width={end} height={BAR} className="fill-none stroke-line" strokeWidth={1} />
      {rung.needed !== null && need < end ? (
        <line x1={need} x2={need} y1={y + 4} y2={y + 4 + BAR} className="stroke-ink" strokeWidth={1.5} />
      ) : null}
      {promised ? (
        <g>
          <line
            x1={scale.x(promised)}
            x2={scale.x(promised)}
            y1={y - 8}
            y2={y + 8 + BAR}
            className="stroke-ink"
            strokeWidth={3}
          />
          <text x={scale.x(promised) + 6} y={y - 1} className="cond fill-ink text-note font-bold">
            promised {count(promised)}
          </text>
        </g>
      ) : null}
      {rung.key === "start" && rung.needed !== null && rung.value > rung.needed ? (
        <text x={end + 6} y={y + 18} className="cond fill-ink2 text-note">
          {count(rung.value - rung.needed)} on top
        </text>
      ) : null}
      {rung.counted !== null && rung.counted_share !== null ? (
        <g>
          <path d={`M ${scale.x(rung.counted) - 5} ${y - 3} h 10 l -5 7 Z`} className="fill-ink" />
          <line
            x1={scale.x(rung.counted)}
            x2={scale.x(rung.counted)}
            y1={y + 2}
            y2={y + 8 + BAR}
            className="stroke-ink"
            strokeWidth={3}
          />
          <text
            x={Math.max(2, scale.x(rung.counted) - 6)}
            y={y + 18}
            textAnchor="end"
            className="cond fill-ink text-note font-bold"
          >
            counted {count(rung.counted)}, {share(rung.counted_share)}
          </text>
          <text x={end + 6} y={y + 18} className="cond fill-ink2 text-note">
            planned {share(rung.rate?.mean)}
          </text>
        </g>
      ) : null}
    </g>
  );
}

/** Thin lines join the ends of neighbouring bars; dotted where the unit changes. */
function Links({ rungs, tops, scale }: { rungs: Rung[]; tops: number[]; scale: LogScale }) {
  return rungs.slice(1).map((rung, n) => {
    const above = rungs[n];
    if (!above) return null;
    const unit = rung.kind === "unit";
    return (
      <line
        key={rung.key}
        x1={scale.x(above.value)}
        y1={(tops[n] ?? 0) + 4 + BAR}
        x2={scale.x(rung.value)}
        y2={(tops[n + 1] ?? 0) + 4}
        className="stroke-line"
        strokeDasharray={unit ? "2 3" : undefined}
      />
    );
  });
}

/** The forecast spreads from the last count to the delivery. */
function Band({ rungs, tops, scale }: { rungs: Rung[]; tops: number[]; scale: LogScale }) {
  const points = rungs
    .map((rung, n) => ({ rung, y: tops[n] ?? 0 }))
    .filter((point) => point.rung.band)
    .reverse();
  const first = points[0];
  const last = points.at(-1);
  if (!first || !last || points.length < 2) return null;
  const line = (pick: "low" | "middle" | "high") =>
    points.map(
      ({ rung, y }) =>
        `${scale.x(rung.band?.[pick] ?? 0).toFixed(1)} ${y + BAR + 4} L ${scale.x(rung.band?.[pick] ?? 0).toFixed(1)} ${y + 4}`,
    );
  const left = line("low").join(" L ");
  const right = points
    .slice()
    .reverse()
    .map(
      ({ rung, y }) =>
        `${scale.x(rung.band?.high ?? 0).toFixed(1)} ${y + 4} L ${scale.x(rung.band?.high ?? 0).toFixed(1)} ${y + BAR + 4}`,
    )
    .join(" L ");
  const label = `forecast ${count(last.rung.band?.middle)}`;
  const at = scale.x(last.rung.band?.low ?? 0);
  return (
    <g>
      <path d={`M ${left} L ${right} Z`} className="fill-panel" fillOpacity={0.78} />
      <path d={`M ${left}`} className="fill-none stroke-ink" />
      <path d={`M ${line("high").join(" L ")}`} className="fill-none stroke-ink" />
      <path
        d={`M ${line("middle").join(" L ")}`}
        className="fill-none stroke-ink"
        strokeWidth={2}
        strokeDasharray="5 3"
      />
      <text
        x={Math.max(2, at - 6)}
        y={last.y + 18}
        textAnchor={at > 90 ? "end" : "start"}
        className="cond fill-ink text-note font-bold"
      >
        {label}
      </text>
    </g>
  );
}

function RungRow({ batch, rung, y }: { batch: Batch; rung: Rung; y: number }) {
  const { propose } = useProposal();
  const { show } = useWorking();
  const may = useMay();
  const digits = decimals(rung.value, rung.unit);
  const shown = rung.value.toLocaleString("en-GB", { maximumFractionDigits: digits, minimumFractionDigits: digits });
  const [text, setText] = useState(shown);
  const [typing, setTyping] = useState(false);
  const steps = batch.workings[rung.key] ?? [];
  const explain = (reveal: boolean) =>
    show(
      {
        title: `${rung.name.toLowerCase()}`,
        value: `${shown} ${rung.unit}`,
        steps,
        picture:
          rung.key === "start" && batch.forecast && batch.counted === null ? (
            <Futures forecast={batch.forecast} />
          ) : undefined,
        change: changes(batch, rung),
      },
      reveal,
    );
  const commit = () => {
    setTyping(false);
    const value = readTyped(text);
    if (value === null || Math.abs(value - rung.value) < 0.5 * 10 ** -digits) {
      setText(shown);
      return;
    }
    propose(batch.id, { typed: { rung: rung.key, text } });
  };
  const editable = rung.editable && may("batches.plan");
  return (
    <>
      <div className="absolute left-0 flex w-[366px] items-start" style={{ top: y, height: RUNG }}>
        <div className="cond w-[72px] flex-none text-note">
          {rung.date ? (
            <>
              {shortDay(rung.date)}
              <div className="text-ink3">week {isoWeek(rung.date).week}</div>
            </>
          ) : null}
        </div>
        <div className="w-[112px] flex-none">
          <b>{rung.name}</b>
          <div className="note truncate">
            {[rung.place, rung.until ? `over when ${rung.until}` : ""].filter(Boolean).join("; ")}
          </div>
        </div>
        <div className="w-[104px] flex-none">
          {editable ? (
            <input
              className="w-full border-ink3 border-b border-dotted bg-transparent text-right text-h1 font-semibold"
              aria-label={`${rung.name}, ${rung.unit}`}
              value={typing ? text : shown}
              onFocus={() => {
                setTyping(true);
                setText(shown);
                explain(false);
              }}
              onChange={(event) => setText(event.target.value)}
              onBlur={commit}
              onKeyDown={(event) => {
                if (event.key === "Enter") event.currentTarget.blur();
                if (event.key === "Escape") {
                  setText(shown);
                  setTyping(false);
                }
              }}
            />
          ) : (
            <button
              type="button"
              className="w-full border-ink3 border-b border-dotted text-right text-h1 font-semibold"
              onClick={() => explain(true)}
              onFocus={() => explain(false)}
            >
              {shown}
            </button>
          )}
        </div>
        <div className="cond w-[76px] flex-none whitespace-nowrap pl-2 text-note">
          {rung.unit}
          {isGround(rung.unit) && rung.value >= 10_000 ? <div>{hectares(rung.value)}</div> : null}
          {rung.band && !isGround(rung.unit) ? <div className="font-bold">now {count(rung.band.middle)}</div> : null}
        </div>
      </div>
      {rung.rate ? (
        <div
          className="absolute left-[72px] flex items-center gap-2 whitespace-nowrap"
          style={{ top: y + RUNG - 4, height: RATE }}
        >
          <OriginMark origin={rung.rate.origin} source={rung.rate.source} />
          <button type="button" className="btn-link" onClick={() => explain(true)}>
            {rung.rate.words} {share(rung.rate.mean, 1)}
          </button>
          <span className="note hidden max-w-[150px] truncate sm:inline" title={rung.rate.source}>
            {rung.rate.source.replace(/^library: /, "")}
          </span>
        </div>
      ) : null}
    </>
  );
}

function changes(batch: Batch, rung: Rung) {
  if (!rung.rate || batch.state === "delivered" || batch.state === "abandoned") return undefined;
  return (
    <RateForm
      key={`${batch.id}.${rung.key}.${batch.version}`}
      batchId={batch.id}
      stage={rung.stage}
      name={rung.name}
      rate={rung.rate}
    />
  );
}

/** “12k”, “12,000”, “7.1 g”: the number in it. */
export function readTyped(text: string): number | null {
  const match = /^\s*(\d[\d ,]*(?:\.\d+)?|\.\d+)\s*(k|thousand)?/i.exec(text);
  if (!match?.[1]) return null;
  const value = Number(match[1].replace(/[ ,]/g, ""));
  return Number.isFinite(value) && value > 0 ? value * (match[2] ? 1000 : 1) : null;
}
