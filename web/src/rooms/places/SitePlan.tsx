import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type { Schemas } from "../../api/client";
import { boardQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { useGo } from "../../ui/Door";
import { addDays } from "../../ui/dates";
import { count, isGround, quantity, share } from "../../ui/format";
import { textWidth } from "../../ui/textWidth";

type Place = Schemas["PlaceOut"];
type Lane = Schemas["LaneOut"];
const WIDTH = 560;
const MOST = 380;
const PAD = 24;

/** What is there, to scale: fields where they lie, and what is under glass by its area, each filled as far as it is today. */
export function SitePlan({ places }: { places: Place[] }) {
  const { today } = useSpan();
  const { data } = useQuery(boardQuery(today, addDays(today, 7)));
  const lanes = useMemo(() => new Map(data?.lanes.map((lane) => [lane.place_id, lane])), [data]);
  const open = places.filter((place) => place.active);
  const fields = open.filter((place) => (place.corners_m?.length ?? 0) > 2);
  const benches = open.filter((place) => place.kind !== "field" && place.usable && isGround(place.unit));
  if (!fields.length && !benches.length) return null;
  return (
    <section aria-label="Plan of the site" className="mb-5 grid gap-6 lg:grid-cols-[minmax(320px,560px)_1fr]">
      {fields.length ? <Fields fields={fields} lanes={lanes} /> : null}
      {benches.length ? <Benches benches={benches} lanes={lanes} /> : null}
    </section>
  );
}

/** What stands in a lane today, by crop. */
function standing(lane: Lane | undefined, today: string): string {
  const crops = lane?.bodies.filter((body) => body.start <= today && today < body.end).map((body) => body.crop) ?? [];
  return [...new Set(crops)].join(", ");
}

const STEPS = [10, 20, 50, 100, 200, 500, 1000, 2000];

function Fields({ fields, lanes }: { fields: Place[]; lanes: Map<number, Lane> }) {
  const { today } = useSpan();
  const go = useGo();
  const all = fields.flatMap((place) => place.corners_m ?? []);
  const [xs, ys] = [all.map(([x = 0]) => x), all.map(([, y = 0]) => y)];
  const [west, east, south, north] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  const scale = Math.min((WIDTH - 2 * PAD) / Math.max(1, east - west), (MOST - 2 * PAD) / Math.max(1, north - south));
  const px = ([x = 0, y = 0]: number[]) => [PAD + (x - west) * scale, PAD + (north - y) * scale] as const;
  const height = (north - south) * scale + 2 * PAD + 16;
  // A name that would lie over another one is told by its shape's title.
  const placed: [number, number, number][] = [];
  const named = new Set(
    fields
      .filter((place) => {
        const ring = (place.corners_m ?? []).map(px);
        const [x = 0, y = 0] = [0, 1].map((n) => ring.reduce((sum, one) => sum + (one[n] ?? 0), 0) / ring.length);
        const half = textWidth(place.name, true) / 2;
        if (placed.some(([ax, ay, ahalf]) => Math.abs(ax - x) < half + ahalf + 2 && Math.abs(ay - y) < 15))
          return false;
        placed.push([x, y, half]);
        return true;
      })
      .map((place) => place.id),
  );
  const step = STEPS.find((metres) => metres * scale > 50) ?? 5000;
  return (
    <figure>
      <svg
        viewBox={`0 0 ${WIDTH} ${height}`}
        className="block w-full bg-frame"
        role="group"
        aria-label="Fields to scale, north up"
      >
        {fields.map((place) => {
          const ring = (place.corners_m ?? []).map(px);
          const crop = standing(lanes.get(place.id), today);
          const mid = [0, 1].map((n) => ring.reduce((sum, one) => sum + (one[n] ?? 0), 0) / ring.length);
          const says = `${place.name}, ${quantity(place.capacity ?? 0, place.unit)}${crop ? `: ${crop}` : ", nothing stands there today"}`;
          return (
            <g
              key={place.id}
              role="link"
              tabIndex={0}
              aria-label={says}
              className="group cursor-pointer outline-none"
              onClick={() => go(`/batches?view=board&place=${place.id}`)}
              onKeyDown={(event) => event.key === "Enter" && go(`/batches?view=board&place=${place.id}`)}
            >
              <title>{says}</title>
              <polygon
                points={ring.map((one) => one.join(",")).join(" ")}
                className={`stroke-line group-focus-visible:stroke-ink group-focus-visible:stroke-[3px] ${crop ? "fill-stand" : "fill-paper"}`}
                strokeWidth={1.5}
              />
              {named.has(place.id) ? (
                <text
                  x={mid[0]}
                  y={mid[1]}
                  textAnchor="middle"
                  className="cond fill-ink stroke-paper text-note font-bold"
                  strokeWidth={3}
                  style={{ paintOrder: "stroke" }}
                >
                  {place.name}
                </text>
              ) : null}
            </g>
          );
        })}
        <path d={`M ${PAD} ${height - 12} v 5 h ${step * scale} v -5`} className="fill-none stroke-ink" />
        <text x={PAD + step * scale + 6} y={height - 7} className="cond fill-ink2 text-note">
          {count(step)} m
        </text>
        <path d={`M ${WIDTH - 20} ${height - 8} v -18 m -4 6 l 4 -6 l 4 6`} className="fill-none stroke-ink" />
      </svg>
      <figcaption className="note mt-1">Our own outlines, north up; filled where a crop stands today.</figcaption>
    </figure>
  );
}

function Benches({ benches, lanes }: { benches: Place[]; lanes: Map<number, Lane> }) {
  const { today } = useSpan();
  const go = useGo();
  const most = Math.max(...benches.map((place) => place.usable ?? 0));
  return (
    <div>
      <h2 className="mb-1">Under cover, by usable area</h2>
      <ul>
        {benches.map((place) => {
          const full = (lanes.get(place.id)?.now ?? 0) / (place.usable ?? 1);
          return (
            <li key={place.id} className="grid grid-cols-[7.5rem_1fr_9rem] items-center gap-2 py-0.5">
              <button
                type="button"
                className="btn-link truncate text-left"
                onClick={() => go(`/batches?view=board&place=${place.id}`)}
              >
                {place.name}
              </button>
              <span
                className="relative block h-4 border border-line bg-panel"
                style={{ width: `${Math.max(1.5, ((place.usable ?? 0) / most) * 100)}%` }}
              >
                <span
                  className="absolute inset-y-0 left-0 block bg-stand"
                  style={{ width: `${Math.min(1, full) * 100}%` }}
                />
              </span>
              <span className={full > 1 ? "font-bold" : "text-ink2"}>
                {share(full)} of {quantity(place.usable ?? 0, place.unit)}
                <span className="sr-only">
                  {" "}
                  today{standing(lanes.get(place.id), today) ? `: ${standing(lanes.get(place.id), today)}` : ""}
                </span>
              </span>
            </li>
          );
        })}
      </ul>
    </div>
  );
}
