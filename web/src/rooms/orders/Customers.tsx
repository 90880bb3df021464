import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useCallback, useMemo } from "react";
import type { Schemas } from "../../api/client";
import { A_YEAR, customerQuery, customersQuery, ordersQuery } from "../../api/queries";
import { shortDay } from "../../ui/dates";
import { few } from "../../ui/format";
import { useAddress } from "../../ui/hooks";
import { Empty, Pennant, RoomHead } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";
import { LineSheet } from "./LineSheet";
import { columnsOf } from "./Orders";

type Customer = Schemas["CustomerOut"];

/** Customers: all of them, or one with its lines and what was handed over. */
export function Customers() {
  const { name } = useAddress();
  return name ? <One key={name} name={name} /> : <All />;
}

function All() {
  const { data } = useSuspenseQuery(customersQuery);
  return (
    <div className="px-4 pb-6">
      <RoomHead title="Customers" note={few(data.length, "customer")}>
        <Link to="/orders">All orders</Link>
      </RoomHead>
      {data.length ? (
        <div className="max-w-4xl">
          <Table name="customers" label="customers" columns={COLUMNS} rows={data} rowKey={(one) => one.name} />
        </div>
      ) : (
        <Empty title="No customers yet">
          <p>Whoever an order is for stands here, with what waits for them and how it was kept until now.</p>
          <Link className="btn" to="/orders">
            To the orders
          </Link>
        </Empty>
      )}
    </div>
  );
}

const COLUMNS: Column<Customer>[] = [
  {
    key: "name",
    head: "Customer",
    value: (one) => one.name,
    cell: (one) => (
      <Link to="/orders/customers" search={{ name: one.name }}>
        {one.name}
      </Link>
    ),
  },
  {
    key: "next",
    head: "Waits from",
    value: (one) => one.next_due,
    cell: (one) => (
      <>
        {one.next_due ? shortDay(one.next_due) : ""} {one.overdue ? <Pennant>overdue</Pennant> : null}
      </>
    ),
  },
  { key: "open", head: "Open lines", value: (one) => one.open, num: true },
  {
    key: "risk",
    head: "At risk",
    value: (one) => one.at_risk,
    cell: (one) => (one.at_risk ? <b>{one.at_risk}</b> : ""),
    num: true,
  },
  { key: "kept", head: "Whole, in time", value: (one) => one.kept, num: true },
  { key: "late", head: "Late", value: (one) => one.late, cell: (one) => one.late || "", num: true },
  { key: "short", head: "Short", value: (one) => one.short, cell: (one) => one.short || "", num: true },
  {
    key: "last",
    head: "Last delivery",
    value: (one) => one.last_delivery,
    cell: (one) => (one.last_delivery ? shortDay(one.last_delivery) : ""),
  },
];

function One({ name }: { name: string }) {
  const navigate = useNavigate();
  const address = useAddress();
  const { data: one, error } = useQuery(customerQuery(name));
  const { data: orders } = useSuspenseQuery(ordersQuery(A_YEAR));
  const go = useCallback(
    (line?: number) =>
      void navigate({
        to: "/orders/customers",
        search: (old) => ({ ...old, name, line: line ? String(line) : undefined }),
      }),
    [navigate, name],
  );
  const columns = useMemo(() => columnsOf(go).filter((column) => column.key !== "customer"), [go]);
  if (error)
    return (
      <Empty title="Nobody of that name">
        <p>{error.message}</p>
        <Link className="btn" to="/orders/customers">
          All customers
        </Link>
      </Empty>
    );
  if (!one) return <p className="p-4 text-ink3">Fetching …</p>;
  const own = new Set(one.line_ids);
  const lines = orders.filter((line) => own.has(line.id));
  const chosen = lines.find((line) => String(line.id) === address.line);
  const older = one.line_ids.length - lines.length;
  return (
    <div className="px-4 pb-6">
      <RoomHead title={one.name} note={`${few(one.orders, "order")}. ${one.sentence}`}>
        <Link to="/orders/customers">All customers</Link>
      </RoomHead>
      <Table
        name="customer-lines"
        label="order lines"
        columns={columns}
        rows={lines}
        rowKey={(line) => line.id}
        on={(line) => line.id === chosen?.id}
      />
      {older ? <p className="note mt-1">{few(older, "line")} closed more than a year ago are not listed.</p> : null}
      <section className="mt-6" aria-labelledby="handed-over">
        <h2 id="handed-over" className="border-rule border-b pb-1">
          Handed over
        </h2>
        {one.handed_over.length ? (
          <table className="tbl">
            <tbody>
              {one.handed_over.map((note) => (
                <tr key={note.id}>
                  <td className="w-36">{shortDay(note.delivered_on)}</td>
                  <td className="w-28">
                    <Link to="/deliveries" search={{ note: String(note.id) }}>
                      {note.code}
                    </Link>
                  </td>
                  <td className="w-24">order {note.order}</td>
                  <td>{note.words}</td>
                  <td className="text-ink2">
                    {note.papers.map((paper) => `${paper.kind}${paper.withdrawn ? ", withdrawn" : ""}`).join("; ")}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        ) : (
          <p className="py-2 text-ink2">Nothing yet.</p>
        )}
      </section>
      {chosen ? (
        <LineSheet
          line={chosen}
          others={lines.filter((line) => line.order_id === chosen.order_id && line.id !== chosen.id)}
          onClose={() => void go()}
        />
      ) : null}
    </div>
  );
}
