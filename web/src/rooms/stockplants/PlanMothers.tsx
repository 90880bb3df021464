import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useWatch } from "react-hook-form";
import { api, entryId, type Schemas, take } from "../../api/client";
import { libraryQuery, placesQuery, raisingQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { AskField, AskForm } from "../../ui/AskForm";
import { addDays, shortDay } from "../../ui/dates";
import { useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { type Ask, useAsk } from "../../ui/useAsk";
import { PlanWeeks } from "./PlanWeeks";

type Draft = Schemas["MotherDraftOut"];
type Body = Schemas["MotherPlanIn"];
interface Start {
  on: string;
  plantlets: string;
}

/** How many plantlets to raise as mothers, and when: the fewest for what is wanted, somebody's own beside them, and kept. */
export function PlanMothers({ crops, onDone }: { crops: string[]; onDone: (made: Schemas["MotherPlanOut"]) => void }) {
  const { data: library } = useQuery(libraryQuery);
  const [crop, setCrop] = useState("");
  // What stands or was planned before is most likely what is planned now.
  const usual = library?.crops.find((one) => one.name === crops[0]);
  const chosen = crop || (usual ? String(usual.id) : "");
  const { data: raising } = useQuery(raisingQuery(Number(chosen) || 0));
  if (!library || !raising) return <p className="text-ink3">Fetching …</p>;
  return <Planner key={chosen} crop={chosen} onCrop={setCrop} raising={raising} onDone={onDone} />;
}

interface Props {
  crop: string;
  onCrop: (crop: string) => void;
  raising: Schemas["RaisingOut"];
  onDone: (made: Schemas["MotherPlanOut"]) => void;
}

function Planner({ crop, onCrop, raising, onDone }: Props) {
  const { data: library } = useQuery(libraryQuery);
  const { data: places } = useQuery(placesQuery);
  const { today } = useSpan();
  const [best, setBest] = useState<Draft | null>(null);
  const [asked, setAsked] = useState<Body | null>(null);
  const [hand, setHand] = useState<Draft | null>(null);
  const [starts, setStarts] = useState<Start[]>([]);
  const start = {
    line_id: "",
    place_id: raising.place_id ? String(raising.place_id) : "",
    many: "",
    from_on: addDays(today, 7 * 16),
    weeks: "12",
    for_batches: "",
    count_standing: "yes",
    shoots: raising.shoots,
    first_cut_week: String(raising.first_cut_week),
    life_weeks: String(raising.life_weeks),
    submother_cuts: String(raising.submother_cuts),
    submother_generations: String(raising.submother_generations),
    rooting_weeks: String(raising.rooting_weeks),
    rooting_percent: raising.rooting_percent,
    hardening_weeks: String(raising.hardening_weeks),
    hardening_percent: raising.hardening_percent,
    hold_weeks: String(raising.hold_weeks),
    reserve_percent: raising.reserve_percent,
  };
  const ask = useAsk({
    start,
    again: false,
    save: (typed: typeof start) => {
      const body = bodyOf(crop, typed);
      return take(api.POST("/api/mothers/plan-draft", { body })).then((made) => ({ body, made }));
    },
    onDone: ({ body, made }) => {
      setAsked(body);
      setBest(made);
      setHand(null);
      setStarts(typedOf(made));
      result.current?.scrollIntoView({ block: "start" });
    },
  });
  const result = useRef<HTMLDivElement>(null);
  const lines = (library?.lines ?? []).filter((one) => String(one.crop_id) === crop);
  const batches = useWatch({ control: ask.form.control, name: "for_batches" }) === "yes";
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[19rem_1fr]">
      <AskForm ask={ask} button="Reckon the fewest" disabled={!crop} className="grid content-start gap-3">
        <label className="grid gap-1">
          <span>Crop</span>
          <select className="input" value={crop} onChange={(event) => onCrop(event.target.value)}>
            <option value="" />
            {library?.crops.map((one) => (
              <option key={one.id} value={one.id}>
                {one.name}
              </option>
            ))}
          </select>
        </label>
        {lines.length ? (
          <AskField
            ask={ask}
            name="line_id"
            label="Cultivar"
            type="select"
            options={[["", ""], ...lines.map((one) => [String(one.id), one.name] as const)]}
          />
        ) : null}
        <AskField
          ask={ask}
          name="many"
          label="Rooted cuttings wanted a week"
          hint="one number, or one for every week: “2000 4000 6000”"
        />
        <div className="grid grid-cols-2 gap-3">
          <AskField ask={ask} name="from_on" label="From the week of" type="date" />
          <AskField ask={ask} name="weeks" label="For" hint="weeks" digits="whole" />
        </div>
        <AskField ask={ask} name="for_batches" label="And what batches lack" type="check" />
        <AskField
          ask={ask}
          name="count_standing"
          label="What mothers that stand give beyond what batches stick serves first"
          type="check"
        />
        <Raising ask={ask} waits={!batches} places={places?.places ?? []} />
      </AskForm>
      <div className="min-w-0" ref={result}>
        {best && asked ? (
          <Found
            best={best}
            asked={asked}
            hand={hand}
            onHand={setHand}
            starts={starts}
            onStarts={setStarts}
            onDone={onDone}
          />
        ) : (
          <p className="max-w-prose text-ink2">
            Say what is to be ready week by week. What comes of it: how many plantlets are planted as mothers in which
            week, how many cuttings they give and where each goes, and what stays short. Change any planting and see
            what follows, then keep the one you like.
          </p>
        )}
      </div>
    </div>
  );
}

type Typed = Record<
  | "line_id"
  | "place_id"
  | "many"
  | "from_on"
  | "weeks"
  | "for_batches"
  | "count_standing"
  | "shoots"
  | "first_cut_week"
  | "life_weeks"
  | "submother_cuts"
  | "submother_generations"
  | "rooting_weeks"
  | "rooting_percent"
  | "hardening_weeks"
  | "hardening_percent"
  | "hold_weeks"
  | "reserve_percent",
  string
>;

const RAISED = ["shoots", "place", "first_", "life_", "submother", "rooting", "hardening", "hold"];

interface RaisingProps {
  ask: Ask<Typed>;
  waits: boolean;
  places: { id: number; name: string }[];
}

function Raising({ ask, waits, places }: RaisingProps) {
  const wrong = ask.told.some((one) => RAISED.some((name) => one.startsWith(name)));
  return (
    <>
      <AskField ask={ask} name="reserve_percent" label="Reserve above it" hint="%" digits />
      <details open={wrong || undefined}>
        <summary className="btn-link w-fit cursor-pointer list-none">How they give, root and harden</summary>
        <div className="grid gap-3 pt-2">
          <AskField
            ask={ask}
            name="shoots"
            label="Cuttings of a mother and week"
            hint="“1, 15 %, 6”: one at the first cut, 15 % more a week, six at most; or week by week from the first cut"
          />
          <AskField
            ask={ask}
            name="place_id"
            label="Slower in the cold and on the short days of"
            hint="the cuttings above are then for 22 °C and days of 13 hours"
            type="select"
            options={[["", "no place: as they are above"], ...places.map((one) => [String(one.id), one.name] as const)]}
          />
          <div className="grid grid-cols-2 gap-3">
            <AskField ask={ask} name="first_cut_week" label="First cut after" hint="weeks" digits="whole" />
            <AskField ask={ask} name="life_weeks" label="Life" hint="weeks" digits="whole" />
          </div>
          <div className="grid grid-cols-2 gap-3">
            <AskField
              ask={ask}
              name="submother_cuts"
              label="Cuts to mothers"
              hint="2: the shoots of her first two cuts become mothers; 0: none"
              digits="whole"
            />
            <AskField
              ask={ask}
              name="submother_generations"
              label="Over generations"
              hint="2: the first cuts of these mothers too"
              digits="whole"
            />
          </div>
          <div className="grid grid-cols-2 gap-3">
            <AskField ask={ask} name="rooting_weeks" label="Roots in" hint="weeks" digits="whole" />
            <AskField ask={ask} name="rooting_percent" label="of them root" hint="%" digits />
            <AskField ask={ask} name="hardening_weeks" label="Hardens in" hint="weeks" digits="whole" />
            <AskField ask={ask} name="hardening_percent" label="of them harden" hint="%" digits />
          </div>
          {waits ? (
            <AskField ask={ask} name="hold_weeks" label="A ready one may wait" hint="weeks" digits="whole" />
          ) : (
            <p className="note">What batches are begun with is stuck in its week: nothing waits.</p>
          )}
        </div>
      </details>
    </>
  );
}

interface FoundProps {
  best: Draft;
  asked: Body;
  hand: Draft | null;
  onHand: (made: Draft | null) => void;
  starts: Start[];
  onStarts: (starts: Start[]) => void;
  onDone: (made: Schemas["MotherPlanOut"]) => void;
}

/** What was found, the plantings to change, what follows from them, and the door to keep it. */
function Found({ best, asked, hand, onHand, starts, onStarts, onDone }: FoundProps) {
  const { show } = useWorking();
  const [uuid] = useState(entryId);
  const changed = JSON.stringify(starts) !== JSON.stringify(typedOf(hand ?? best));
  const tryIt = useSave(
    () => take(api.POST("/api/mothers/plan-draft", { body: { ...asked, starts } })),
    (made) => {
      onHand(made);
      onStarts(typedOf(made));
    },
  );
  const keep = useSave(
    () =>
      take(
        api.POST("/api/mothers/plans", {
          body: { ...asked, starts: typedOf(hand ?? best), note: "", client_uuid: uuid },
        }),
      ),
    onDone,
  );
  const seen = hand ?? best;
  const put = (at: number, more: Partial<Start>) =>
    onStarts(starts.map((one, n) => (n === at ? { ...one, ...more } : one)));
  return (
    <>
      <p className={hand ? "text-ink2" : "text-[1.15rem] leading-7"}>
        {hand ? "The fewest: " : ""}
        {best.sentence}{" "}
        <button
          type="button"
          className="btn-link"
          onClick={() => show({ title: best.sentence, value: "", steps: best.working }, true)}
        >
          how so
        </button>
      </p>
      {hand ? <p className="mt-1 text-[1.15rem] leading-7">Yours: {hand.sentence}</p> : null}
      {seen.warnings.map((one) => (
        <p key={one} className="border-ink border-l-4 pl-3">
          {one}
        </p>
      ))}
      <PlanWeeks weeks={seen.weeks} first={seen.first} />
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        aria-label="Plantings"
        onSubmit={(event) => {
          event.preventDefault();
          tryIt.mutate(undefined);
        }}
      >
        {starts.map((one, n) => (
          <label key={one.on} className="grid gap-1">
            <span>week of {shortDay(one.on)}</span>
            <input
              className="input !w-28"
              inputMode="numeric"
              value={one.plantlets}
              aria-label={`Plantlets in the week of ${shortDay(one.on)}`}
              onChange={(event) => put(n, { plantlets: event.target.value })}
            />
          </label>
        ))}
        <button type="submit" className="btn" disabled={!changed || tryIt.isPending}>
          Try these
        </button>
        <button type="button" className="btn-link" onClick={() => onStarts(withOne(starts, best.first))}>
          another planting
        </button>
        {hand ? (
          <button
            type="button"
            className="btn-link"
            onClick={() => {
              onHand(null);
              onStarts(typedOf(best));
            }}
          >
            back to the fewest
          </button>
        ) : null}
      </form>
      <Faults error={tryIt.error ?? keep.error} />
      <button
        type="button"
        className="btn btn-decide mt-3"
        disabled={changed || keep.isPending || !seen.starts.length}
        onClick={() => keep.mutate(undefined)}
      >
        Keep this plan
      </button>
      {changed ? <p className="note">First try what you changed, so that you see what you keep.</p> : null}
    </>
  );
}

const typedOf = (made: Draft): Start[] => made.starts.map((one) => ({ on: one.on, plantlets: String(one.plantlets) }));

/** One more planting, in the first week that has none. */
function withOne(starts: Start[], first: string): Start[] {
  let on = first;
  while (starts.some((one) => one.on === on)) on = addDays(on, 7);
  return [...starts, { on, plantlets: "0" }].sort((a, b) => a.on.localeCompare(b.on));
}

function bodyOf(crop: string, typed: Typed): Body {
  const {
    line_id,
    place_id,
    weeks,
    for_batches,
    count_standing,
    first_cut_week,
    life_weeks,
    submother_cuts,
    submother_generations,
    ...texts
  } = typed;
  const { rooting_weeks, hardening_weeks, hold_weeks, from_on, ...rest } = texts;
  return {
    ...rest,
    crop_id: Number(crop),
    line_id: line_id ? Number(line_id) : null,
    place_id: place_id ? Number(place_id) : null,
    from_on: from_on || null,
    weeks: Number(weeks) || 0,
    for_batches: for_batches === "yes",
    count_standing: count_standing === "yes",
    first_cut_week: Number(first_cut_week),
    life_weeks: Number(life_weeks),
    submother_cuts: Number(submother_cuts),
    submother_generations: Number(submother_generations),
    rooting_weeks: Number(rooting_weeks),
    hardening_weeks: Number(hardening_weeks),
    hold_weeks: Number(hold_weeks),
  };
}
