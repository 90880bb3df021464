import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { buyingQuery, waitingForQuery } from "../../api/queries";
import { shortDay } from "../../ui/dates";
import { few, quantity } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { BatchCode, Empty, Faults, LotCode, Pennant } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";

type Wanted = Schemas["WantedOut"];

/** Seed and stock that planned batches want and stock does not hold, the first to be ordered on top. */
export function ToBuy() {
  const [lead, setLead] = useState(21);
  const { data: rows, error } = useQuery(buyingQuery(lead));
  return (
    <>
      <p className="mb-2 flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          Ordered how many days ahead
          <input
            className="input !w-16"
            inputMode="numeric"
            value={lead}
            onChange={(event) => setLead(Math.min(365, Number(event.target.value.replace(/\D/g, "")) || 0))}
          />
        </label>
        <a href={`/api/buying/export?lead_days=${lead}`}>Export CSV</a>
        <a href={`/api/buying/export?lead_days=${lead}&kind=xlsx`}>Workbook</a>
        <a href={`/api/buying.pdf?lead_days=${lead}`} target="_blank" rel="noreferrer">
          Print the list
        </a>
        {rows ? (
          <span className="note">{few(rows.filter((row) => row.late).length, "row")} late to be ordered</span>
        ) : null}
      </p>
      <Faults error={error} />
      {rows?.length === 0 ? (
        <Empty title="Nothing to buy">
          <p>Every planned batch has what it begins with, as far as it begins with seed or plants.</p>
        </Empty>
      ) : null}
      {rows?.length ? (
        <Table
          name="buying"
          label="things to buy"
          columns={COLUMNS}
          rows={rows}
          rowKey={(row) =>
            `${row.crop} ${row.cultivar} ${row.what} ${row.unit} ${row.lot} ${row.uses[0]?.batch_id ? "" : row.order_by}`
          }
        />
      ) : null}
    </>
  );
}

const COLUMNS: Column<Wanted>[] = [
  {
    key: "order_by",
    head: "Order by",
    value: (row) => row.order_by,
    cell: (row) => (row.late ? <Pennant>{shortDay(row.order_by)}</Pennant> : shortDay(row.order_by)),
  },
  {
    key: "crop",
    head: "Crop",
    value: (row) => `${row.crop} ${row.cultivar}`,
    cell: (row) => (
      <>
        {row.crop} <span className="text-ink3">{row.cultivar || "any cultivar"}</span>
      </>
    ),
  },
  {
    key: "what",
    head: "What",
    value: (row) => row.what,
    cell: (row) => (
      <>
        {row.what}
        {row.lot ? (
          <>
            {" "}
            beside <LotCode code={row.lot} />
          </>
        ) : null}
      </>
    ),
  },
  {
    key: "quantity",
    head: "How much",
    value: (row) => row.quantity,
    cell: (row) => quantity(row.quantity, row.unit),
    num: true,
  },
  {
    key: "uses",
    head: "For",
    value: (row) => row.uses.map((use) => use.batch).join(" "),
    cell: (row) => (
      <span className="flex flex-wrap gap-x-3">
        {row.uses.slice(0, 6).map((use) =>
          use.batch_id === null ? (
            <Link key={`${use.batch} ${use.on}`} to="/stockplants" className="whitespace-nowrap">
              {use.batch} <span className="note">{shortDay(use.on)}</span>
            </Link>
          ) : (
            <Link
              key={use.batch_id}
              to="/batches/$id"
              params={{ id: String(use.batch_id) }}
              className="whitespace-nowrap"
            >
              <BatchCode code={use.batch} /> <span className="note">{shortDay(use.on)}</span>
            </Link>
          ),
        )}
        {row.uses.length > 6 ? <span className="note">and {row.uses.length - 6} more</span> : null}
      </span>
    ),
  },
];

/** Planned batches that wait for seed such as this lot is; what it holds is offered, the first to be sown first. */
export function WaitingFor({ lot }: { lot: Schemas["LotDetail"] }) {
  const { data: waiting } = useQuery(waitingForQuery(lot.id));
  const may = useMay();
  const [chosen, setChosen] = useState<Record<number, boolean>>({});
  const give = useSave((batches: Record<string, number>) =>
    take(api.POST("/api/lots/{lot_id}/give", { params: { path: { lot_id: lot.id } }, body: { batches } })),
  );
  if (!waiting?.length) return null;
  const on = (row: (typeof waiting)[number]) => chosen[row.batch_id] ?? row.holds;
  const wanted = waiting.filter(on);
  const sum = wanted.reduce((all, row) => all + row.quantity, 0);
  return (
    <section className="mt-3 border-ink border-l-4 bg-panel p-3" aria-label="Batches that wait for it">
      <h2>{few(waiting.length, "batch", "batches")} wait for such seed</h2>
      <ul>
        {waiting.map((row) => (
          <li key={row.batch_id}>
            <label className="flex items-baseline gap-2">
              <input
                type="checkbox"
                checked={on(row)}
                disabled={!may("batches.plan")}
                onChange={(event) => setChosen({ ...chosen, [row.batch_id]: event.target.checked })}
              />
              <BatchCode code={row.batch} />
              <span>sown {shortDay(row.on)}</span>
              <span className="num ml-auto">{quantity(row.quantity, row.unit)}</span>
            </label>
          </li>
        ))}
      </ul>
      <p className="note">
        {wanted.length ? `${quantity(sum, waiting[0]?.unit ?? "g")} chosen` : "None chosen"};{" "}
        {quantity(lot.balance, lot.unit)} in stock. Each is planned anew with what this lot germinates.
      </p>
      {may("batches.plan") ? (
        <button
          type="button"
          className="btn btn-decide mt-2"
          disabled={!wanted.length || give.isPending}
          onClick={() => give.mutate(Object.fromEntries(wanted.map((row) => [String(row.batch_id), row.version])))}
        >
          Give it to {few(wanted.length, "batch", "batches")}
        </button>
      ) : null}
      <Faults error={give.error} />
    </section>
  );
}
