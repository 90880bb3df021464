import { useQuery } from "@tanstack/react-query";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { libraryQuery, lotsQuery, placesQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { count } from "../../ui/format";
import { useAsk } from "../../ui/useAsk";

const FROM = new Set(["plant", "cutting", "tuber", "division"]);
const named = (rows: { id: number; name: string }[]) => [
  ["", ""] as const,
  ...rows.map((one) => [String(one.id), one.name] as const),
];
const number = (text: string) => (text ? Number(text) : null);

export interface PlannedStart {
  id: number;
  plantlets: number;
  crop_id: number;
  line_id: number | null;
  shoots: string;
  first_cut_week: number;
  life_weeks: number;
  place_id: number | null;
}
interface Props {
  /** The planting of a plan that this is. */
  start: PlannedStart | null;
  onDone: (made: Schemas["MotherStockOut"]) => void;
}

/** A planting of mothers: of what, how many, and how they give. */
export function PlantMothers({ start: planned, onDone }: Props) {
  const { today } = useSpan();
  const { data: library } = useQuery(libraryQuery);
  const { data: places } = useQuery(placesQuery);
  const { data: lots } = useQuery(lotsQuery);
  const start = {
    crop_id: planned ? String(planned.crop_id) : "",
    line_id: planned?.line_id ? String(planned.line_id) : "",
    lot_id: "",
    mothers: planned ? String(planned.plantlets) : "",
    place_id: planned?.place_id ? String(planned.place_id) : "",
    planted_on: today,
    shoots: planned?.shoots ?? "1, 15 %, 6",
    first_cut_week: String(planned?.first_cut_week ?? 4),
    life_weeks: String(planned?.life_weeks ?? 35),
    slows: planned && !planned.place_id ? "" : "yes",
    note: "",
  };
  const ask = useAsk({
    start,
    onDone,
    again: false,
    save: (typed: typeof start, uuid) =>
      take(
        api.POST("/api/mothers", {
          body: {
            ...typed,
            crop_id: Number(typed.crop_id),
            line_id: number(typed.line_id),
            lot_id: number(typed.lot_id),
            place_id: number(typed.place_id),
            first_cut_week: Number(typed.first_cut_week),
            life_weeks: Number(typed.life_weeks),
            slows: typed.slows === "yes" && Boolean(typed.place_id),
            start_id: planned?.id ?? null,
            client_uuid: uuid,
          },
        }),
      ),
  });
  const typed = useWatch({ control: ask.form.control }) as typeof start;
  const crop = library?.crops.find((one) => String(one.id) === typed.crop_id);
  const of = (lots ?? []).filter((one) => one.crop === crop?.name && FROM.has(one.form) && one.balance > 0);
  return (
    <AskForm ask={ask} button="They are planted" big="phone">
      <AskField ask={ask} name="crop_id" label="Crop" type="select" options={named(library?.crops ?? [])} needed />
      <AskField
        ask={ask}
        name="line_id"
        label="Cultivar"
        type="select"
        options={named((library?.lines ?? []).filter((one) => one.crop_id === crop?.id))}
      />
      <AskField ask={ask} name="mothers" label="How many" className="phone" needed digits="whole" />
      {of.length ? (
        <AskField
          ask={ask}
          name="lot_id"
          label="Of lot"
          type="select"
          options={[
            ["", "raised elsewhere"],
            ...of.map((one) => [String(one.id), `${one.code}, ${count(one.balance)} ${one.unit}`] as const),
          ]}
        />
      ) : null}
      <AskField ask={ask} name="planted_on" label="Planted on" type="date" className="phone" max={today} />
      <AskField ask={ask} name="place_id" label="Where" type="select" options={named(places?.places ?? [])} />
      <AskField
        ask={ask}
        name="shoots"
        label="Cuttings of a mother and week"
        hint="“1, 15 %, 6”: one at the first cut, 15 % more a week, six at most; or week by week from the first cut, “1 1 2 3 3 2”"
      />
      <div className="grid grid-cols-2 gap-3">
        <AskField ask={ask} name="first_cut_week" label="First cut after" hint="weeks" digits="whole" />
        <AskField ask={ask} name="life_weeks" label="Life" hint="weeks" digits="whole" />
      </div>
      {typed.place_id ? (
        <AskField
          ask={ask}
          name="slows"
          label="Slower in its cold and on short days"
          hint="the cuttings above are then for 22 °C and days of 13 hours; leave it out where they were counted here"
          type="check"
        />
      ) : null}
      <AskField ask={ask} name="note" label="Note" maxLength={300} />
    </AskForm>
  );
}
