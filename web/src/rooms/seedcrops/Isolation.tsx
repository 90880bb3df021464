import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "@tanstack/react-router";
import L from "leaflet";
import "leaflet/dist/leaflet.css";
import { useEffect, useRef, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { blockQuery, isolationQuery, libraryQuery, ref } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { useWorking } from "../../shell/working";
import { shortDay } from "../../ui/dates";
import { count, hectares, kilos } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { OUTLINE_HINT, readOutline } from "../../ui/outline";
import { Faults, Pennant, Sheet } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { BlockHead } from "./Block";
import { Arrow } from "./LayoutFields";

type Data = Schemas["IsolationOut"];
type Neighbour = Data["neighbours"][number];
type Remedy = Data["remedies"][number];
type Polygon = { coordinates: number[][][] };

const KINDS = [
  "other cultivar",
  "same crop not conforming",
  "wild or weedy relative",
  "forage relative",
  "same pollen parent",
  "seed-borne disease source",
];

/** Fields to scale on our own geometry: distances as bands, each breach as a line with its metres and its remedies. */
export function Isolation() {
  const { id = "" } = useParams({ strict: false });
  const { data: block } = useSuspenseQuery(blockQuery(ref(id)));
  const { data } = useSuspenseQuery(isolationQuery(ref(id)));
  const [adding, setAdding] = useState<Neighbour | "new" | null>(null);
  const [leaving, setLeaving] = useState<Neighbour | null>(null);
  const { show } = useWorking();
  const may = useMay();
  const close = data.neighbours.filter((one) => one.state === "too close");
  return (
    <div className="px-4 pb-8">
      <BlockHead block={block} here="isolation" />
      <div className="flex flex-wrap items-baseline gap-x-4 pb-2">
        <p className="flex-1 text-h2">
          {close.length ? (
            <>
              <Pennant>{`${count(close[0]?.short_m)} m too close`}</Pennant>{" "}
              {close.map((one) => one.name).join(" and ")} {close.length > 1 ? "stand" : "stands"} nearer than{" "}
              {data.class_name} asks.
            </>
          ) : (
            <>
              {data.strip_left
                ? `A strip is left: ${hectares(data.plantable_m2)} of ${hectares(data.area_m2)} count. `
                : ""}
              {data.said}
            </>
          )}
        </p>
        <button
          type="button"
          className="btn-link"
          onClick={() => show({ title: "isolation", value: "", steps: data.working }, true)}
        >
          Working
        </button>
        {may("seedcrops.count") ? (
          <button type="button" className="btn" onClick={() => setAdding("new")}>
            Enter a neighbour
          </button>
        ) : null}
      </div>
      <div className="grid gap-5 lg:grid-cols-[minmax(320px,1fr)_minmax(380px,460px)]">
        <FieldMap data={data} name={block.field} />
        <div>
          <Distances data={data} onForget={setLeaving} onCorrect={setAdding} />
          {data.remedies.length ? <Remedies data={data} block={block} /> : null}
        </div>
      </div>
      {adding ? (
        <NeighbourForm
          cropName={block.crop}
          old={adding === "new" ? undefined : adding}
          onClose={() => setAdding(null)}
        />
      ) : null}
      {leaving?.id ? <Forget neighbour={leaving} onClose={() => setLeaving(null)} /> : null}
    </div>
  );
}

const turned = (ring: number[][]) => ring.map(([x = 0, y = 0]) => [y, x] as [number, number]);

function FieldMap({ data, name }: { data: Data; name: string }) {
  const holder = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = holder.current;
    if (!element) return;
    const map = L.map(element, {
      attributionControl: false,
      zoomSnap: 0.25,
      fadeAnimation: false,
      zoomAnimation: false,
    });
    const own = (data.outline as unknown as Polygon).coordinates[0] ?? [];
    const near = data.neighbours.filter((one) => (one.distance_m ?? 0) < 2.2 * (one.required_m ?? 400));
    for (const band of data.bands)
      L.polyline(turned(band.line), { className: "map-band", interactive: false, smoothFactor: 0.2 })
        .bindTooltip(`${count(band.metres)} m`, { permanent: true, direction: "top", className: "map-word" })
        .addTo(map);
    L.polygon(turned(own), {
      className: data.neighbours.some((n) => n.short_m) ? "map-lost" : "map-own",
      interactive: false,
    }).addTo(map);
    for (const rings of (data.plantable as unknown as { coordinates: number[][][][] }).coordinates)
      L.polygon(rings.map(turned), { className: "map-own", interactive: false }).addTo(map);
    L.marker(L.polygon(turned(own)).getBounds().getCenter(), {
      icon: words(name, "font-bold"),
      interactive: false,
      keyboard: false,
    }).addTo(map);
    for (const one of data.neighbours) {
      const shape = L.polygon(turned((one.outline as unknown as Polygon).coordinates[0] ?? []), {
        className: one.short_m ? "map-breach" : "map-near",
        interactive: false,
      }).addTo(map);
      L.marker(shape.getBounds().getCenter(), { icon: words(one.name, ""), interactive: false, keyboard: false }).addTo(
        map,
      );
      if (one.line)
        L.polyline(turned(one.line), { className: "map-line", interactive: false })
          .bindTooltip(`${count(one.distance_m)} m`, {
            permanent: true,
            direction: "center",
            className: "map-word map-metres",
          })
          .addTo(map);
    }
    L.control.scale({ imperial: false, position: "bottomleft" }).addTo(map);
    const bounds = L.latLngBounds(turned(own));
    for (const one of near)
      bounds.extend(L.latLngBounds(turned((one.outline as unknown as Polygon).coordinates[0] ?? [])));
    // The whole distance asked is to be seen, and not a piece of its ring.
    for (const band of data.bands) bounds.extend(L.latLngBounds(turned(band.line)));
    map.fitBounds(bounds.pad(0.06));
    return () => {
      map.remove();
    };
  }, [data, name]);
  return (
    <div>
      <svg width="0" height="0" className="absolute" aria-hidden="true">
        <defs>
          <pattern id="near-hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="2.4" height="6" className="fill-ink" />
          </pattern>
        </defs>
      </svg>
      <div
        ref={holder}
        className="map h-[clamp(320px,62vh,720px)] border border-hair bg-frame"
        role="application"
        aria-label={`Map of ${name} and the fields around it; the table beside it says the same`}
      />
      <p className="note mt-1">
        Solid: may be planted. Hatched: nearer than asked. Dashed: the distance asked, round our field. No background
        map; outlines are our own.
      </p>
    </div>
  );
}

function words(text: string, extra: string) {
  return L.divIcon({
    className: `map-name ${extra}`,
    html: `<span>${text.replace(/[<&]/g, "")}</span>`,
    iconSize: [0, 0],
  });
}

function Distances({
  data,
  onForget,
  onCorrect,
}: {
  data: Data;
  onForget: (one: Neighbour) => void;
  onCorrect: (one: Neighbour) => void;
}) {
  const may = useMay();
  return (
    <table className="tbl">
      <thead>
        <tr>
          <th scope="col">Nearby</th>
          <th scope="col" className="num">
            Measured
          </th>
          <th scope="col" className="num">
            Required
          </th>
          <th scope="col" className="num">
            Short
          </th>
        </tr>
      </thead>
      <tbody>
        {[...data.neighbours]
          .sort((a, b) => (b.short_m ?? 0) - (a.short_m ?? 0) || (a.distance_m ?? 0) - (b.distance_m ?? 0))
          .map((one) => (
            <tr key={one.key}>
              <td>
                <b>{one.name}</b>
                <div className="note">
                  {one.kind}; {one.told}
                  {one.flowers_from ? `; flowers ${shortDay(one.flowers_from)} to ${shortDay(one.flowers_to)}` : ""}
                </div>
                {one.source ? <div className="note">{one.source}</div> : null}
                {one.id && may("seedcrops.count") ? (
                  <button type="button" className="btn-link note mr-3" onClick={() => onCorrect(one)}>
                    correct it
                  </button>
                ) : null}
                {one.id && may("seedcrops.plan") ? (
                  <button type="button" className="btn-link note" onClick={() => onForget(one)}>
                    no longer there
                  </button>
                ) : null}
              </td>
              <td className="num">{one.distance_m === null ? "" : `${count(one.distance_m)} m`}</td>
              <td className="num">{one.required_m === null ? "no rule" : `${count(one.required_m)} m`}</td>
              <td className="num">{one.state === "too close" ? <b>{count(one.short_m)} m</b> : one.state}</td>
            </tr>
          ))}
        {data.neighbours.length ? null : (
          <tr>
            <td colSpan={4}>Nothing of this crop was entered nearby. Walk round and enter what grows there.</td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

function Remedies({ data, block }: { data: Data; block: Schemas["BlockOut"] }) {
  const may = useMay();
  const navigate = useNavigate();
  const path = { params: { path: { block_id: block.block_id ?? 0 } } };
  const act = useSave((remedy: Remedy) => {
    if (remedy.kind === "strip")
      return take(api.POST("/api/seed-blocks/{block_id}/strip", { ...path, body: { version: data.version } }));
    return take(
      api.POST("/api/seed-blocks/{block_id}/class", {
        ...path,
        body: { version: data.version, seed_class: remedy.seed_class ?? "" },
      }),
    );
  });
  // Other sowing days are a change of the plan: they stand as a proposal in the block, with all that they do.
  const takeUp = (remedy: Remedy) => {
    if (remedy.kind !== "delay") return act.mutate(remedy);
    const state = { sowOn: remedy.sow_on } as Record<string, unknown>;
    void navigate({ to: "/seedcrops/$id", params: { id: String(block.block_id) }, state });
  };
  return (
    <section className="mt-4">
      <h2 className="border-rule border-b pb-1">Remedies</h2>
      <Faults error={act.error} />
      <ul>
        {data.remedies.map((remedy) => (
          <li key={remedy.kind} className="border-hair border-b py-2">
            <div className="flex items-baseline gap-3">
              <b className="flex-1">{remedy.title}</b>
              <span className="whitespace-nowrap">
                {Math.round(remedy.kg_before) === Math.round(remedy.kg_after) ? (
                  <b>{kilos(Math.round(remedy.kg_after))}</b>
                ) : (
                  <>
                    <span className="text-ink3">{kilos(Math.round(remedy.kg_before))}</span> <Arrow />{" "}
                    <b>{kilos(Math.round(remedy.kg_after))}</b>
                  </>
                )}
              </span>
            </div>
            <p>{remedy.sentence}</p>
            <div className="flex items-baseline gap-4">
              <span className="note flex-1">{remedy.possible ? remedy.asks : "not possible here"}</span>
              {remedy.possible && may("seedcrops.plan") ? (
                <button type="button" className="btn" disabled={act.isPending} onClick={() => takeUp(remedy)}>
                  {{ strip: "Leave the strip", delay: "Propose these days", class: "Drop the class" }[remedy.kind]}
                </button>
              ) : null}
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What grows nearby, entered or put right; an outline that is not typed again stays. */
function NeighbourForm({
  cropName,
  old,
  onClose,
}: {
  cropName: string;
  old?: Neighbour | undefined;
  onClose: () => void;
}) {
  const { data: library } = useQuery(libraryQuery);
  const { today } = useSpan();
  const crop = library?.crops.find((one) => one.name === cropName);
  return (
    <Sheet open onClose={onClose} title="A neighbour's crop">
      {crop ? (
        <QuickForm
          button={old ? "Correct it" : "Put it on the map"}
          onDone={onClose}
          fields={[
            { name: "name", label: "Whose field", start: old?.name ?? "", needed: true, wide: true },
            {
              name: "kind",
              label: `What it is to our ${crop.name.toLowerCase()}`,
              type: "select",
              needed: true,
              wide: true,
              ...(old ? { start: old.kind } : {}),
              options: KINDS.map((kind) => [kind, kind]),
            },
            {
              name: "outline",
              label: old ? "Outline, to replace the one there" : "Outline",
              type: "area",
              hint: OUTLINE_HINT,
              needed: !old,
              wide: true,
            },
            { name: "year", label: "Season", start: String(old?.year ?? today.slice(0, 4)), needed: true },
            { name: "seen_on", label: "Seen on", type: "date", start: old?.seen_on ?? today, needed: true },
            { name: "seen_by", label: "Seen by", start: old?.seen_by ?? "", wide: true },
            { name: "flowers_from", label: "Flowers from", type: "date", start: old?.flowers_from ?? "" },
            { name: "flowers_to", label: "to", type: "date", start: old?.flowers_to ?? "" },
          ]}
          save={async (values) => {
            const body = {
              name: values.name ?? "",
              crop_id: crop.id,
              kind: values.kind ?? "",
              year: values.year ?? "",
              seen_on: values.seen_on ?? "",
              seen_by: values.seen_by ?? "",
              flowers_from: values.flowers_from || null,
              flowers_to: values.flowers_to || null,
              ...readOutline(values.outline ?? ""),
            };
            return old
              ? take(
                  api.PATCH("/api/neighbours/{neighbour_id}", {
                    params: { path: { neighbour_id: old.id ?? 0 } },
                    body,
                  }),
                )
              : take(api.POST("/api/neighbours", { body }));
          }}
        />
      ) : null}
    </Sheet>
  );
}

function Forget({ neighbour, onClose }: { neighbour: Neighbour; onClose: () => void }) {
  return (
    <Sheet open onClose={onClose} title={`${neighbour.name} no longer counts`}>
      <QuickForm
        columns={1}
        button="Take it off the map"
        onDone={onClose}
        fields={[{ name: "reason", label: "Why, such as “ploughed in on 2 July, seen by Wren”", needed: true }]}
        save={(values) =>
          take(
            api.POST("/api/neighbours/{neighbour_id}/forget", {
              params: { path: { neighbour_id: neighbour.id ?? 0 } },
              body: { reason: values.reason ?? "" },
            }),
          )
        }
      />
    </Sheet>
  );
}
