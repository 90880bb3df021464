import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import { useFieldArray, useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { homelessQuery, placesQuery } from "../../api/queries";
import { AskField, AskForm } from "../../ui/AskForm";
import { fullDay, windowWords } from "../../ui/dates";
import { few, quantity } from "../../ui/format";
import { useAddress, useMay, useSave } from "../../ui/hooks";
import { OutlinePad } from "../../ui/OutlinePad";
import { OUTLINE_HINT, readOutline } from "../../ui/outline";
import { Empty, Faults, RoomHead, Sheet } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { type Column, Table } from "../../ui/Table";
import { useAsk } from "../../ui/useAsk";
import { BedLayout } from "./BedLayout";
import { SitePlan } from "./SitePlan";
import { Weather } from "./Weather";

type Place = Schemas["PlaceOut"];
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

export function Places() {
  const { data } = useSuspenseQuery(placesQuery);
  const may = useMay();
  const { add } = useAddress();
  const navigate = useNavigate();
  const [edit, setEdit] = useState<Place | "new" | null>(add && may("places.edit") ? "new" : null);
  const [laying, setLaying] = useState(false);
  const [laid, setLaid] = useState<number | null>(null); // m² of beds that were laid out and are to be a place
  const site = data.sites[0];
  const mayEdit = may("places.edit");
  const columns = useMemo(() => columnsOf(mayEdit ? setEdit : null), [mayEdit]);
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Places"
        note={
          site
            ? `${site.name}, latitude ${site.latitude}°, longitude ${site.longitude === null ? "not set" : `${site.longitude}°`}`
            : ""
        }
      >
        <button type="button" className="btn-link" onClick={() => setLaying(true)}>
          Lay out beds
        </button>
        {may("places.edit") ? (
          <button type="button" className="btn" onClick={() => setEdit("new")}>
            Add a place
          </button>
        ) : null}
      </RoomHead>
      <Wanting onAdd={(kind) => navigate({ to: "/places", search: { add: kind } }).then(() => setEdit("new"))} />
      <SitePlan places={data.places} />
      {data.places.length ? (
        <Table
          name="places"
          label="places"
          columns={columns}
          rows={data.places}
          rowKey={(place) => place.id}
          rank={inUseFirst}
        />
      ) : (
        <Empty title="No places yet">
          <p>Benches, tunnels, germination rooms and stores belong here, each with what it holds and how warm it is.</p>
        </Empty>
      )}
      {site ? (
        <section className="mt-6">
          {may("places.edit") ? (
            <details className="mb-4 max-w-md">
              <summary className="btn-link cursor-pointer">
                Where {site.name} lies, its last frost and its months
              </summary>
              <div className="mt-2">
                <QuickForm
                  key={`${site.latitude}${site.longitude}${site.last_frost}${site.monthly_c.join()}`}
                  button="Save"
                  fields={[
                    { name: "latitude", label: "Latitude, °", start: String(site.latitude), needed: true },
                    {
                      name: "longitude",
                      label: "Longitude, ° (west is minus)",
                      start: site.longitude === null ? "" : String(site.longitude),
                      needed: true,
                    },
                    {
                      name: "last_frost",
                      label: "Last frost, as “12 Apr”; empty where there is none",
                      start: monthDay(site.last_frost),
                    },
                    {
                      name: "monthly_c",
                      label: "Means outside by month, °C, January first",
                      start: site.monthly_c.join("  "),
                      needed: true,
                    },
                  ]}
                  save={(values) =>
                    take(
                      api.PATCH("/api/sites/{site_id}", {
                        params: { path: { site_id: site.id } },
                        body: {
                          latitude: values.latitude ?? "",
                          longitude: values.longitude ?? "",
                          last_frost: values.last_frost ?? "",
                          monthly_c: (values.monthly_c ?? "").split(/[\s;]+/).filter(Boolean),
                        },
                      }),
                    )
                  }
                />
              </div>
            </details>
          ) : null}
          <Weather site={site} />
          <h2 className="mt-6">Climate of {site.name}, means outside in °C</h2>
          <table className="tbl max-w-3xl">
            <thead>
              <tr>
                {MONTHS.map((month) => (
                  <th scope="col" key={month} className="num">
                    {month}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              <tr>
                {site.monthly_c.map((mean, index) => (
                  <td key={MONTHS[index]} className="num">
                    {mean}
                  </td>
                ))}
              </tr>
            </tbody>
          </table>
        </section>
      ) : null}
      {laying ? (
        <BedLayout
          onClose={() => setLaying(false)}
          onTake={
            mayEdit
              ? (net) => {
                  setLaying(false);
                  setLaid(net);
                  setEdit("new");
                }
              : null
          }
        />
      ) : null}
      {edit && site ? (
        <PlaceForm
          key={edit === "new" ? `new ${add}` : edit.id}
          place={edit === "new" ? null : edit}
          kind={laid === null ? (add ?? "bench") : "bed"}
          holds={laid}
          siteId={site.id}
          kinds={data.kinds}
          others={data.places}
          onClose={() => {
            setEdit(null);
            setLaid(null);
            if (add) navigate({ to: "/places" });
          }}
        />
      ) : null}
    </div>
  );
}

const inUseFirst = (place: Place) => (place.active ? 0 : 1);

function columnsOf(edit: ((place: Place) => void) | null): Column<Place>[] {
  return [
    {
      key: "name",
      head: "Place",
      value: (place) => place.name,
      cell: (place) => (
        <span className={place.active ? "" : "text-ink3"}>
          <b>{place.name}</b> {place.active ? "" : "(closed)"}
          {place.closings.map((one) => (
            <span key={`${one.first}${one.last}`} className="note block">
              {one.holds ? `holds ${quantity(one.holds, place.unit)}` : "shut"} {windowWords(one.first, one.last)}
              {one.why ? `: ${one.why}` : ""}
            </span>
          ))}
          {place.kind === "field" ? (
            <span className="note block">
              {place.corners_m ? few(place.corners_m.length, "corner") : "no outline yet"}
              {place.history
                .map((use) => `; ${use.year} ${use.crop.toLowerCase()}${use.clean ? ", inspected clean" : ""}`)
                .join("")}
            </span>
          ) : null}
        </span>
      ),
    },
    { key: "kind", head: "Used as", value: (place) => place.kind_words },
    {
      key: "holds",
      head: "Holds",
      value: (place) => place.capacity,
      cell: (place) => (place.capacity === null ? "not limited" : quantity(place.capacity, place.unit)),
      num: true,
    },
    {
      key: "usable",
      head: "Usable",
      value: (place) => place.usable,
      cell: (place) => (place.usable === null ? "" : quantity(place.usable, place.unit)),
      num: true,
    },
    { key: "warmth", head: "Warmth", value: warmth },
    ...(edit
      ? [
          {
            key: "change",
            head: "Change",
            value: () => null,
            cell: (place: Place) => (
              <button type="button" className="btn-link" onClick={() => edit(place)}>
                change
                <span className="sr-only"> {place.name}</span>
              </button>
            ),
          },
        ]
      : []),
  ];
}

function warmth(place: Place): string {
  const said = [];
  if (place.set_point_c !== null) said.push(`kept at ${place.set_point_c} °C or more`);
  if (place.cooled_to_c !== null) said.push(`never above ${place.cooled_to_c} °C`);
  if (place.excess_c) said.push(`${place.excess_c} °C warmer than outside`);
  if (place.lamps_mol) said.push(`lamps add ${place.lamps_mol} mol/m² a day`);
  const year = said.join(", ") || "as outside";
  const parts = place.parts.map((part) => `${monthDay(part.first)} to ${monthDay(part.last)} ${kept(part)}`);
  const only = place.enters.length ? [`only ${place.enters.join(", ")} may go in`] : [];
  return [year, ...parts, ...only].join("; ");
}

/** How a place is kept in a part of the year. */
function kept(part: Place["parts"][number]): string {
  const said = [];
  if (part.set_point_c !== null) said.push(`at ${part.set_point_c} °C or more`);
  if (part.cooled_to_c !== null) said.push(`never above ${part.cooled_to_c} °C`);
  if (part.excess_c) said.push(`${part.excess_c} °C warmer than outside`);
  return said.join(", ") || "as outside";
}

/** Kinds of place that planned batches ask for in vain, and the way out of it. */
function Wanting({ onAdd }: { onAdd: (kind: string) => void }) {
  const { data: wanting } = useQuery(homelessQuery);
  const may = useMay();
  const again = useSave(() => take(api.POST("/api/batches/plan-again")));
  if (!wanting?.length) return again.data ? <p role="status">{again.data.message}</p> : null;
  const built = wanting.filter((one) => one.there);
  return (
    <ul className="mb-3 border-ink border-l-4 pl-3" aria-label="Places that are wanted">
      {wanting
        .filter((one) => !one.there)
        .map((one) => (
          <li key={one.kind} className="flex flex-wrap items-center gap-3 py-1">
            {few(one.batches, "batch", "batches")} {one.batches === 1 ? "asks" : "ask"} for a {one.words}, and there is
            none.
            {may("places.edit") ? (
              <button type="button" className="btn" onClick={() => onAdd(one.kind)}>
                Add a {one.words}
              </button>
            ) : null}
          </li>
        ))}
      {built.length ? (
        <li className="flex flex-wrap items-center gap-3 py-1">
          {few(Math.max(...built.map((one) => one.batches)), "batch", "batches")} asked for a{" "}
          {built.map((one) => one.words).join(" or a ")} before there was one.
          {may("batches.plan") ? (
            <button
              type="button"
              className="btn btn-decide"
              disabled={again.isPending}
              onClick={() => again.mutate(undefined)}
            >
              Plan them again
            </button>
          ) : null}
          <Faults error={again.error} />
        </li>
      ) : null}
    </ul>
  );
}

function PlaceForm({
  place,
  kind,
  holds,
  siteId,
  kinds,
  others,
  onClose,
}: {
  place: Place | null;
  /** What a new one is used as, until somebody says otherwise. */
  kind: string;
  /** What a new one holds, where that is known already [m²]. */
  holds: number | null;
  siteId: number;
  kinds: Schemas["KindOut"][];
  others: Place[];
  onClose: () => void;
}) {
  const text = (value: number | null | undefined) => (value === null || value === undefined ? "" : String(value));
  const percent = (share: number | null | undefined) => text(share == null ? share : Math.round(share * 1000) / 10);
  const start = {
    name: place?.name ?? "",
    kind: place?.kind ?? kind,
    capacity: place ? text(place.capacity) : holds === null ? "" : holds.toFixed(1),
    gangway: text(place ? Math.round(place.gangway * 1000) / 10 : 0),
    set_point_c: text(place?.set_point_c),
    cooled_to_c: text(place?.cooled_to_c),
    excess_c: text(place?.excess_c ?? 0),
    lets_in: percent(place?.lets_in),
    lamps_mol: text(place?.lamps_mol ?? 0),
    enters: (place?.enters ?? []).join(", "),
    active: (place?.active ?? true) ? "yes" : "",
    parts: (place?.parts ?? []).map((part) => ({
      first: monthDay(part.first),
      last: monthDay(part.last),
      set_point_c: text(part.set_point_c),
      cooled_to_c: text(part.cooled_to_c),
      excess_c: text(part.excess_c),
    })),
    closings: (place?.closings ?? []).map((one) => ({
      first: fullDay(one.first),
      last: fullDay(one.last),
      holds: one.holds ? text(one.holds) : "",
      why: one.why,
    })),
    outline: place?.corners_m?.map((corner) => corner.join(" ")).join("\n") ?? "",
  };
  const ask = useAsk({
    start,
    again: false,
    names: { corners_m: "outline" },
    onDone: onClose,
    save: async ({ outline, active, ...typed }: typeof start) => {
      // An outline that nobody touched stays as exactly as it was given.
      const drawn = typed.kind === "field" && outline.trim() !== start.outline ? readOutline(outline) : {};
      const body = { ...typed, ...drawn };
      body.gangway ||= "0";
      body.excess_c ||= "0";
      body.lamps_mol ||= "0";
      body.parts = typed.parts.map((part) => ({ ...part, excess_c: part.excess_c || "0" }));
      return place
        ? take(
            api.PATCH("/api/places/{place_id}", {
              params: { path: { place_id: place.id } },
              body: { ...body, unit: place.unit, active: active === "yes" },
            }),
          )
        : take(api.POST("/api/places", { body: { ...body, site_id: siteId } }));
    },
  });
  const parts = useFieldArray({ control: ask.form.control, name: "parts" });
  const closings = useFieldArray({ control: ask.form.control, name: "closings" });
  const { kind: chosen, outline = "" } = useWatch({ control: ask.form.control });
  return (
    <Sheet open onClose={onClose} title={place ? `Change ${place.name}` : "Add a place"}>
      <AskForm ask={ask} button="Save">
        <AskField ask={ask} name="name" label="Name" needed />
        <AskField
          ask={ask}
          name="kind"
          label="Used as"
          type="select"
          options={kinds.map((one) => [one.value, one.label])}
        />
        <AskField
          ask={ask}
          name="capacity"
          label={chosen === "germination" ? "Holds, trays" : "Holds, m²"}
          hint="Leave it empty where space is no limit"
          digits
        />
        {chosen === "field" ? (
          <AskField
            ask={ask}
            name="outline"
            type="area"
            label="Outline"
            hint={`${OUTLINE_HINT}. Its area follows from it.`}
          />
        ) : null}
        {chosen === "field" ? (
          <OutlinePad
            value={outline}
            onChange={(text) => ask.form.setValue("outline", text)}
            others={others.flatMap((one) =>
              one.id !== place?.id && one.corners_m
                ? [{ name: one.name, corners: one.corners_m as [number, number][] }]
                : [],
            )}
          />
        ) : null}
        <AskField ask={ask} name="gangway" label="Gangways, % of it" digits />
        <AskField ask={ask} name="set_point_c" label="Heated to at least, °C" digits />
        <AskField ask={ask} name="cooled_to_c" label="Cooled to at most, °C" digits />
        <AskField ask={ask} name="excess_c" label="Warmer than outside by, °C" digits />
        {parts.fields.map((field, n) => (
          <fieldset key={field.id} className="grid grid-cols-2 gap-3 border-rule border-l-4 pl-3">
            <legend className="note">Otherwise, every year</legend>
            <AskField ask={ask} name={`parts.${n}.first`} label="From" hint="1 Nov" needed />
            <AskField ask={ask} name={`parts.${n}.last`} label="To and with" hint="28 Feb" needed />
            <AskField ask={ask} name={`parts.${n}.set_point_c`} label="Heated to, °C" digits />
            <AskField ask={ask} name={`parts.${n}.cooled_to_c`} label="Cooled to, °C" digits />
            <AskField ask={ask} name={`parts.${n}.excess_c`} label="Warmer by, °C" digits />
            <button type="button" className="btn-link w-fit self-end" onClick={() => parts.remove(n)}>
              leave this part out
            </button>
          </fieldset>
        ))}
        <button
          type="button"
          className="btn-link w-fit"
          onClick={() =>
            parts.append({
              first: "",
              last: "",
              set_point_c: "",
              cooled_to_c: "",
              excess_c: ask.form.getValues("excess_c"),
            })
          }
        >
          Kept otherwise in a part of the year
        </button>
        {closings.fields.map((field, n) => (
          <fieldset key={field.id} className="grid grid-cols-2 gap-3 border-rule border-l-4 pl-3">
            <legend className="note">Shut, or smaller</legend>
            <AskField ask={ask} name={`closings.${n}.first`} label="From" hint="3 Aug 2027" needed />
            <AskField ask={ask} name={`closings.${n}.last`} label="To and with" hint="17 Aug 2027" needed />
            <AskField ask={ask} name={`closings.${n}.holds`} label="Usable then" hint="Empty: it is shut" digits />
            <AskField ask={ask} name={`closings.${n}.why`} label="Why" hint="Wash and repair" />
            <button type="button" className="btn-link w-fit self-end" onClick={() => closings.remove(n)}>
              leave this out
            </button>
          </fieldset>
        ))}
        <button
          type="button"
          className="btn-link w-fit"
          onClick={() => closings.append({ first: "", last: "", holds: "", why: "" })}
        >
          Shut or smaller for some days
        </button>
        <AskField
          ask={ask}
          name="lets_in"
          label="Daylight that comes in, %"
          hint="Empty: what is usual for its kind"
          digits
        />
        <AskField ask={ask} name="lamps_mol" label="Light that lamps add, mol/m² a day" digits />
        <AskField
          ask={ask}
          name="enters"
          type="area"
          label="Who may go in"
          hint="Names with commas between them, as people are called here; empty: everybody"
        />
        {place ? <AskField ask={ask} name="active" type="check" label="In use" /> : null}
      </AskForm>
      {place && place.kind === "field" ? (
        <section className="mt-6">
          <h2 className="border-rule border-b pb-1">What grew there</h2>
          <ul>
            {place.history.map((use) => (
              <li key={`${use.year}${use.crop}`} className="border-hair border-b py-1">
                {use.year} {use.crop} {use.clean ? <span className="note">inspected clean</span> : null}
              </li>
            ))}
          </ul>
          <div className="mt-2">
            <QuickForm
              button="Add to the history"
              fields={[
                { name: "year", label: "Year", needed: true },
                { name: "crop", label: "Crop", needed: true },
                { name: "family", label: "Family, if known" },
                { name: "clean", label: "It was inspected and clean", type: "check" },
              ]}
              save={(values) =>
                take(
                  api.POST("/api/places/{place_id}/history", {
                    params: { path: { place_id: place.id } },
                    body: {
                      year: values.year ?? "",
                      crop: values.crop ?? "",
                      family: values.family ?? "",
                      clean: values.clean === "yes",
                    },
                  }),
                )
              }
            />
          </div>
        </section>
      ) : null}
    </Sheet>
  );
}

/** “04-12” as people write it: “12 Apr”. */
function monthDay(kept: string): string {
  const [month, day] = kept.split("-").map(Number);
  return month && day ? `${day} ${MONTHS[month - 1]}` : "";
}
