import { useSuspenseQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { few, share } from "../../ui/format";
import { RoomHead } from "../../ui/parts";
import { SeedLibrary } from "./SeedLibrary";

type Library = Schemas["LibraryOut"];

/** The library: what is raised how, every value with its source. */
export function Methods() {
  const { data: library } = useSuspenseQuery(libraryQuery);
  const [chosen, setChosen] = useState(library.methods[0]?.id ?? 0);
  const method = library.methods.find((one) => one.id === chosen);
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Methods"
        note={`${library.crops.length} crops, ${library.methods.length} methods; a rate is overruled on the batch, with its reason`}
      />
      <div className="grid gap-6 lg:grid-cols-[240px_1fr]">
        <nav aria-label="Methods">
          {library.methods.map((one) => (
            <button
              type="button"
              key={one.id}
              aria-current={one.id === chosen}
              className={`block w-full border-hair border-b py-1.5 text-left ${one.id === chosen ? "border-l-4 border-l-ink bg-panel pl-2 font-semibold" : ""}`}
              onClick={() => setChosen(one.id)}
            >
              {one.name}
            </button>
          ))}
        </nav>
        {method ? <MethodView method={method} library={library} /> : null}
      </div>
    </div>
  );
}

function Source({ text }: { text: string | undefined }) {
  return text ? (
    <span className="note block">
      <span aria-hidden="true">□</span> library: {text}
    </span>
  ) : null;
}

function MethodView({ method, library }: { method: Schemas["MethodOut"]; library: Library }) {
  const crop = library.crops.find((one) => one.id === method.crop_id);
  const container = library.containers.find((one) => one.id === method.container_id);
  const mix = library.mixes.find((one) => one.id === method.mix_id);
  const standard = library.standards.find((one) => one.id === method.standard_id);
  return (
    <article>
      <h2>{method.name}</h2>
      <p className="text-ink2">
        {crop?.botanical_name}.{" "}
        {method.by_seed
          ? `${method.seeds_per_cell} ${method.seeds_per_cell === 1 ? "seed" : "seeds"} a cell`
          : `from ${method.start_unit}`}
        {container ? `, ${container.name.toLowerCase()}` : ""}
        {mix ? `, ${mix.name.toLowerCase()}` : ""}.
      </p>
      <table className="tbl mt-3">
        <thead>
          <tr>
            <th scope="col">Stage</th>
            <th scope="col">Lasts</th>
            <th scope="col">Keeps</th>
            <th scope="col">Stands in</th>
            <th scope="col">Takes up</th>
          </tr>
        </thead>
        <tbody>
          {method.stages.map((stage) => (
            <tr key={stage.order}>
              <td className="font-semibold">{stage.name}</td>
              <td>
                {stage.heat_sum_c_d !== null ? (
                  <>
                    {stage.heat_sum_c_d} °C·d over {stage.base_c} °C
                  </>
                ) : stage.days ? (
                  few(stage.days, "day")
                ) : (
                  "the same day"
                )}
                {stage.ceiling_c !== null ? `; rests above ${stage.ceiling_c} °C` : ""}
                <Source text={stage.sources.heat_sum_c_d ?? (stage.days ? stage.sources.days : undefined)} />
              </td>
              <td>
                {stage.kind === "germinate" && method.by_seed ? (
                  <>
                    the lot's germination × {method.cell_factor} ± {method.cell_factor_sd}
                    <Source text={method.sources.cell_factor} />
                  </>
                ) : stage.keeps < 1 ? (
                  <>
                    {share(stage.keeps, 1)} ± {share(stage.keeps_sd, 1)}
                    <Source text={stage.sources.keeps} />
                  </>
                ) : (
                  "all"
                )}
              </td>
              <td>{stage.place_kind || ""}</td>
              <td>
                {{
                  tray: "trays",
                  tray_m2: "the area of its trays",
                  unit_m2: method.way === "plants" ? `${stage.unit_m2 ?? ""} m² each` : "the whole field",
                }[stage.density] ?? ""}
                <Source text={stage.sources.unit_m2} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-4 grid gap-6 md:grid-cols-2">
        {crop ? (
          <section>
            <h2>{crop.name}</h2>
            <table className="tbl">
              <tbody>
                {(
                  [
                    ["g a thousand seeds", crop.tgw_g, "tgw_g"],
                    ["germination, no lot chosen", share(crop.germination), "germination"],
                    ["least allowed", share(crop.minimum_germination), "minimum_germination"],
                    ["depth, mm", crop.depth_mm, "depth_mm"],
                  ] as [string, string | number | null, string][]
                )
                  .filter(([, value]) => value !== null && value !== "")
                  .map(([label, value, key]) => (
                    <tr key={key}>
                      <td>{label}</td>
                      <td className="num font-semibold">{value}</td>
                      <td>
                        <Source text={crop.sources[key]} />
                      </td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </section>
        ) : null}
        {standard ? (
          <section>
            <h2>{standard.name}</h2>
            <table className="tbl">
              <tbody>
                {standard.limits.map((limit) => (
                  <tr key={limit.attribute}>
                    <td>{limit.words}</td>
                    <td className="num font-semibold">
                      {limit.low != null
                        ? `${limit.low}${limit.high != null ? ` to ${limit.high}` : " or more"} ${limit.unit}`
                        : "yes"}
                    </td>
                    <td>
                      <Source text={limit.source} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        ) : null}
      </div>
      {method.way !== "plants" && crop ? <SeedLibrary crop={crop} library={library} way={method.way} /> : null}
    </article>
  );
}
