import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, rememberCsrf, type Schemas, take } from "../api/client";
import { queryClient } from "../api/queries";
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
];

interface PlaceRow {
  name: string;
  kind: string;
  capacity: string;
  warmth: string;
}

const USUAL: PlaceRow[] = [
  { name: "Potting shed", kind: "shed", capacity: "", warmth: "" },
  { name: "Germination room", kind: "germination", capacity: "400", warmth: "19" },
  { name: "Bench 1", kind: "bench", capacity: "150", warmth: "18" },
  { name: "Tunnel 1", kind: "tunnel", capacity: "200", warmth: "" },
  { name: "Cold store", kind: "store", capacity: "40", warmth: "" },
];

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
  const warmth = row.warmth.trim() ? Number(row.warmth) : null;
  return {
    name: row.name,
    kind: row.kind,
    capacity: row.capacity.trim() ? Number(row.capacity) : null,
    gangway: 0,
    set_point_c: warmth,
    cooled_to_c: row.kind === "germination" ? warmth : row.kind === "store" ? (warmth ?? 8) : null,
    excess_c: row.kind === "bench" || row.kind === "tunnel" ? 3 : 0,
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
  });
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
  const [climate, setClimate] = useState("4 5 8 11 15 18 20 20 17 13 8 5");
  const [working, setWorking] = useState([0, 1, 2, 3, 4]);
  const [sowing, setSowing] = useState([0, 1, 2, 3, 4]);
  const [places, setPlaces] = useState(USUAL);
  const put = (name: keyof typeof form) => (event: React.ChangeEvent<HTMLInputElement>) =>
    setForm({ ...form, [name]: event.target.value });
  const setUp = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/setup", {
          body: {
            ...form,
            timezone: zone,
            latitude: Number(form.latitude.replace(",", ".") || Number.NaN),
            monthly_c: climate
              .trim()
              .split(/[\s;]+/)
              .map((t) => Number(t.replace(",", "."))),
            working_days: working,
            sowing_days: sowing,
            places: places.filter((row) => row.name.trim()).map(placeOf),
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
  const shown = ["organisation", "full_name", "username", "password", "site", "latitude", "timezone"];
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
          <p className="text-ink2">Six things, and the house stands. All of it can be changed later.</p>
          <BringIn first />
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
        <section>
          <h2>Where plants stand</h2>
          <p className="note">
            Germination rooms hold trays, the rest m². A set-point is kept by heating; leave it empty where nothing is
            heated.
          </p>
          <table className="tbl mt-1">
            <thead>
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
            <tbody>
              {places.map((row, index) => {
                const change = (patch: Partial<PlaceRow>) =>
                  setPlaces(places.map((old, n) => (n === index ? { ...old, ...patch } : old)));
                const fault = error?.errors.find((e) => e.field.startsWith(`places.${index}.`))?.message;
                return (
                  <tr key={index}>
                    <td>
                      <input
                        className="input"
                        aria-label={`Name of place ${index + 1}`}
                        value={row.name}
                        onChange={(e) => change({ name: e.target.value })}
                      />
                      {fault ? <div className="fault">{fault}</div> : null}
                    </td>
                    <td>
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
                    <td>
                      <input
                        className="input !w-16"
                        aria-label={`Set-point of place ${index + 1}`}
                        inputMode="decimal"
                        value={row.warmth}
                        onChange={(e) => change({ warmth: e.target.value })}
                      />
                    </td>
                    <td>
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
