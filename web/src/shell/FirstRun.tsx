import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, rememberCsrf, type Schemas, take } from "../api/client";
import { offerQuery, queryClient, sessionQuery } from "../api/queries";
import { weekdayName } from "../ui/dates";
import { Faults, Field } from "../ui/parts";
import { BringIn } from "./BringIn";

const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
const KINDS: [string, string, string][] = [
  ["shed", "Potting shed", "m²"],
  ["germination", "Germination room", "trays"],
  ["bench", "Glasshouse bench", "m²"],
  ["tunnel", "Tunnel", "m²"],
  ["hotbed", "Hot bed", "m²"],
  ["standing", "Standing-out ground", "m²"],
  ["store", "Cold store", "m²"],
  ["bed", "Nursery bed", "m²"],
  ["field", "Field", "m²"],
];
/** What a place of a kind usually holds and how warm it is kept, until somebody says better. */
const USUAL_SIZE: Record<string, [name: string, capacity: string, warmth: string]> = {
  shed: ["Potting shed", "", ""],
  germination: ["Germination room", "400", "19"],
  bench: ["Bench 1", "150", "18"],
  tunnel: ["Tunnel 1", "200", ""],
  hotbed: ["Hot bed", "20", "26"],
  standing: ["Standing-out ground", "300", ""],
  store: ["Cold store", "40", ""],
  bed: ["Nursery bed 1", "500", ""],
  field: ["Field 1", "10000", ""],
};

interface PlaceRow {
  name: string;
  kind: string;
  capacity: string;
  warmth: string;
}

const usual = (kind: string): PlaceRow => {
  const [name, capacity, warmth] = USUAL_SIZE[kind] ?? ["", "", ""];
  return { name, kind, capacity, warmth };
};
const USUAL = ["shed", "germination", "bench", "tunnel", "store"].map(usual);

/** Places as they are, with one of every kind that is asked for, and without untouched ones that no longer are. */
function placesFor(rows: PlaceRow[], kinds: Set<string>): PlaceRow[] {
  const untouched = (row: PlaceRow) => JSON.stringify(row) === JSON.stringify(usual(row.kind));
  const kept = rows.filter((row) => kinds.has(row.kind) || !untouched(row));
  const there = new Set(kept.map((row) => row.kind));
  return [
    ...kept,
    ...KINDS.map(([kind]) => kind)
      .filter((kind) => kinds.has(kind) && !there.has(kind))
      .map(usual),
  ];
}

export function Days({
  value,
  onChange,
  label,
}: {
  value: number[];
  onChange: (days: number[]) => void;
  label: string;
}) {
  return (
    <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
      <legend className="font-medium">{label}</legend>
      {[0, 1, 2, 3, 4, 5, 6].map((day) => (
        <label key={day} className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={value.includes(day)}
            onChange={(event) =>
              onChange(event.target.checked ? [...value, day].sort() : value.filter((d) => d !== day))
            }
          />
          {weekdayName(day)}
        </label>
      ))}
    </fieldset>
  );
}

function placeOf(row: PlaceRow): Schemas["PlaceIn"] {
  const warmth = row.warmth.trim() || null;
  return {
    name: row.name,
    kind: row.kind,
    capacity: row.capacity,
    gangway: 0,
    set_point_c: warmth,
    cooled_to_c: row.kind === "germination" ? warmth : row.kind === "store" ? (warmth ?? 8) : null,
    excess_c: row.kind === "bench" || row.kind === "tunnel" ? 3 : 0,
    lamps_mol: 0,
  };
}

/** Somebody's own nursery: organisation, first manager, site with its climate, days, places. */
export function FirstRun() {
  const [form, setForm] = useState({
    organisation: "",
    full_name: "",
    username: "",
    password: "",
    site: "Yard",
    latitude: "",
    word: "",
  });
  const { data: session } = useQuery(sessionQuery);
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
  const [climate, setClimate] = useState("4 5 8 11 15 18 20 20 17 13 8 5");
  const [working, setWorking] = useState([0, 1, 2, 3, 4]);
  const [sowing, setSowing] = useState([0, 1, 2, 3, 4]);
  const [places, setPlaces] = useState(USUAL);
  const { data: offers } = useQuery(offerQuery);
  const [raised, setRaised] = useState<string[]>([]);
  const [without, setWithout] = useState<string[]>([]);
  const offered = (offers ?? []).filter((offer) => raised.includes(offer.words));
  const crops = [
    ...new Map(offered.flatMap((offer) => offer.crops).map((crop) => [crop.slug, crop.name])).entries(),
  ].sort((a, b) => a[1].localeCompare(b[1]));
  const raise = (words: string, on: boolean) => {
    const now = on ? [...raised, words] : raised.filter((other) => other !== words);
    const kinds = (offers ?? []).filter((offer) => now.includes(offer.words)).flatMap((offer) => offer.kinds);
    setRaised(now);
    setPlaces(now.length ? placesFor(places, new Set(kinds)) : places);
  };
  const put = (name: keyof typeof form) => (event: React.ChangeEvent<HTMLInputElement>) =>
    setForm({ ...form, [name]: event.target.value });
  const setUp = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/setup", {
          body: {
            ...form,
            timezone: zone,
            latitude: form.latitude,
            monthly_c: climate.trim().split(/[\s;]+/),
            working_days: working,
            sowing_days: sowing,
            places: places.filter((row) => row.name.trim()).map(placeOf),
            raises: crops.map(([slug]) => slug).filter((slug) => !without.includes(slug)),
          },
        }),
      ),
    onSuccess: async (session) => {
      rememberCsrf(session.csrf);
      queryClient.setQueryData(["session"], session);
      await queryClient.invalidateQueries();
    },
  });
  const error = setUp.error instanceof ApiError ? setUp.error : null;
  const of = (field: string) => error?.of(field);
  const shown = ["word", "organisation", "full_name", "username", "password", "site", "latitude", "timezone"];
  return (
    <main className="h-full overflow-auto bg-frame p-6">
      <form
        className="grid max-w-3xl gap-5 border-ink border-l-4 bg-paper p-6"
        onSubmit={(event) => {
          event.preventDefault();
          setUp.mutate();
        }}
      >
        <div>
          <h1>Set up your nursery</h1>
          <p className="text-ink2">Seven things, and the house stands. All of it can be changed later.</p>
          {session?.asks_word ? (
            <div className="my-3 max-w-md">
              <Field label="The word that stands where Aldrip was started" fault={of("word")}>
                <input className="input" value={form.word} onChange={put("word")} autoComplete="off" required />
              </Field>
            </div>
          ) : null}
          <BringIn first word={form.word} />
        </div>
        <section className="grid gap-3 sm:grid-cols-2">
          <Field label="What is the nursery called?" fault={of("organisation")}>
            <input className="input" value={form.organisation} onChange={put("organisation")} required />
          </Field>
          <Field label="Your name" fault={of("full_name")}>
            <input className="input" value={form.full_name} onChange={put("full_name")} autoComplete="name" />
          </Field>
          <Field label="Name to sign in with" fault={of("username")}>
            <input
              className="input"
              value={form.username}
              onChange={put("username")}
              autoComplete="username"
              required
            />
          </Field>
          <Field label="Password" fault={of("password")} hint="At least ten characters">
            <input
              className="input"
              type="password"
              value={form.password}
              onChange={put("password")}
              autoComplete="new-password"
              required
            />
          </Field>
        </section>
        <section className="grid gap-3 sm:grid-cols-3">
          <Field label="Site" fault={of("site")}>
            <input className="input" value={form.site} onChange={put("site")} required />
          </Field>
          <Field label="Latitude" fault={of("latitude")} hint="Degrees, south is negative">
            <input className="input" inputMode="decimal" value={form.latitude} onChange={put("latitude")} required />
          </Field>
          <Field label="Time zone" fault={of("timezone")}>
            <input className="input" value={zone} onChange={(event) => setZone(event.target.value)} required />
          </Field>
        </section>
        <Field
          label="Mean temperature outside by month, °C"
          fault={error?.errors.find((e) => e.field.startsWith("monthly_c"))?.message}
          hint={MONTHS.join(" ")}
        >
          <input className="input" value={climate} onChange={(event) => setClimate(event.target.value)} required />
        </Field>
        <Days label="People work on" value={working} onChange={setWorking} />
        <Days label="Sowing is done on" value={sowing} onChange={setSowing} />
        <fieldset>
          <legend className="text-h2 font-bold">What do you raise?</legend>
          <p className="note">
            Methods, containers, mixes and standards for it are there to begin with, and places are proposed below. All
            else that ships stays within reach.
          </p>
          <div className="mt-1 grid gap-x-6 gap-y-1 sm:grid-cols-2">
            {offers?.map((offer) => (
              <label key={offer.words} className="flex items-baseline gap-2">
                <input
                  type="checkbox"
                  checked={raised.includes(offer.words)}
                  onChange={(event) => raise(offer.words, event.target.checked)}
                />
                <span>
                  {offer.words} <span className="note">{offer.crops.length} crops</span>
                </span>
              </label>
            ))}
          </div>
          {crops.length ? (
            <details className="mt-2">
              <summary className="btn-link cursor-pointer">
                {crops.length - crops.filter(([slug]) => without.includes(slug)).length} crops are taken; choose among
                them
              </summary>
              <div className="mt-1 grid grid-cols-2 gap-x-4 sm:grid-cols-4">
                {crops.map(([slug, name]) => (
                  <label key={slug} className="flex items-baseline gap-2">
                    <input
                      type="checkbox"
                      checked={!without.includes(slug)}
                      onChange={(event) =>
                        setWithout(event.target.checked ? without.filter((one) => one !== slug) : [...without, slug])
                      }
                    />
                    {name}
                  </label>
                ))}
              </div>
            </details>
          ) : null}
        </fieldset>
        <section>
          <h2>Where plants stand</h2>
          <p className="note">
            Germination rooms hold trays, the rest m². A set-point is kept by heating; leave it empty where nothing is
            heated.
          </p>
          <table className="tbl mt-1 block sm:table">
            <thead className="hidden sm:table-header-group">
              <tr>
                <th scope="col">Name</th>
                <th scope="col">Kind</th>
                <th scope="col">Holds</th>
                <th scope="col">Set-point, °C</th>
                <th scope="col">
                  <span className="sr-only">Remove</span>
                </th>
              </tr>
            </thead>
            <tbody className="block sm:table-row-group">
              {places.map((row, index) => {
                const change = (patch: Partial<PlaceRow>) =>
                  setPlaces(places.map((old, n) => (n === index ? { ...old, ...patch } : old)));
                const fault = error?.errors.find((e) => e.field.startsWith(`places.${index}.`))?.message;
                return (
                  <tr
                    key={index}
                    className="grid grid-cols-[3fr_3fr_auto] items-center gap-x-3 border-rule border-b py-2 max-sm:[&>td]:border-0 max-sm:[&>td]:py-1 sm:table-row"
                  >
                    <td>
                      <input
                        className="input"
                        aria-label={`Name of place ${index + 1}`}
                        value={row.name}
                        onChange={(e) => change({ name: e.target.value })}
                      />
                      {fault ? <div className="fault">{fault}</div> : null}
                    </td>
                    <td className="max-sm:col-span-2">
                      <select
                        className="input"
                        aria-label={`Kind of place ${index + 1}`}
                        value={row.kind}
                        onChange={(e) => change({ kind: e.target.value })}
                      >
                        {KINDS.map(([value, words]) => (
                          <option key={value} value={value}>
                            {words}
                          </option>
                        ))}
                      </select>
                    </td>
                    <td className="whitespace-nowrap">
                      <input
                        className="input !w-20"
                        aria-label={`What place ${index + 1} holds`}
                        inputMode="decimal"
                        value={row.capacity}
                        onChange={(e) => change({ capacity: e.target.value })}
                      />{" "}
                      {KINDS.find(([value]) => value === row.kind)?.[2]}
                    </td>
                    <td className="whitespace-nowrap">
                      <span className="note sm:hidden">kept at </span>
                      <input
                        className="input !w-16"
                        aria-label={`Set-point of place ${index + 1}`}
                        inputMode="decimal"
                        value={row.warmth}
                        onChange={(e) => change({ warmth: e.target.value })}
                      />
                      <span className="note sm:hidden"> °C</span>
                    </td>
                    <td className="!align-middle">
                      <button
                        type="button"
                        className="btn-link"
                        onClick={() => setPlaces(places.filter((_, n) => n !== index))}
                      >
                        remove
                      </button>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
          <button
            type="button"
            className="btn mt-2"
            onClick={() => setPlaces([...places, { name: "", kind: "bench", capacity: "", warmth: "" }])}
          >
            Add a place
          </button>
        </section>
        <Faults
          error={setUp.error}
          fields={[
            ...shown,
            ...(error?.errors ?? [])
              .map((e) => e.field)
              .filter((f) => f.startsWith("places.") || f.startsWith("monthly_c")),
          ]}
        />
        <button type="submit" className="btn btn-decide h-8 w-fit" disabled={setUp.isPending}>
          Set up
        </button>
      </form>
    </main>
  );
}
