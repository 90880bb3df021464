import { useSuspenseQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { rowsQuery } from "../../api/queries";
import type { Asked } from "./AskedFields";
import { Source } from "./MethodView";

type Form = Schemas["FormOut"];

/** What a library row says, with the source of each value, and what ships where the house's own differs. */
export function RowView({ asked, form }: { asked: Asked[]; form: Form }) {
  const { data: rows } = useSuspenseQuery(rowsQuery);
  const shown = (one: Asked, value: unknown): string => {
    if (one.sort === "check") return value ? "yes" : "no";
    const text = String(value ?? "");
    if (one.sort === "row") return rows.find((row) => row.kind === one.of && row.slug === text)?.name ?? text;
    const said = one.choices.find((choice) => choice.value === text)?.words ?? text;
    return said && one.unit && !said.includes("%") ? `${said} ${one.unit}` : said;
  };
  const plain = asked.filter((one) => one.sort !== "table" && one.name !== "name");
  return (
    <>
      <table className="tbl max-w-3xl">
        <tbody>
          {plain
            .filter((one) => form.typed[one.name] !== "" || form.shipped[one.name] !== undefined)
            .map((one) => (
              <tr key={one.name}>
                <td className="w-56">{one.words}</td>
                <td className="whitespace-pre-line font-semibold">{shown(one, form.typed[one.name])}</td>
                <td>
                  {one.name in form.shipped ? (
                    <span className="note block">ships as {shown(one, form.shipped[one.name]) || "empty"}</span>
                  ) : null}
                  <Source text={form.sources[one.name]} />
                </td>
              </tr>
            ))}
        </tbody>
      </table>
      {asked
        .filter((one) => one.sort === "table")
        .map((one) => (
          <section key={one.name} className="mt-4 max-w-3xl overflow-x-auto">
            <h2>{one.words}</h2>
            <table className="tbl">
              <thead>
                <tr>
                  {one.fields.map((field) => (
                    <th key={field.name} scope="col">
                      {field.words}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {(form.typed[one.name] as Record<string, unknown>[]).map((line) => (
                  <tr key={JSON.stringify(line)}>
                    {one.fields.map((field) => (
                      <td key={field.name}>{shown(field, line[field.name])}</td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        ))}
    </>
  );
}
