import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { A_YEAR, ordersQuery, questionsQuery, waitingQuery } from "../../api/queries";
import { RowDoor } from "../../ui/Door";
import { shortDay, windowWords } from "../../ui/dates";
import { chance, count, few } from "../../ui/format";
import { useAddress, useBack, useMay, useSave } from "../../ui/hooks";
import { Against, Back, BatchCode, Empty, Faults, LotCode, Pennant, RoomHead } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";
import { Ask, Questions } from "./Ask";
import { LineSheet } from "./LineSheet";
import { NewOrder, type Typed } from "./NewOrder";
import { Risk } from "./Risk";
import { Succession } from "./Succession";

type Line = Schemas["OrderLineOut"];
const ONCE = { every_weeks: "", times: "" };

export function Orders() {
  const back = useBack();
  const address = useAddress();
  const { data: listed } = useSuspenseQuery(ordersQuery(back));
  // A line that is long closed, or a house where nothing was of late.
  const missed = !listed.length || Boolean(address.line && !listed.some((line) => String(line.id) === address.line));
  const { data: older } = useQuery({ ...ordersQuery(A_YEAR), enabled: missed });
  const lines = missed ? (older ?? listed) : listed;
  const navigate = useNavigate();
  const may = useMay();
  const { data: waiting } = useQuery({ ...waitingQuery, enabled: may("orders.edit") });
  const [ask, setAsk] = useState(false);
  const { data: questions } = useQuery(questionsQuery);
  const kept = questions?.find((one) => String(one.id) === address.question);
  const toQuestion = (id?: number) =>
    navigate({ to: "/orders", search: (old) => ({ ...old, question: id === undefined ? undefined : String(id) }) });
  const toLine = (line: number) =>
    navigate({
      to: "/orders",
      search: (old) => ({ ...old, new: undefined, question: undefined, line: String(line) }),
    });
  const [again, setAgain] = useState(false);
  const [risk, setRisk] = useState(false);
  const [asked, setAsked] = useState<Partial<Typed>>({});
  const [series, setSeries] = useState(ONCE);
  const begin = (typed: Partial<Typed>, more = ONCE) => {
    setAsked(typed);
    setSeries(more);
    navigate({ to: "/orders", search: (old) => ({ ...old, new: "1", line: undefined }) });
  };
  const planAll = useSave(() => take(api.POST("/api/batches/plan-lines", { body: {} })));
  const chosen = lines.find((line) => String(line.id) === address.line);
  const unplanned = lines.filter((line) => line.state === "open" && !line.planned).length;
  const columns = useMemo(
    () => columnsOf((id) => navigate({ to: "/orders", search: (old) => ({ ...old, line: String(id) }) })),
    [navigate],
  );
  const open = lines.filter((line) => line.state === "open");
  return (
    <div className="px-4 pb-6">
      <RoomHead title="Orders" note={`${few(open.length, "line")} open, ${lines.length - open.length} closed`}>
        <button type="button" className="btn" onClick={() => setAsk(true)}>
          Can we take it?
        </button>
        <button type="button" className="btn" onClick={() => setAgain(true)}>
          A succession
        </button>
        <button type="button" className="btn" onClick={() => setRisk(true)}>
          How sure is it?
        </button>
        {may("orders.edit") ? (
          <>
            <button type="button" className="btn" onClick={() => begin({})}>
              New order
            </button>
            <Link className="btn" to="/orders/import">
              Paste or import
            </Link>
          </>
        ) : null}
        <Link to="/orders/customers">Customers</Link>
        <a href="/api/orders/export">Export CSV</a>
      </RoomHead>
      {unplanned && may("batches.plan") ? (
        <p className="mb-2 flex items-center gap-3">
          <Pennant>{unplanned} unplanned</Pennant>{" "}
          {unplanned === 1 ? "One open line has" : `${unplanned} open lines have`} no batch yet.
          <button type="button" className="btn" disabled={planAll.isPending} onClick={() => planAll.mutate(undefined)}>
            Plan them
          </button>
          <Faults error={planAll.error} />
        </p>
      ) : null}
      {waiting?.rows.length ? (
        <p className="mb-2 flex items-center gap-3">
          <Pennant>{few(waiting.rows.length, "row")}</Pennant> {waiting.rows.length === 1 ? "waits" : "wait"} to be
          understood: {[...new Set(waiting.rows.map((row) => row.crop))].slice(0, 4).join(", ")}.
          <Link className="btn" to="/orders/import">
            Go on with {waiting.rows.length === 1 ? "it" : "them"}
          </Link>
        </p>
      ) : null}
      {questions?.length ? <Questions questions={questions} onOpen={toQuestion} /> : null}
      {lines.length || !older ? (
        <Table
          name="orders"
          label="order lines"
          columns={columns}
          rows={lines}
          rowKey={(line) => line.id}
          on={(line) => line.id === chosen?.id}
          rank={wrongFirst}
          tools={<Back>what was closed within a year</Back>}
        />
      ) : (
        <Empty title="No orders yet">
          <p>
            What must be delivered belongs here: what, in which form, how many, by when. Everything else is worked back
            from it.
          </p>
          {may("orders.edit") ? (
            <Link className="btn btn-decide" to="/orders/import">
              Paste or import orders
            </Link>
          ) : null}
        </Empty>
      )}
      <Succession
        open={again}
        onClose={() => setAgain(false)}
        onTake={may("orders.edit") ? ({ row, ...more }) => [setAgain(false), begin(row, more)] : undefined}
      />
      {risk ? <Risk onClose={() => setRisk(false)} /> : null}
      <Ask
        open={ask}
        onClose={() => setAsk(false)}
        onTake={may("orders.edit") ? (typed) => [setAsk(false), begin(typed)] : undefined}
        onTaken={toLine}
      />
      {kept ? <Ask key={kept.id} open onClose={() => toQuestion()} onTaken={toLine} question={kept} /> : null}
      {address.new && may("orders.edit") ? (
        <NewOrder
          open
          onClose={() => navigate({ to: "/orders", search: ({ new: _, ...old }) => old })}
          onTaken={toLine}
          asked={asked}
          series={series}
        />
      ) : null}
      {chosen ? (
        <LineSheet
          line={chosen}
          others={lines.filter((line) => line.order_id === chosen.order_id && line.id !== chosen.id)}
          onClose={() => navigate({ to: "/orders", search: ({ line: _, ...old }) => old })}
        />
      ) : null}
    </div>
  );
}

/** What is wrong first, then what is open by its day, then what is closed. */
function wrongFirst(line: Line): number {
  if (line.state !== "open") return 3;
  return line.problem ? 0 : line.planned ? 2 : 1;
}

export function columnsOf(choose: (id: number) => void): Column<Line>[] {
  return [
    {
      key: "order",
      head: "Order",
      value: (l) => l.order,
      cell: (l) => (
        <button type="button" className="btn-link" onClick={() => choose(l.id)}>
          {l.order}
          <span className="sr-only"> line {l.number}</span>
        </button>
      ),
    },
    {
      key: "customer",
      head: "Customer",
      value: (l) => l.customer,
      cell: (l) => (
        <RowDoor link={`/orders/customers?${new URLSearchParams({ name: l.customer })}`}>{l.customer}</RowDoor>
      ),
    },
    {
      key: "crop",
      head: "Crop",
      value: (l) => `${l.crop} ${l.cultivar}`,
      cell: (l) => (
        <>
          {l.crop} <span className="text-ink3">{l.cultivar}</span>
        </>
      ),
    },
    {
      key: "form",
      head: "Form",
      value: (l) => `${l.form} ${l.container} ${l.seed_class}`,
      cell: (l) => (
        <>
          {l.form} <span className="note">{l.container || l.seed_class.replaceAll("-", " ")}</span>
        </>
      ),
    },
    {
      key: "quantity",
      head: "Quantity",
      value: (l) => l.quantity,
      cell: (l) => (
        <>
          {count(l.quantity)} <span className="note">{l.unit}</span>
        </>
      ),
      num: true,
    },
    {
      key: "due",
      head: "Due",
      value: (l) => l.due_from,
      cell: (l) => (
        <>
          {windowWords(l.due_from, l.due_last)}{" "}
          {l.due_from === l.due_last ? null : <span className="note whitespace-nowrap">{shortDay(l.due_from)}</span>}
        </>
      ),
    },
    {
      key: "chance",
      head: "Chance",
      value: (l) => (l.state === "open" ? l.chance : null),
      cell: (l) =>
        l.state === "open" ? (
          <span className={(l.chance ?? 0) < 0.9 ? "font-bold" : ""}>{chance(l.chance) || "unplanned"}</span>
        ) : (
          ""
        ),
      num: true,
    },
    {
      key: "forecast",
      head: "Forecast",
      value: (l) => (l.state === "open" ? l.forecast : null),
      cell: (l) =>
        l.state === "open" && l.planned ? (
          <Against wanted={l.quantity - l.delivered} there={l.forecast ?? 0}>
            {count(l.forecast)}
            <span className="sr-only"> {l.unit} forecast</span>
          </Against>
        ) : (
          ""
        ),
      num: true,
    },
    {
      key: "batches",
      head: "Served by",
      value: (l) => [...l.batches, ...l.aside].join(" "),
      cell: (l) => (
        <span className="flex flex-wrap gap-1">
          {l.batches.map((code, index) => (
            <RowDoor key={code} link={`/batches/${l.batch_ids[index]}`}>
              <BatchCode code={code} />
            </RowDoor>
          ))}
          {l.aside.map((code, index) => (
            <RowDoor key={code} link={`/lots?lot=${l.aside_ids[index]}`}>
              <LotCode code={code} />
            </RowDoor>
          ))}
        </span>
      ),
    },
    {
      key: "state",
      head: "Where it stands",
      value: (l) => (l.problem ? `0 ${l.problem}` : l.state_words),
      cell: (l) =>
        l.state === "open" && l.problem ? (
          <b>{l.problem}</b>
        ) : (
          <>
            {l.state_words}
            {l.delivered ? `, ${count(l.delivered)}` : ""}
            {l.short_cause ? `: ${l.short_cause}` : ""}
          </>
        ),
    },
    { key: "note", head: "Note", value: (l) => l.note, spare: true },
  ];
}
