import { api, entryId, type Schemas, take } from "../../api/client";
import { type Scale, useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { addDays, dayNumber, monday, shortDay } from "../../ui/dates";
import { few, share } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Pennant } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import type { BlockData } from "./Block";
import { Arrow } from "./LayoutFields";

type Match = Schemas["MatchOut"];
type Remedy = Schemas["NickRemedyOut"];
const HIGH = 112;
const HEAD = 30;
const ROLE = { F: "female", M: "male", S: "crop" } as Record<string, string>;

/** Two curves on the season line's own axis; observed stages move them, remedies close the gap. */
export function FloweringMatch({ block, flowering }: { block: BlockData; flowering: Schemas["FloweringOut"] }) {
  const { match, problem } = flowering;
  return (
    <section className="mt-3 border-rule border-t bg-paper" aria-label="Flowering match">
      {match ? (
        <>
          <Says block={block} match={match} />
          <Elsewhere match={match} />
          <Curves match={match} />
          <Remedies block={block} match={match} />
          <Below block={block} match={match} />
        </>
      ) : (
        <div className="px-4 py-2">
          <h2>Flowering</h2>
          <p className="text-ink3">{problem}</p>
        </div>
      )}
    </section>
  );
}

function Says({ block, match }: { block: BlockData; match: Match }) {
  const { show } = useWorking();
  const gap = match.gap_days;
  const explain = () => show({ title: "flowering match", value: "", steps: match.working }, true);
  if (gap === null || match.overlap === null) {
    const first = match.parents[0];
    return (
      <div className="px-4 py-2">
        <h2>Flowering</h2>
        <p>
          First flowers about {shortDay(first?.first)}, give or take {first?.date_sd_days.toFixed(0)} days.
        </p>
      </div>
    );
  }
  const size = Math.abs(gap);
  const late = gap > 0 ? "female" : "male";
  const words =
    match.remedy_class === "none"
      ? "Both flower together."
      : `The ${late} is ${size.toFixed(0)} days late${match.gap_sd_days ? `, give or take ${match.gap_sd_days.toFixed(0)}` : ""}: ${
          match.remedy_class === "strong"
            ? "a week or more, so water alone will not do."
            : "under a week, so water and feed first."
        }`;
  const before = match.planned_overlap ?? match.overlap;
  const unsown = block.parents.some((parent) => parent.role === "M" && !parent.sown.length);
  return (
    <div className="grid gap-x-6 px-4 py-2 lg:grid-cols-[104px_1fr]">
      <h2>
        Flowering
        <br />
        match
      </h2>
      <div>
        <p>{words}</p>
        <p className="text-h2">
          {Math.round(before * 100) === Math.round(match.overlap * 100) ? null : (
            <>
              <span className="text-ink3">{share(before)}</span> <Arrow />{" "}
            </>
          )}
          <button type="button" className="border-ink3 border-b border-dotted text-h1 font-bold" onClick={explain}>
            {share(match.overlap)}
          </button>{" "}
          <span className="text-body">of the days on which the female is receptive have pollen.</span>
        </p>
        {match.after ? (
          <p>
            With what is chosen: gap {size.toFixed(0)} <Arrow />{" "}
            <b>
              {Math.abs(match.after.gap_low).toFixed(0)} to {Math.abs(match.after.gap_high).toFixed(0)} days
            </b>
            , overlap {share(match.overlap)} <Arrow /> <b>about {share(match.after.overlap)}</b>
          </p>
        ) : null}
        {unsown && match.best_male_sow && (match.best_overlap ?? 0) > match.overlap + 0.005 ? (
          <p className="text-ink3">
            Sown on {shortDay(match.best_male_sow)}, the male would cover {share(match.best_overlap)}.
          </p>
        ) : null}
      </div>
    </div>
  );
}

function pathFor(values: number[], from: string, scale: Scale, most: number): string {
  return values
    .map(
      (value, n) =>
        `${n ? "L" : "M"}${scale.x(addDays(from, n)).toFixed(1)} ${(HIGH - (value / most) * (HIGH - HEAD)).toFixed(1)}`,
    )
    .join("");
}

/** The curves hang on the season line; where its open span shows none of them, one press opens it there. */
function Elsewhere({ match }: { match: Match }) {
  const { span, setSpan } = useSpan();
  if (match.from < addDays(span.start, span.days) && match.to > span.start) return null;
  return (
    <p className="hidden px-4 lg:block">
      The flowering of {shortDay(match.from)} to {shortDay(match.to)} lies outside the open span.{" "}
      <button
        type="button"
        className="btn-link"
        onClick={() => setSpan({ start: monday(addDays(match.from, -28)), days: 112 })}
      >
        Open the season line there
      </button>
    </p>
  );
}

function Curves({ match }: { match: Match }) {
  const { scale, today, span } = useSpan();
  const most = Math.max(0.2, ...match.parents.flatMap((parent) => [...parent.curve, ...parent.planned_curve]));
  const female = match.parents.find((parent) => parent.role !== "M");
  const male = match.parents.find((parent) => parent.role === "M");
  const both = female && male ? female.curve.map((value, n) => Math.min(value, male.curve[n] ?? 0)) : null;
  const close = (path: string, count: number) =>
    `${path}L${scale.x(addDays(match.from, count - 1)).toFixed(1)} ${HIGH}L${scale.x(match.from).toFixed(1)} ${HIGH}Z`;
  const weeks = Array.from({ length: Math.ceil(span.days / 7) }, (_, n) => addDays(span.start, n * 7));
  const todayX = scale.x(today) + scale.open / span.days / 2;
  const legend = Math.min(scale.left + scale.open - 190, Math.max(scale.left + 8, scale.x(match.to) + 16));
  const said = match.parents
    .map((p) => `${ROLE[p.role]} from ${shortDay(p.first)}, planned ${shortDay(p.planned_first)}`)
    .join("; ");
  return (
    <svg
      width={scale.width}
      height={HIGH + 24}
      role="img"
      aria-label={`Flowering: ${said}`}
      className="hidden lg:block"
    >
      <defs>
        <pattern id="meet" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="2.4" height="6" className="fill-ink" />
        </pattern>
      </defs>
      {weeks.map((day) => (
        <line key={day} x1={scale.x(day)} x2={scale.x(day)} y1={0} y2={HIGH} className="stroke-hair" />
      ))}
      {female ? (
        <>
          <path
            d={close(pathFor(female.curve, match.from, scale, most), female.curve.length)}
            className="fill-plan stroke-none"
          />
          <path
            d={pathFor(female.planned_curve, match.from, scale, most)}
            className="fill-none stroke-f"
            strokeWidth={1.5}
            strokeDasharray="1 3"
          />
        </>
      ) : null}
      {both ? (
        <path d={close(pathFor(both, match.from, scale, most), both.length)} fill="url(#meet)" fillOpacity={0.75} />
      ) : null}
      {female ? (
        <path d={pathFor(female.curve, match.from, scale, most)} className="fill-none stroke-f" strokeWidth={2} />
      ) : null}
      {male ? (
        <>
          <path
            d={pathFor(male.planned_curve, match.from, scale, most)}
            className="fill-none stroke-m"
            strokeWidth={1.5}
            strokeDasharray="1 3"
          />
          <path
            d={pathFor(male.curve, match.from, scale, most)}
            className="fill-none stroke-m"
            strokeWidth={2}
            strokeDasharray="6 3"
          />
        </>
      ) : null}
      <line x1={scale.left} x2={scale.left + scale.open} y1={HIGH} y2={HIGH} className="stroke-ink" strokeWidth={1.5} />
      {match.parents.map((parent) => (
        <Bracket
          key={parent.role}
          from={parent.planned_first}
          to={parent.first}
          y={10 + (parent.role === "M" ? 0 : 12)}
          scale={scale}
          words={(days) =>
            `${ROLE[parent.role]} ${few(days, "day")} ${parent.first > parent.planned_first ? "later" : "sooner"} than planned`
          }
        />
      ))}
      {female && male && female.role === "F" && female.first !== male.first ? (
        <Bracket
          from={female.first}
          to={male.first}
          y={HIGH + 11}
          scale={scale}
          words={() => (female.first < male.first ? "receptive, no pollen yet" : "pollen, none receptive yet")}
          before
        />
      ) : null}
      <g transform={`translate(${legend} ${HEAD + 4})`}>
        {female ? (
          <g>
            <line x1={0} x2={22} y1={4} y2={4} className="stroke-f" strokeWidth={2} />
            <text x={28} y={8} className="cond fill-f text-note font-bold">
              {female.role === "F" ? "F receptive" : "in flower"} from {shortDay(female.first)}
            </text>
          </g>
        ) : null}
        {male ? (
          <g transform="translate(0 17)">
            <line x1={0} x2={22} y1={4} y2={4} className="stroke-m" strokeWidth={2} strokeDasharray="6 3" />
            <text x={28} y={8} className="cond fill-m text-note font-bold">
              M sheds from {shortDay(male.first)}
            </text>
          </g>
        ) : null}
        <g transform={`translate(0 ${male ? 34 : 17})`}>
          <line x1={0} x2={22} y1={4} y2={4} className="stroke-ink3" strokeWidth={1.5} strokeDasharray="1 3" />
          <text x={28} y={8} className="cond fill-ink2 text-note">
            as planned
          </text>
        </g>
      </g>
      {todayX > scale.left && todayX < scale.left + scale.open ? (
        <line x1={todayX} x2={todayX} y1={0} y2={HIGH + 24} className="stroke-ink" strokeWidth={1.5} />
      ) : null}
    </svg>
  );
}

/** The days between two, as a bracket with its words behind it; less than a day is none. */
function Bracket({
  from,
  to,
  y,
  scale,
  words,
  before,
}: {
  from: string;
  to: string;
  y: number;
  scale: Scale;
  words: (days: number) => string;
  before?: boolean;
}) {
  const [first, last] = [from, to].sort() as [string, string];
  const days = dayNumber(last) - dayNumber(first);
  const [x, end] = [scale.x(first), scale.x(last)];
  if (!days || x < scale.left || end > scale.left + scale.open) return null;
  return (
    <g>
      <path d={`M${x} ${y - 4}V${y + 4}M${x} ${y}H${end}M${end} ${y - 4}V${y + 4}`} className="fill-none stroke-ink" />
      <text
        x={before ? x - 5 : end + 5}
        y={y + 4}
        textAnchor={before ? "end" : "start"}
        className="cond fill-ink text-note font-bold"
      >
        {words(days)}
      </text>
    </g>
  );
}

function Remedies({ block, match }: { block: BlockData; match: Match }) {
  const may = useMay();
  const choose = useSave((remedy: Remedy) =>
    take(
      api.POST("/api/seed-blocks/{block_id}/remedies", {
        params: { path: { block_id: block.block_id ?? 0 } },
        body: { remedy_id: remedy.id, chosen: !remedy.chosen, client_uuid: entryId() },
      }),
    ),
  );
  if (!match.remedies.length) return null;
  return (
    <div>
      <div className="px-4">
        <Faults error={choose.error} />
      </div>
      <ul>
        {match.remedies.map((remedy) => (
          <RemedyRow
            key={remedy.id}
            remedy={remedy}
            gap={match.gap_days}
            disabled={!may("seedcrops.do") || choose.isPending || (!remedy.useful && !remedy.chosen)}
            onToggle={() => choose.mutate(remedy)}
          />
        ))}
      </ul>
    </div>
  );
}

interface RowProps {
  remedy: Remedy;
  gap: number | null;
  disabled: boolean;
  onToggle: () => void;
}

function RemedyRow({ remedy, gap, disabled, onToggle }: RowProps) {
  const { scale, today, span } = useSpan();
  const from = scale.x(today) + scale.open / span.days / 2;
  const to = Math.max(from, scale.x(addDays(remedy.until, 1)));
  const effect =
    remedy.shift_high > 0
      ? `${remedy.shift_low} to ${remedy.shift_high} days`
      : remedy.remedy_class === "pollination"
        ? "carries pollen, moves no date"
        : "";
  const days = (gap: number) => `${Math.abs(gap).toFixed(0)} ${Math.abs(gap).toFixed(0) === "1" ? "day" : "days"}`;
  const worked =
    remedy.gap_then !== null && remedy.seen_since && gap !== null
      ? `Chosen at a gap of ${days(remedy.gap_then)}; seen since, it is ${days(gap)}.`
      : "";
  const works = remedy.useful
    ? `works to ${remedy.until_words}, about ${shortDay(remedy.until)}`
    : `too late: worked to ${remedy.until_words}, ${shortDay(remedy.until)}`;
  return (
    <li className="relative min-h-9">
      <label className="flex flex-wrap items-baseline gap-x-3 px-4 lg:pl-4">
        <span className="flex w-[92px] flex-none items-baseline gap-2">
          <input type="checkbox" checked={remedy.chosen} disabled={disabled} onChange={onToggle} />
          <span className="note">{remedy.chosen ? "chosen" : "not chosen"}</span>
        </span>
        <span className="min-w-0 flex-1">
          <b>{remedy.name}</b>{" "}
          <span className="note text-ink2">({remedy.remedy_class === "pollination" ? "both" : ROLE[remedy.role]})</span>{" "}
          <span className="cond text-note">
            <b>{effect}</b>
            {effect ? "; " : ""}
            {works}
          </span>
          {worked ? <span className="cond text-note"> {worked}</span> : null}
          {remedy.caution ? <span className="note"> {remedy.caution}.</span> : null}
        </span>
      </label>
      {remedy.useful ? (
        <svg width={scale.width} height={8} className="hidden lg:block" aria-hidden="true">
          <path d={`M${from} 4H${to}M${to} 0V8`} className="fill-none stroke-ink" strokeWidth={remedy.chosen ? 3 : 1} />
        </svg>
      ) : null}
    </li>
  );
}

function Below({ block, match }: { block: BlockData; match: Match }) {
  const may = useMay();
  const { today } = useSpan();
  const seen = match.parents.flatMap((parent) => parent.seen.map((one) => ({ ...one, role: parent.role })));
  return (
    <div className="grid gap-8 px-4 py-3 lg:grid-cols-2">
      <div>
        <h2 className="border-rule border-b pb-1">Seen in the rows</h2>
        {seen.length ? null : (
          <p className="py-1 text-ink3">
            Nothing yet. A stage seen on either line moves its flowering, and the visits with it.
          </p>
        )}
        <ul>
          {seen.map((one) => (
            <li key={one.id} className="flex gap-3 border-hair border-b py-1">
              <span className="note w-20">{shortDay(one.seen_on)}</span>
              <span>
                <b className={one.role === "M" ? "text-m" : "text-f"}>{one.role}</b> {one.words}
              </span>
            </li>
          ))}
        </ul>
        {may("seedcrops.count") && block.parents.some((parent) => parent.sown.length) ? (
          <details className="mt-2">
            <summary className="btn-link cursor-pointer">Record a stage</summary>
            <div className="mt-2">
              <QuickForm
                columns={3}
                button="Record"
                fields={[
                  {
                    name: "role",
                    label: "Line",
                    type: "select",
                    needed: true,
                    options: block.parents.map((parent) => [parent.role, `${parent.role} ${parent.line}`]),
                  },
                  {
                    name: "stage",
                    label: "Stage",
                    type: "select",
                    needed: true,
                    options: block.stages_seen.map((stage) => [stage.slug, stage.words]),
                  },
                  { name: "on", label: "Seen on", type: "date", start: today, needed: true },
                ]}
                save={(values, uuid) =>
                  take(
                    api.POST("/api/seed-blocks/{block_id}/seen", {
                      params: { path: { block_id: block.block_id ?? 0 } },
                      body: {
                        role: values.role ?? "",
                        stage: values.stage ?? "",
                        on: values.on ?? "",
                        client_uuid: uuid,
                        reason: "",
                      },
                    }),
                  )
                }
              />
            </div>
          </details>
        ) : null}
      </div>
      {match.bees ? <Bees block={block} bees={match.bees} /> : null}
    </div>
  );
}

function Bees({ block, bees }: { block: BlockData; bees: Schemas["BeesOut"] }) {
  const may = useMay();
  const { today } = useSpan();
  const past = dayNumber(bees.arrive) < dayNumber(today);
  return (
    <div>
      <h2 className="border-rule border-b pb-1">Pollinators</h2>
      <p className="py-1">
        {bees.needed} {bees.kind} at {bees.per_ha} a hectare, brought when {bees.flower_percent} % are in flower: about{" "}
        <b>{shortDay(bees.arrive)}</b>. Nobody sprays while they fly.
      </p>
      {bees.ordered ? (
        <p>
          {bees.ordered} ordered for {shortDay(bees.ordered_for)}.{" "}
          {bees.ordered < bees.needed ? (
            <span className="fault">{bees.needed - bees.ordered} fewer than needed.</span>
          ) : null}
        </p>
      ) : (
        <Pennant later={!past}>not ordered yet</Pennant>
      )}
      {may("seedcrops.do") ? (
        <details className="mt-2">
          <summary className="btn-link cursor-pointer">{bees.ordered ? "Change the order" : "Order hives"}</summary>
          <div className="mt-2">
            <QuickForm
              button="Record the order"
              fields={[
                { name: "hives", label: "Hives", start: String(bees.needed), needed: true },
                { name: "on", label: "Arrive on", type: "date", start: past ? today : bees.arrive, needed: true },
              ]}
              save={(values) =>
                take(
                  api.POST("/api/seed-blocks/{block_id}/hives", {
                    params: { path: { block_id: block.block_id ?? 0 } },
                    body: { hives: values.hives ?? "", on: values.on ?? "" },
                  }),
                )
              }
            />
          </div>
        </details>
      ) : null}
    </div>
  );
}
