import { api, type Schemas, take } from "../../api/client";
import { libraryChanged } from "../../api/queries";
import { count } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { QuickForm, type Values } from "../../ui/QuickForm";

type Library = Schemas["LibraryOut"];
type Crop = Schemas["CropOut"];
const number = (text: string | undefined) => (text?.trim() ? Number(text) : null);

/** What a seed crop goes by: lines and parents, classes, standards of field and lot, distances. */
export function SeedLibrary({ crop, library, way }: { crop: Crop; library: Library; way: string }) {
  const may = useMay();
  const scheme = library.schemes.find((one) => one.chosen);
  const names = new Map(scheme?.classes.map((one) => [String(one.slug), String(one.name)]));
  const lines = library.lines.filter((line) => line.crop_id === crop.id);
  const line = (id: number | null) => lines.find((one) => one.id === id)?.name ?? "";
  const classes = [...names.entries()];
  return (
    <div className="mt-6 grid gap-6 md:grid-cols-2">
      <section>
        <h2>Lines and cultivars</h2>
        <table className="tbl">
          <tbody>
            {lines.map((one) => (
              <tr key={one.id}>
                <td className="font-semibold">
                  {one.name} {one.role ? <span className="note">{one.role} line</span> : null}
                  {one.earliness ? <span className="note"> {one.earliness}</span> : null}
                </td>
                <td>
                  {one.female_id ? `${line(one.female_id)} × ${line(one.male_id)}` : ""}
                  {one.maintainer_id ? `kept going with ${line(one.maintainer_id)}; ` : ""}
                  {one.to_flower_c_d
                    ? `flowers at ${count(one.to_flower_c_d)} °C·d, lasts ${one.flower_lasts_days ?? 8} days`
                    : ""}
                </td>
                <td className="num">{one.tgw_g ? `${one.tgw_g} g` : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {may("methods.edit") ? (
          <Fold words={way === "hybrid" ? "Add a parent line or a hybrid" : "Add a cultivar"}>
            <QuickForm
              button="Add the line"
              fields={[
                { name: "name", label: "Name", needed: true },
                {
                  name: "role",
                  label: "Role",
                  type: "select",
                  start: "",
                  options: [
                    ["", "none, or a hybrid"],
                    ["A", "A, male-sterile"],
                    ["B", "B, maintainer"],
                    ["R", "R, restorer"],
                  ],
                },
                {
                  name: "earliness",
                  label: "Earliness",
                  type: "select",
                  start: "",
                  options: [
                    ["", "not said"],
                    ["early", "early"],
                    ["mid", "mid"],
                    ["late", "late"],
                  ],
                },
                {
                  name: "female_id",
                  label: "Female of the hybrid",
                  type: "select",
                  options: lines.map((one) => [String(one.id), one.name]),
                },
                {
                  name: "male_id",
                  label: "Male of the hybrid",
                  type: "select",
                  options: lines.map((one) => [String(one.id), one.name]),
                },
                {
                  name: "maintainer_id",
                  label: "An A line is kept going with",
                  type: "select",
                  options: lines.filter((one) => one.role === "B").map((one) => [String(one.id), one.name]),
                },
                { name: "to_flower_c_d", label: "Heat to first flowers, °C·d" },
                { name: "flower_spread_days", label: "Plants differ by, days" },
                { name: "flower_lasts_days", label: "A plant flowers for, days" },
                { name: "tgw_g", label: "g a thousand" },
              ]}
              save={(values) =>
                take(
                  api.POST("/api/lines", {
                    body: {
                      crop_id: crop.id,
                      name: values.name ?? "",
                      role: values.role ?? "",
                      earliness: values.earliness ?? "",
                      female_id: number(values.female_id),
                      male_id: number(values.male_id),
                      maintainer_id: number(values.maintainer_id),
                      to_flower_c_d: number(values.to_flower_c_d),
                      flower_spread_days: number(values.flower_spread_days),
                      flower_lasts_days: number(values.flower_lasts_days),
                      tgw_g: number(values.tgw_g),
                    },
                  }),
                ).then(libraryChanged)
              }
            />
          </Fold>
        ) : null}
      </section>
      <section>
        <h2>Classes: {scheme?.name}</h2>
        <p className="note">{scheme?.note}</p>
        {may("methods.edit") && library.schemes.length > 1 ? (
          <Fold words="Go by other classes">
            <QuickForm
              button="Go by these"
              columns={1}
              fields={[
                {
                  name: "slug",
                  label: "Classes of the house",
                  type: "select",
                  start: scheme?.slug ?? "",
                  options: library.schemes.map((one) => [one.slug, one.name]),
                },
              ]}
              save={(values) =>
                take(api.POST("/api/class-scheme", { body: { slug: values.slug ?? "" } })).then(libraryChanged)
              }
            />
          </Fold>
        ) : null}
        <ol>
          {scheme?.classes.map((one) => (
            <li key={String(one.slug)} className="border-hair border-b py-1">
              <b>{String(one.name)}</b>{" "}
              <span className="note">
                {(one.from as string[]).length
                  ? `grown from ${(one.from as string[]).map((slug) => names.get(slug) ?? slug).join(" or ")}`
                  : "from the breeder"}
              </span>
            </li>
          ))}
        </ol>
      </section>
      <Standards crop={crop} library={library} names={names} kind="seed" classes={classes} />
      <Standards crop={crop} library={library} names={names} kind="field" classes={classes} />
      <section>
        <h2>Isolation</h2>
        <table className="tbl">
          <tbody>
            {library.rules
              .filter((rule) => rule.crop_id === crop.id && (rule.scheme === scheme?.slug || rule.own))
              .map((rule) => (
                <tr key={rule.id}>
                  <td>
                    {names.get(rule.seed_class) ?? rule.seed_class}, {rule.step}
                    <div className="note">{rule.kind}</div>
                  </td>
                  <td className="num font-semibold">{count(rule.metres)} m</td>
                  <td>
                    {rule.time_allowed ? `or ${rule.time_margin_days} days apart` : ""}
                    <div className="note">
                      {rule.own ? "own rule; " : ""}
                      {rule.sources.metres}
                    </div>
                  </td>
                </tr>
              ))}
          </tbody>
        </table>
        {may("methods.edit") ? (
          <Fold words="Add a distance">
            <QuickForm
              button="Save the distance"
              fields={[
                { name: "seed_class", label: "Class", type: "select", needed: true, options: classes },
                {
                  name: "step",
                  label: "Step",
                  type: "select",
                  start: way === "hybrid" ? "hybrid" : "open",
                  options: [
                    ["hybrid", "hybrid"],
                    ["increase", "parent increase"],
                    ["open", "open-pollinated"],
                  ],
                },
                { name: "kind", label: "From which kind of neighbour", start: "other cultivar", needed: true },
                { name: "metres", label: "Metres", needed: true },
                { name: "source", label: "Where it comes from", needed: true, wide: true },
                { name: "time_allowed", label: "Another flowering time is taken instead", type: "check", wide: true },
              ]}
              save={(values) =>
                take(
                  api.POST("/api/isolation-rules", {
                    body: {
                      crop_id: crop.id,
                      seed_class: values.seed_class ?? "",
                      step: (values.step || "open") as "open",
                      kind: values.kind ?? "",
                      metres: Number(values.metres),
                      time_allowed: values.time_allowed === "yes",
                      time_margin_days: 14,
                      source: values.source ?? "",
                    },
                  }),
                ).then(libraryChanged)
              }
            />
          </Fold>
        ) : null}
      </section>
    </div>
  );
}

function Fold({ words, children }: { words: string; children: React.ReactNode }) {
  return (
    <details className="mt-2">
      <summary className="btn-link cursor-pointer">{words}</summary>
      <div className="mt-2">{children}</div>
    </details>
  );
}

function Standards({
  crop,
  library,
  names,
  kind,
  classes,
}: {
  crop: Crop;
  library: Library;
  names: Map<string, string>;
  kind: "seed" | "field";
  classes: [string, string][];
}) {
  const may = useMay();
  const found = library.standards.filter((one) => one.kind === kind && one.crop_id === crop.id);
  return (
    <section>
      <h2>{kind === "seed" ? "Standards of seed" : "Standards of the field"}</h2>
      {found.map((one) => (
        <div key={one.id} className="mb-2">
          <p className="font-semibold">
            {one.name}{" "}
            <span className="note">
              {names.get(one.seed_class)}
              {one.own ? ", own" : ""}
            </span>
          </p>
          <ul>
            {one.limits.map((limit) => (
              <li key={limit.attribute} className="border-hair border-b py-0.5">
                {limit.words}:{" "}
                <b>
                  {limit.limit != null
                    ? `at most ${(limit.limit * 100).toFixed(2)} %, ${limit.decision === "plain_max" ? "by share" : "by reject number"}`
                    : `${limit.low != null ? `at least ${limit.low}` : `at most ${limit.high}`} ${limit.unit}`}
                </b>
                {limit.statutory ? " by law" : ""} <span className="note">{limit.source}</span>
              </li>
            ))}
          </ul>
          {kind === "field" ? (
            <p className="note">
              {one.sampling.first_areas} areas for the first {one.sampling.first_ha} ha, one more for each{" "}
              {one.sampling.per_ha} ha, {one.sampling.plants_per_area} plants each
            </p>
          ) : null}
        </div>
      ))}
      {found.length ? null : (
        <p className="note">None yet. Without one {kind === "seed" ? "no lot is judged" : "no field is inspected"}.</p>
      )}
      {may("methods.edit") ? (
        <Fold words={kind === "seed" ? "Write a seed standard" : "Write a field standard"}>
          {kind === "seed" ? <SeedForm crop={crop} classes={classes} /> : <FieldForm crop={crop} classes={classes} />}
        </Fold>
      ) : null}
    </section>
  );
}

function SeedForm({ crop, classes }: { crop: Crop; classes: [string, string][] }) {
  const body = (values: Values): Schemas["SeedStandardIn"] => {
    const limits: Schemas["SeedLimitIn"][] = [];
    const put = (attribute: Schemas["SeedLimitIn"]["attribute"], low: number | null, high: number | null) => {
      if (low !== null || high !== null) limits.push({ attribute, low, high, required: true });
    };
    put("germination", number(values.germination), null);
    put("purity", number(values.purity), null);
    put("moisture", null, number(values.moisture));
    put("other_seeds", null, number(values.other_seeds));
    return {
      crop_id: crop.id,
      seed_class: values.seed_class ?? "",
      name: values.name ?? "",
      source: values.source ?? "",
      limits,
    };
  };
  return (
    <QuickForm
      button="Save the standard"
      fields={[
        { name: "seed_class", label: "Class", type: "select", needed: true, options: classes },
        { name: "name", label: "Name", start: `${crop.name} seed`, needed: true },
        { name: "germination", label: "Germination at least, %" },
        { name: "purity", label: "Pure seed at least, %" },
        { name: "moisture", label: "Moisture at most, %" },
        { name: "other_seeds", label: "Other seeds at most, per kg" },
        { name: "source", label: "Where it comes from", needed: true, wide: true },
      ]}
      save={(values) => take(api.POST("/api/seed-standards", { body: body(values) })).then(libraryChanged)}
    />
  );
}

function FieldForm({ crop, classes }: { crop: Crop; classes: [string, string][] }) {
  const faults = [
    ["off_types", "off-types"],
    ["shedders", "shedders"],
    ["diseased", "diseased"],
    ["weeds", "weeds"],
  ] as const;
  return (
    <QuickForm
      button="Save the standard"
      fields={[
        { name: "seed_class", label: "Class", type: "select", needed: true, options: classes },
        { name: "name", label: "Name", start: `${crop.name} field`, needed: true },
        ...faults.map(([key, words]) => ({ name: key, label: `${words} at most, %`, hint: "empty: not counted" })),
        { name: "plants_per_area", label: "Plants an area", start: "400", needed: true },
        {
          name: "decision",
          label: "Judged",
          type: "select",
          start: "reject_number",
          options: [
            ["reject_number", "by reject number"],
            ["plain_max", "by the share found"],
          ],
        },
        { name: "source", label: "Where it comes from", needed: true, wide: true },
      ]}
      save={(values) =>
        take(
          api.POST("/api/field-standards", {
            body: {
              crop_id: crop.id,
              seed_class: values.seed_class ?? "",
              name: values.name ?? "",
              source: values.source ?? "",
              first_areas: 5,
              first_ha: 2,
              per_ha: 2,
              plants_per_area: Number(values.plants_per_area),
              limits: faults
                .filter(([key]) => values[key]?.trim())
                .map(([key, words]) => ({
                  attribute: key,
                  words,
                  limit: Number(values[key]) / 100,
                  decision: (values.decision || "reject_number") as "reject_number",
                  is_plant: key !== "weeds",
                  cures: key === "off_types" || key === "shedders",
                })),
            },
          }),
        ).then(libraryChanged)
      }
    />
  );
}
