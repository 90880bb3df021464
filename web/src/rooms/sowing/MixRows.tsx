import type { Schemas } from "../../api/client";

/** Litres of each part of a mix, as rows of a table. */
export function PartRows({ parts }: { parts: Schemas["PartOut"][] }) {
  return parts.map((part) => (
    <tr key={part.name}>
      <td>{part.name}</td>
      <td className="num">{part.litres.toFixed(1)} L</td>
    </tr>
  ));
}

/** What is mixed into it, with what a litre holds then. */
export function MixedInRows({ rows }: { rows: Schemas["MixedInOut"][] }) {
  return rows.map((one) => (
    <tr key={one.name}>
      <td>
        {one.name} <span className="note">{one.note}</span>
      </td>
      <td className="num">
        <b>{one.words}</b>
      </td>
    </tr>
  ));
}
