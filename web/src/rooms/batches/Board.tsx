import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { flushSync } from "react-dom";
import type { Schemas } from "../../api/client";
import { boardQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { addDays, type Day, daysBetween } from "../../ui/dates";
import { few } from "../../ui/format";
import { useSpare } from "../../ui/hooks";
import { Empty, Faults } from "../../ui/parts";
import { BoardHands, useLifted } from "./boardHands";
import { heightOf, NARROW_HEAD } from "./boardLayout";
import { LaneRow } from "./Lane";
import { SumLanes } from "./SumLanes";

type Lane = Schemas["LaneOut"];

/** One lane a place, time across: a lane visibly fills and overflows. Only what is in sight is drawn. */
export function Board({ place }: { place: string | undefined }) {
  const { span, season } = useSpan();
  const end = addDays(span.start, span.days);
  const window = fetched(season.start, span.start, end);
  const { data, error } = useQuery({ ...boardQuery(window.start, window.end), placeholderData: (old) => old });
  if (!data) {
    return (
      <div className="px-4 text-ink3">
        {error ? "" : "Fetching …"}
        <Faults error={error} />
      </div>
    );
  }
  if (!data.lanes.length) {
    return (
      <div className="px-4">
        <Empty title="No places yet">
          <p>A lane is a place with a capacity. Add benches, rooms and fields, and what stands there is drawn here.</p>
          <Link className="btn" to="/places">
            Go to places
          </Link>
        </Empty>
      </div>
    );
  }
  return (
    <BoardHands lanes={data.lanes}>
      <Lanes lanes={data.lanes} from={data.start} start={span.start} end={end} place={place} />
      <SumLanes from={window.start} to={window.end} start={span.start} end={end} />
    </BoardHands>
  );
}

const SPARE = 2; // lanes drawn beyond what is seen
const LANE = 56; // px, as most are
const BLOCK = 120;
const MOST = 800;

/** The days that are fetched to show a span: whole blocks round it, so that a drag seldom asks again. */
function fetched(from: Day, start: Day, end: Day): { start: Day; end: Day } {
  const first = Math.floor(daysBetween(from, start) / BLOCK) * BLOCK;
  const last = Math.ceil((daysBetween(from, end) + 1) / BLOCK) * BLOCK;
  return { start: addDays(from, first), end: addDays(from, Math.min(last, first + MOST)) };
}

function Lanes({
  lanes,
  from,
  start,
  end,
  place,
}: {
  lanes: Lane[];
  from: Day;
  start: Day;
  end: Day;
  place: string | undefined;
}) {
  const { scale } = useSpan();
  const lifted = useLifted();
  const [unfolded, setUnfolded] = useState(false);
  const [printing, setPrinting] = useState(false);
  const head = scale.left < 60 ? NARROW_HEAD : 0;
  const { busy, empty } = useMemo(() => {
    const stands = (lane: Lane) => lane.bodies.some((body) => body.start < end && body.end > start);
    const kept = (lane: Lane) => stands(lane) || String(lane.place_id) === place;
    return { busy: lanes.filter(kept), empty: lanes.filter((lane) => !kept(lane)) };
  }, [lanes, start, end, place]);
  // While a batch is in the hand it may be put down anywhere, so every place is there.
  const all = unfolded || lifted !== null;
  const shown = useMemo(() => (all ? [...busy, ...empty] : busy), [all, busy, empty]);
  const top = useRef<HTMLDivElement>(null);
  const spare = useSpare(SPARE, LANE);
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => document.getElementById("work"),
    estimateSize: (n) => (shown[n] ? heightOf(shown[n], from, start, end, head) : 40),
    getItemKey: (n) => shown[n]?.place_id ?? n,
    scrollMargin: top.current?.offsetTop ?? 0,
    overscan: spare,
  });
  useEffect(() => virtual.measure(), [start, end, head, virtual]);
  const wanted = shown.findIndex((lane) => String(lane.place_id) === place);
  useEffect(() => {
    if (wanted >= 0) virtual.scrollToIndex(wanted, { align: "center" });
  }, [place]);
  // What is out of sight is drawn to be printed.
  useEffect(() => {
    const whole = () => flushSync(() => setPrinting(true));
    const again = () => setPrinting(false);
    window.addEventListener("beforeprint", whole);
    window.addEventListener("afterprint", again);
    return () => {
      window.removeEventListener("beforeprint", whole);
      window.removeEventListener("afterprint", again);
    };
  }, []);
  const items = printing
    ? shown.map((lane, index) => ({ index, key: lane.place_id, start: 0, end: 0 }))
    : virtual.getVirtualItems();
  const margin = virtual.options.scrollMargin;
  const above = printing ? 0 : Math.max(0, (items[0]?.start ?? margin) - margin);
  const below = printing ? 0 : Math.max(0, virtual.getTotalSize() - ((items.at(-1)?.end ?? margin) - margin));
  return (
    <div ref={top} className="overflow-x-clip pb-4">
      <div style={{ height: above }} />
      {items.map((item) => {
        const lane = shown[item.index];
        return lane ? (
          <div key={item.key} data-index={item.index} ref={printing ? undefined : virtual.measureElement}>
            <LaneRow
              lane={lane}
              from={from}
              start={start}
              end={end}
              head={head}
              chosen={String(lane.place_id) === place}
            />
          </div>
        ) : null;
      })}
      <div style={{ height: below }} />
      {busy.length ? null : (
        <div className="px-4">
          <Empty title="Nothing stands in these weeks">
            <p>
              A batch is one run of a method. Take in orders and plan them, and each stands here in its places, as high
              as the share that it takes.
            </p>
            <Link className="btn" to="/orders">
              Go to orders
            </Link>
          </Empty>
        </div>
      )}
      {empty.length ? (
        <p className="noprint px-4 py-1 text-ink2">
          {few(empty.length, "place")} {empty.length === 1 ? "stands" : "stand"} empty
          {unfolded ? "" : `: ${namesOf(empty)}`}.{" "}
          <button type="button" className="btn-link" aria-expanded={unfolded} onClick={() => setUnfolded(!unfolded)}>
            {unfolded ? "fold them" : "show them"}
          </button>
        </p>
      ) : null}
    </div>
  );
}

const NAMED = 6;

function namesOf(lanes: Lane[]): string {
  const names = lanes.slice(0, NAMED).map((lane) => lane.name);
  return lanes.length > NAMED ? `${names.join(", ")} and ${lanes.length - NAMED} more` : names.join(", ");
}
