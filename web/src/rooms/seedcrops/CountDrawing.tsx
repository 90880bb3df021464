import type { Schemas } from "../../api/client";
import { count } from "../../ui/format";
import { groundPath } from "./rowsLayout";
import type { Outlook } from "./verdictTable";

type Visit = Schemas["InspectionOut"];

/** The areas across the field, in walking order; a tap chooses one. */
export function FieldRoute({
  sheet,
  area,
  done,
  onChoose,
}: {
  sheet: Visit;
  area: number;
  done: (area: number) => boolean;
  onChoose: (area: number) => void;
}) {
  const wide = Math.max(1, ...sheet.outline.map((p) => p[0] ?? 0));
  const high = Math.max(1, ...sheet.outline.map((p) => p[1] ?? 0));
  const scale = Math.min(140 / wide, 76 / high);
  const at = ([x = 0, y = 0]: number[]) => [6 + x * scale, 6 + (high - y) * scale] as const;
  const route = sheet.points
    .map((p) =>
      at(p)
        .map((v) => v.toFixed(1))
        .join(" "),
    )
    .join("L");
  return (
    <svg
      width={152}
      height={high * scale + 12}
      role="group"
      aria-label={`Areas across the field; area ${area} is being counted`}
    >
      <polygon
        points={sheet.outline.map((p) => at(p).join(",")).join(" ")}
        className="fill-none stroke-ink"
        strokeWidth={2}
      />
      <path d={groundPath(sheet.gone, at)} fillRule="evenodd" className="fill-fold stroke-ink2" strokeDasharray="1 2" />
      <path d={`M${route}`} className="fill-none stroke-ink" strokeDasharray="2 3" />
      {sheet.points.map((point, n) => {
        const [x, y] = at(point);
        const here = n + 1 === area;
        const size = here ? 18 : 11;
        return (
          <g
            key={point.join()}
            role="button"
            tabIndex={0}
            aria-label={`Area ${n + 1}`}
            onClick={() => onChoose(n + 1)}
            onKeyDown={(event) => event.key === "Enter" && onChoose(n + 1)}
            className="cursor-pointer"
          >
            <rect x={x - 14} y={y - 14} width={28} height={28} fill="transparent" />
            <rect
              x={x - size / 2}
              y={y - size / 2}
              width={size}
              height={size}
              className={`stroke-ink ${done(n + 1) && !here ? "fill-ink" : "fill-panel"}`}
              strokeWidth={here ? 3 : 1.5}
            />
            {here ? (
              <text x={x} y={y + 5} textAnchor="middle" className="fill-ink font-bold text-body">
                {area}
              </text>
            ) : done(n + 1) ? (
              <path d={`M${x - 3} ${y}l2.2 2.6l4 -5`} className="fill-none stroke-panel" strokeWidth={1.8} />
            ) : null}
          </g>
        );
      })}
    </svg>
  );
}

const WIDE = 356;
const HIGH = 104;

/** Found against counted: the reject number above, where the count will likely end. */
export function CountDrawing({
  sheet,
  plants,
  found,
  rejectAt,
  outlook,
  words,
}: {
  sheet: Visit;
  plants: number;
  found: number;
  rejectAt: number;
  outlook: Outlook | null;
  words: string;
}) {
  const most = Math.max(rejectAt * 1.12, found * 1.1, 2);
  const last = Math.max(sheet.sample, plants);
  const x = (n: number) => 26 + (n / last) * (WIDE - 34);
  const y = (k: number) => 84 - (Math.min(k, most) / most) * 72;
  const likely = outlook && plants < sheet.sample ? outlook : null;
  return (
    <svg
      width="100%"
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="img"
      className="my-1"
      aria-label={`${found} ${words} in ${plants} plants; ${rejectAt} or more reject${likely ? `; likely end ${likely.likelyLow} to ${likely.likelyHigh}` : ""}`}
    >
      <defs>
        <pattern id="over" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="2.4" height="6" className="fill-ink" />
        </pattern>
      </defs>
      <rect x={26} y={y(most)} width={WIDE - 34} height={y(rejectAt) - y(most)} fill="url(#over)" />
      <line x1={26} x2={WIDE - 8} y1={y(rejectAt)} y2={y(rejectAt)} className="stroke-ink" strokeWidth={1.5} />
      <rect x={104} y={y(rejectAt) - 13} width={150} height={13} className="fill-panel" />
      <text x={179} y={y(rejectAt) - 3} textAnchor="middle" className="fill-ink text-note font-bold">
        {rejectAt} or more: reject
      </text>
      <text x={22} y={y(rejectAt) + 4} textAnchor="end" className="fill-ink text-note font-bold">
        {rejectAt}
      </text>
      <line x1={26} x2={WIDE - 8} y1={84} y2={84} className="stroke-ink" strokeWidth={1.5} />
      {likely ? (
        <>
          <path
            d={`M${x(plants)} ${y(found)}L${x(sheet.sample)} ${y(likely.likelyHigh)}M${x(plants)} ${y(found)}L${x(sheet.sample)} ${y(likely.likelyLow)}`}
            className="fill-none stroke-ink"
            strokeDasharray="4 3"
          />
          <text x={WIDE - 8} y={80} textAnchor="end" className="cond fill-ink text-note">
            likely end {likely.likelyLow} to {likely.likelyHigh}
          </text>
        </>
      ) : null}
      <path d={`M${x(0)} 84L${x(plants)} ${y(found)}`} className="fill-none stroke-ink" strokeWidth={2.5} />
      <circle cx={x(plants)} cy={y(found)} r={5} className="fill-ink" />
      {[0, 0.25, 0.5, 0.75, 1].map((part) => (
        <text
          key={part}
          x={x(last * part)}
          y={100}
          textAnchor={part === 0 ? "start" : part === 1 ? "end" : "middle"}
          className="fill-ink text-note"
        >
          {count(last * part)}
        </text>
      ))}
    </svg>
  );
}
