import type { Schemas } from "../../api/client";
import { few, share } from "../../ui/format";
import { SeedLibrary } from "./SeedLibrary";

type Library = Schemas["LibraryOut"];

export function Source({ text }: { text: string | undefined }) {
  return text ? (
    <span className="note block">
      <span aria-hidden="true">□</span> {text}
    </span>
  ) : null;
}

/** How something is raised, stage by stage, every value with its source. */
export function MethodView({ method, library }: { method: Schemas["MethodOut"]; library: Library }) {
  const crop = library.crops.find((one) => one.id === method.crop_id);
  const container = library.containers.find((one) => one.id === method.container_id);
  const mix = library.mixes.find((one) => one.id === method.mix_id);
  const standard = library.standards.find((one) => one.id === method.standard_id);
  return (
    <article>
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
                {stage.by_month.length ? (
                  <span title={`Days by month, January first: ${stage.by_month.join(" ")}`}>
                    {Math.min(...stage.by_month)} to {Math.max(...stage.by_month)} days by the season
                  </span>
                ) : stage.heat_sum_c_d !== null ? (
                  <>
                    {stage.heat_sum_c_d} °C·d over {stage.base_c} °C
                  </>
                ) : stage.days ? (
                  few(stage.days, "day")
                ) : (
                  "the same day"
                )}
                {stage.full_c !== null ? ` at ${stage.full_c} °C, longer in the cold` : ""}
                {stage.half_light_mol !== null ? `${stage.full_c !== null ? " and" : ", longer"} in little light` : ""}
                {stage.give_days ? `, give or take ${stage.give_days}` : ""}
                {stage.until ? `; over when ${stage.until}` : ""}
                {stage.begins.length ? `; begins ${stage.begins.join(" or ")}` : ""}
                {stage.after_frost_days !== null ? `; ${afterFrost(stage.after_frost_days)}` : ""}
                {stage.floor_c !== null ? `; not below ${stage.floor_c} °C` : ""}
                {stage.ceiling_c !== null ? `; rests above ${stage.ceiling_c} °C` : ""}
                {stage.cool_days !== null ? `, comes up after ${few(stage.cool_days, "day")} in the cool` : ""}
                <Source
                  text={
                    stage.sources.by_month ??
                    stage.sources.heat_sum_c_d ??
                    (stage.days ? stage.sources.days : undefined)
                  }
                />
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

function afterFrost(days: number): string {
  const side = days < 0 ? "before" : "after";
  return days ? `from ${few(Math.abs(days), "day")} ${side} the last frost on` : "after the last frost";
}
