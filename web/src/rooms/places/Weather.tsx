import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useLayoutEffect, useRef } from "react";
import { api, type Schemas, take } from "../../api/client";
import { sessionQuery, weatherQuery } from "../../api/queries";
import { daysBetween, longDay, shortDay, weekday } from "../../ui/dates";
import { few } from "../../ui/format";
import { useAddress, useMay, useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";

type Day = Schemas["WeatherDayOut"];
const WIDE = 18; // px of a day
const HIGH = 128;
const HEAD = 14;
const LEFT = 30;

/** What was read outside and is forecast, a bar a day from its lowest to its highest, with the climate behind it. */
export function Weather({ site }: { site: Schemas["SiteOut"] }) {
  const { data, error } = useQuery(weatherQuery(site.id));
  const { data: session } = useSuspenseQuery(sessionQuery);
  const may = useMay();
  const { weather: asked } = useAddress();
  const here = useRef<HTMLElement>(null);
  const there = Boolean(data);
  useEffect(() => {
    const work = document.getElementById("work");
    if (asked && there && work && here.current)
      work.scrollTop += here.current.getBoundingClientRect().top - work.getBoundingClientRect().top;
  }, [asked, there]);
  const path = { site_id: site.id };
  const bring = useSave((chosen: File) => {
    const form = new FormData();
    form.append("file", chosen);
    return take(
      api.POST("/api/sites/{site_id}/weather/file", {
        params: { path },
        body: form as unknown as { file: string },
        bodySerializer: () => form,
      }),
    );
  });
  const practice = useSave(() => take(api.POST("/api/sites/{site_id}/weather/practice", { params: { path } })));
  const drop = useSave(() => take(api.POST("/api/sites/{site_id}/weather/drop", { params: { path } })));
  const cover = useSave((first: string) =>
    take(api.POST("/api/sites/{site_id}/cover", { params: { path }, body: { first } })),
  );
  const shade = useSave((batch_id: number) =>
    take(api.POST("/api/sites/{site_id}/shade", { params: { path }, body: { batch_id } })),
  );
  const acts = [bring, practice, drop, cover, shade];
  const busy = acts.some((one) => one.isPending);
  const said = acts.map((one) => one.data?.message).filter(Boolean);
  return (
    <section ref={here} className="mt-6" aria-label={`Weather of ${site.name}`}>
      <h2>Weather of {site.name}, outside in °C</h2>
      <p className="note">{data ? known(data) : error ? "" : "Fetching the weather …"}</p>
      {data?.days.length ? <Bars days={data.days} /> : null}
      {data?.frosts.map((one) => (
        <p key={one.first} className="my-2 flex flex-wrap items-center gap-3 border-ink border-l-4 pl-3">
          <span>
            <b>Frost, {Math.round(one.worst_c)} °C</b>,{" "}
            {one.first === one.last ? longDay(one.first) : `${longDay(one.first)} to ${longDay(one.last)}`}:{" "}
            {few(one.batches, "batch", "batches")} {one.batches === 1 ? "stands" : "stand"} where it freezes (
            {one.places.join(", ")}).
          </span>
          {one.covered ? (
            <span className="note">Covering stands on the day sheet.</span>
          ) : may("diary.do") ? (
            <button type="button" className="btn btn-decide" disabled={busy} onClick={() => cover.mutate(one.first)}>
              Put covering on the day sheet
            </button>
          ) : null}
        </p>
      ))}
      {data?.heats.map((one) => (
        <p
          key={`${one.batch_id} ${one.first}`}
          className="my-2 flex flex-wrap items-center gap-3 border-ink border-l-4 pl-3"
        >
          <span>
            <b>Heat, {Math.round(one.worst_c)} °C</b>,{" "}
            {one.first === one.last ? longDay(one.first) : `${longDay(one.first)} to ${longDay(one.last)}`}: {one.crop}{" "}
            <Link to="/batches/$id" params={{ id: String(one.batch_id) }}>
              {one.batch}
            </Link>{" "}
            in {one.place} rests above {Math.round(one.ceiling_c)} °C.
          </span>
          {one.shaded ? (
            <span className="note">Shading stands on the day sheet.</span>
          ) : may("diary.do") ? (
            <button type="button" className="btn btn-decide" disabled={busy} onClick={() => shade.mutate(one.batch_id)}>
              Put shading on the day sheet
            </button>
          ) : null}
        </p>
      ))}
      {may("places.edit") ? (
        <div className="flex flex-wrap items-center gap-3 py-2">
          <label className="flex items-center gap-2">
            Bring a file
            <input
              type="file"
              accept=".csv,.txt,.tsv,.xlsx"
              disabled={busy}
              onChange={(event) => {
                const chosen = event.target.files?.[0];
                if (chosen) bring.mutate(chosen);
                event.target.value = "";
              }}
            />
          </label>
          {session.organisation?.practice_date ? (
            <button type="button" className="btn" disabled={busy} onClick={() => practice.mutate(undefined)}>
              Ten days for practice
            </button>
          ) : null}
          {data?.forecast_until ? (
            <button type="button" className="btn-link" disabled={busy} onClick={() => drop.mutate(undefined)}>
              let the forecast go
            </button>
          ) : null}
        </div>
      ) : null}
      {said.length ? <p role="status">{said.at(-1)}</p> : null}
      <Faults error={error ?? acts.find((one) => one.error)?.error} />
      <p className="note max-w-prose">
        A file has a row a day: date, lowest, highest and, if known, mean, in °C. Days up to today are taken as read,
        later ones as forecast, at most sixteen. Plans that are made or changed from then on reckon with these days and
        with the climate on all others.
        {session.organisation?.practice_date ? " The days for practice are invented by a service that ships." : ""}
      </p>
    </section>
  );
}

function known(data: Schemas["WeatherOut"]): string {
  const read = data.read_until ? `Read until ${longDay(data.read_until)}` : "";
  const ahead = data.forecast_until ? `forecast until ${longDay(data.forecast_until)}` : "";
  if (!read && !ahead) return "Nothing was read and nothing is forecast: plans reckon with the climate by month.";
  return `${[read, ahead].filter(Boolean).join("; ")}.`.replace(/^f/, "F");
}

function Bars({ days }: { days: Day[] }) {
  const first = days[0]?.day ?? "";
  const at = (day: string) => LEFT + daysBetween(first, day) * WIDE;
  const low = Math.floor(Math.min(0, ...days.map((one) => one.low_c)) / 5) * 5;
  const high = Math.ceil(Math.max(...days.map((one) => Math.max(one.high_c, one.usual_c))) / 5) * 5;
  const y = (value: number) => HEAD + ((high - value) / (high - low || 1)) * HIGH;
  const width = at(days.at(-1)?.day ?? first) + WIDE + 4;
  const steps = Array.from({ length: (high - low) / 5 + 1 }, (_, n) => low + n * 5).filter((one) => one % 10 === 0);
  const mondays = days.filter((one) => weekday(one.day) === 0);
  const aside = useRef<HTMLElement>(null);
  // Where not all finds room, what is to come is seen first.
  useLayoutEffect(() => {
    aside.current?.scrollTo({ left: width });
  }, [width]);
  return (
    <section ref={aside} className="overflow-x-auto" tabIndex={0} aria-label="Temperatures by day">
      <svg
        className="block"
        width={width}
        height={HEAD + HIGH + 20}
        role="img"
        aria-label={days
          .map((one) => `${shortDay(one.day)} ${Math.round(one.low_c)} to ${Math.round(one.high_c)}`)
          .join(", ")}
      >
        {steps.map((one) => (
          <g key={one}>
            <line x1={LEFT} x2={width} y1={y(one)} y2={y(one)} className={one ? "stroke-hair" : "stroke-ink"} />
            <text x={LEFT - 6} y={y(one) + 4} textAnchor="end" className="cond fill-ink3 text-note">
              {String(one).replace("-", "−")}
            </text>
          </g>
        ))}
        {mondays.map((one) => (
          <text key={one.day} x={at(one.day)} y={HEAD + HIGH + 15} className="cond fill-ink2 text-note">
            {shortDay(one.day)}
          </text>
        ))}
        {days.map((one) => (
          <g key={one.day}>
            <title>
              {`${longDay(one.day)}: ${one.low_c} to ${one.high_c} °C, mean ${one.mean_c}, usually ${one.usual_c}${one.forecast ? "; forecast" : ""}`}
            </title>
            <rect
              x={at(one.day) + 3}
              width={WIDE - 7}
              y={y(one.high_c)}
              height={Math.max(1, y(one.low_c) - y(one.high_c))}
              className={one.forecast ? "fill-panel stroke-line" : "fill-stand stroke-line"}
              strokeDasharray={one.forecast ? "3 2" : undefined}
            />
            <line
              x1={at(one.day) + 3}
              x2={at(one.day) + WIDE - 4}
              y1={y(one.mean_c)}
              y2={y(one.mean_c)}
              className="stroke-ink"
              strokeWidth={2}
            />
          </g>
        ))}
        <polyline
          points={days.map((one) => `${at(one.day) + WIDE / 2},${y(one.usual_c)}`).join(" ")}
          className="fill-none stroke-ink3"
          strokeDasharray="1 3"
        />
      </svg>
      <p className="note cond">Bars: read; dashed: forecast; strokes: means; dotted: the climate.</p>
    </section>
  );
}
