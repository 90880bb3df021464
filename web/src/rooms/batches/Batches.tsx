import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { A_YEAR, batchesQuery } from "../../api/queries";
import { RowDoor } from "../../ui/Door";
import { shortDay } from "../../ui/dates";
import { count, share } from "../../ui/format";
import { useAddress, useBack, useMay } from "../../ui/hooks";
import { Back, BatchCode, Empty, LotCode, Pennant, RoomHead } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";
import { Board } from "./Board";
import { Level } from "./Level";
import { NewBatch } from "./NewBatch";

type Row = Schemas["BatchRow"];

export function Batches() {
  const address = useAddress();
  const view = address.view === "list" ? "list" : "board";
  const navigate = useNavigate();
  const may = useMay();
  const [fresh, setFresh] = useState(false);
  const go = (next: string) => navigate({ to: "/batches", search: { view: next } });
  const setLevel = (level: string | undefined) => navigate({ to: "/batches", search: (old) => ({ ...old, level }) });
  return (
    <div>
      <div className="px-4">
        <RoomHead title={view === "board" ? "Season board" : "Batches"} note={view === "board" ? <Legend /> : null}>
          {(["list", "board"] as const).map((name) => (
            <button
              key={name}
              type="button"
              className={view === name ? "border-ink border-b-2 font-bold" : "underline"}
              aria-pressed={view === name}
              onClick={() => go(name)}
            >
              {name === "list" ? "List" : "Board"}
            </button>
          ))}
          {view === "board" ? (
            <button type="button" className="btn" onClick={() => setLevel("0")}>
              Level
            </button>
          ) : null}
          {may("batches.plan") ? (
            <button type="button" className="btn" onClick={() => setFresh(true)}>
              New batch
            </button>
          ) : null}
        </RoomHead>
      </div>
      {view === "board" ? <Board place={address.place} /> : <List />}
      {address.level ? (
        <Level job={address.level} onJob={(id) => setLevel(String(id))} onClose={() => setLevel(undefined)} />
      ) : null}
      <NewBatch open={fresh} onClose={() => setFresh(false)} />
    </div>
  );
}

function List() {
  const back = useBack();
  const { data: listed } = useSuspenseQuery(batchesQuery(back));
  // Whether there is nothing at all, or only nothing of late.
  const { data: older } = useQuery({ ...batchesQuery(A_YEAR), enabled: !listed.length });
  const rows = listed.length ? listed : (older ?? listed);
  if (!rows.length && older)
    return (
      <div className="px-4">
        <Empty title="No batches yet">
          <p>
            A batch is one run of a method. Take in orders and plan them, and every batch stands here with its
            quantities, dates and places.
          </p>
          <Link className="btn" to="/orders">
            Go to orders
          </Link>
        </Empty>
      </div>
    );
  return (
    <div className="px-4 pb-6">
      <Table
        name="batches"
        label="batches"
        columns={columns}
        rows={rows}
        rowKey={(row) => row.id}
        rank={liveFirst}
        tools={<Back>what ended within a year</Back>}
      />
    </div>
  );
}

/** What waits for a decision first, then what lives by its state, then what is over. */
const STATES = ["sown", "ready", "planned", "delivered", "abandoned"];
const liveFirst = (batch: Row) => (batch.decide_by ? -1 : STATES.indexOf(batch.state));

function Legend() {
  const box = "inline-block h-3 w-5 border-line border-t-[1.5px] border-l-[3px] align-[-2px]";
  return (
    <span className="flex flex-wrap gap-4">
      <span className="max-sm:hidden">height is the share of the place</span>
      <span>
        <span className={`${box} bg-stand`} /> has stood
      </span>
      <span>
        <span className={`${box} bg-plan`} /> still to stand
      </span>
      <span>
        <span
          className={`${box} bg-paper`}
          style={{
            backgroundImage: "radial-gradient(var(--color-line) 0.8px, transparent 1px)",
            backgroundSize: "5px 5px",
          }}
        />{" "}
        not yet sown
      </span>
    </span>
  );
}

const columns: Column<Row>[] = [
  {
    key: "code",
    head: "Batch",
    value: (b) => b.code,
    cell: (b) => (
      <RowDoor link={`/batches/${b.id}`}>
        <BatchCode code={b.code} />
      </RowDoor>
    ),
  },
  {
    key: "crop",
    head: "Crop",
    value: (b) => `${b.crop} ${b.cultivar}`,
    cell: (b) => (
      <>
        {b.crop} <span className="text-ink3">{b.cultivar}</span>
      </>
    ),
  },
  { key: "form", head: "Form", value: (b) => b.form },
  {
    key: "state",
    head: "State",
    value: (b) => b.state,
    cell: (b) => (b.state === "sown" || b.state === "ready" ? `${b.state}, ${b.stage_now.toLowerCase()}` : b.state),
  },
  { key: "place", head: "Where", value: (b) => (b.state === "sown" ? b.place_now : "") },
  { key: "sow", head: "Sown", value: (b) => b.sow_on, cell: (b) => shortDay(b.sow_on) },
  { key: "ready", head: "Ready", value: (b) => b.ready_on, cell: (b) => shortDay(b.ready_on) },
  { key: "start", head: "Start", value: (b) => b.start, cell: (b) => count(b.start), num: true },
  { key: "trays", head: "Trays", value: (b) => b.trays, cell: (b) => count(b.trays), num: true },
  { key: "needed", head: "Wanted", value: (b) => b.needed, cell: (b) => count(b.needed), num: true },
  { key: "expected", head: "Forecast", value: (b) => b.expected, cell: (b) => count(b.expected), num: true },
  { key: "counted", head: "Counted", value: (b) => b.counted, cell: (b) => share(b.counted), num: true },
  {
    key: "lot",
    head: "Lot",
    value: (b) => b.lot,
    cell: (b) =>
      b.lot ? (
        <RowDoor link={`/lots?lot=${b.lot_id}`}>
          <LotCode code={b.lot} />
        </RowDoor>
      ) : (
        ""
      ),
  },
  {
    key: "decide",
    head: "Decide",
    value: (b) => b.decide_by,
    cell: (b) => (b.decide_by ? <Pennant>by {shortDay(b.decide_by)}</Pennant> : ""),
  },
];
