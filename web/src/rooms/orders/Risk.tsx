import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../../api/client";
import { riskQuery } from "../../api/queries";
import { chance, few } from "../../ui/format";
import { Faults, Sheet } from "../../ui/parts";

type Told = Schemas["RiskOut"];

/** All promises drawn together, since batches of one lot, one house and one season fail together. */
export function Risk({ onClose }: { onClose: () => void }) {
  const { data, error } = useQuery({ ...riskQuery, staleTime: 0 });
  return (
    <Sheet open onClose={onClose} title="How sure is it, all together?" wide>
      <Faults error={error} />
      {data ? <Drawn told={data} onClose={onClose} /> : error ? null : <p className="text-ink3">Drawing futures …</p>}
    </Sheet>
  );
}

function Drawn({ told, onClose }: { told: Told; onClose: () => void }) {
  return (
    <>
      <p className="text-h2">{told.sentence}</p>
      {told.lost.length ? (
        <p className="fault mt-1">
          Beside them, {few(told.lost.length, "line")} cannot be kept as{" "}
          {told.lost.length === 1 ? "it stands" : "they stand"}:{" "}
          {told.lost.map((one, n) => (
            <span key={one.line_id}>
              {n ? ", " : ""}
              <Link to="/orders" search={{ line: String(one.line_id) }} onClick={onClose}>
                {one.number}
              </Link>{" "}
              {one.customer}
            </span>
          ))}
          .
        </p>
      ) : null}
      {told.unserved ? (
        <p className="fault mt-1">
          {few(told.unserved, "open line")} {told.unserved === 1 ? "has" : "have"} no batch or stock yet and{" "}
          {told.unserved === 1 ? "is" : "are"} not counted.
        </p>
      ) : null}
      {told.lines ? (
        <>
          <Missed missed={told.missed} />
          <p className="note">
            {told.futures.toLocaleString("en")} futures, drawn together: batches of one seed lot, of one house and week,
            and of one season have a part of their luck in common (30, 25 and 10 % of their spread, an assumption). If
            each failed by itself, all would be kept with {chance(told.apart)}.
          </p>
          <h2 className="mt-4">What would cost most</h2>
          {told.causes.length ? (
            <ul>
              {told.causes.map((cause) => (
                <li key={cause.words} className="border-hair border-b py-1">
                  If {cause.words}, {lines(cause.missed)} missed instead of {lines(cause.usual, false)}
                  {cause.worse.length ? ": " : "."}
                  {cause.worse.map((one, n) => (
                    <span key={one.line_id}>
                      {n ? ", " : ""}
                      <Link to="/orders" search={{ line: String(one.line_id) }} onClick={onClose}>
                        {one.number}
                      </Link>{" "}
                      <span className="note">
                        {chance(one.usual)} to {chance(one.then)}
                      </span>
                    </span>
                  ))}
                </li>
              ))}
            </ul>
          ) : (
            <p>No single lot, house or season would cost more than the rest.</p>
          )}
          <p className="note mt-1">“If” means the worst one in twenty of that lot, house and week, or season.</p>
          <h2 className="mt-4">Everything for one customer</h2>
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">Customer</th>
                <th scope="col" className="num">
                  Lines
                </th>
                <th scope="col" className="num">
                  All of it
                </th>
                <th scope="col">Least sure</th>
              </tr>
            </thead>
            <tbody>
              {told.customers.map((one) => (
                <tr key={one.name}>
                  <td>
                    <Link to="/orders/customers" search={{ name: one.name }}>
                      {one.name}
                    </Link>
                  </td>
                  <td className="num">{one.lines}</td>
                  <td className="num">
                    <b>{chance(one.all)}</b>
                  </td>
                  <td>
                    <Link to="/orders" search={{ line: String(one.least_line_id) }} onClick={onClose}>
                      order {one.least_number}
                    </Link>
                    , {chance(one.least)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      ) : null}
    </>
  );
}

/** Lines missed on average, in words. */
function lines(many: number, verb = true): string {
  const said = many < 0.05 ? "none" : many.toFixed(1);
  return verb ? `${said} ${said === "none" ? "is" : "lines are"}` : said;
}

const [HIGH, BAR, GAP] = [96, 34, 4];

/** Of a hundred futures, in how many none, one, two … lines are missed. */
function Missed({ missed }: { missed: number[] }) {
  const bars = missed.map((share, many) => ({ share, many }));
  const last = Math.max(1, ...bars.filter((bar) => bar.share >= 0.005).map((bar) => bar.many));
  const shown = bars.slice(0, last + 1);
  const most = Math.max(...shown.map((bar) => bar.share), 0.01);
  const words = shown.map((bar) => `${bar.many} missed in ${Math.round(bar.share * 100)} of 100`).join(", ");
  return (
    <figure className="mt-3 flex-none overflow-x-auto">
      <svg width={shown.length * BAR + 8} height={HIGH + 40} role="img" aria-label={words}>
        <defs>
          <pattern id="missed" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="2.4" height="6" className="fill-ink" />
          </pattern>
        </defs>
        {shown.map(({ share, many: n }) => {
          const high = (share / most) * HIGH;
          return (
            <g key={n} transform={`translate(${n * BAR} 0)`}>
              <rect
                x={GAP / 2}
                y={HIGH + 12 - high}
                width={BAR - GAP}
                height={high}
                className="stroke-line"
                fill={n ? "url(#missed)" : "var(--color-stand)"}
              />
              <text x={BAR / 2} y={HIGH + 8 - high} textAnchor="middle" className="cond fill-ink text-note">
                {share >= 0.005 ? Math.round(share * 100) : ""}
              </text>
              <text x={BAR / 2} y={HIGH + 26} textAnchor="middle" className="cond fill-ink text-note">
                {n === missed.length - 1 && n > 3 ? `${n}+` : n}
              </text>
            </g>
          );
        })}
        <line x1={0} x2={shown.length * BAR} y1={HIGH + 12} y2={HIGH + 12} className="stroke-ink" />
      </svg>
      <figcaption className="note">lines missed, in so many of 100 futures</figcaption>
    </figure>
  );
}
