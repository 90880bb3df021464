import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import { mothersQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { Door } from "../../ui/Door";
import { shortDay } from "../../ui/dates";
import { count, few } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { BatchCode, Empty, Faults, LotCode, RoomHead, Sheet } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";
import { OneStock } from "./OneStock";
import { Outlook } from "./Outlook";
import { PlanMothers } from "./PlanMothers";
import { Plans } from "./Plans";
import { type PlannedStart, PlantMothers } from "./PlantMothers";
import { Traps } from "./Traps";

type Stock = Schemas["MotherStockOut"];
const SOON = 4; // weeks

/** Mother plants: what stands, what it will give against what is to be stuck, and what helps where it is too little. */
export function StockPlants() {
  const address = useAddress();
  const navigate = useNavigate();
  const may = useMay();
  const { today } = useSpan();
  const [older, setOlder] = useState(false);
  const [add, setAdd] = useState(false);
  const [start, setStart] = useState<PlannedStart | null>(null);
  const plan = (plan?: string) => navigate({ to: "/stockplants", search: (old) => ({ ...old, plan }) });
  const { data, error } = useQuery(mothersQuery(older || Boolean(address.stock)));
  const open = (stock?: string) =>
    navigate({ to: "/stockplants", search: (old) => ({ ...old, stock, cut: undefined }) });
  const columns = useMemo(() => columnsOf((stock) => void open(stock)), []);
  const standing = data?.stocks.filter((one) => !one.retired_on) ?? [];
  const chosen = data?.stocks.find((one) => one.uuid === address.stock || String(one.id) === address.stock);
  const mothers = standing.reduce((all, one) => all + one.mothers, 0);
  return (
    <div className="px-4 pb-6">
      <RoomHead
        title="Stock plants"
        note={data ? `${few(standing.length, "stock")}, ${few(mothers, "mother")} standing` : ""}
      >
        {may("mothers.plan") ? (
          <>
            <button type="button" className="btn" onClick={() => void plan("new")}>
              Plan mothers
            </button>
            <button type="button" className="btn" onClick={() => setAdd(true)}>
              Plant mothers
            </button>
          </>
        ) : null}
        <Door link="/stockplants/tubers">Tuber store</Door>
      </RoomHead>
      {data ? null : <p className="text-ink3">{error ? "" : "Fetching …"}</p>}
      <Faults error={error} />
      {data && !data.stocks.length ? (
        <Empty title="No mother plants yet">
          <p>
            Mothers are planted once and cut again and again: each planting stands here with what it gives week by week,
            what was cut of it, and its health tests. What they will give is held against the batches that are to be
            begun with cuttings. How many are planted when is planned from what is to be ready.
          </p>
          {may("mothers.plan") ? (
            <button type="button" className="btn btn-decide" onClick={() => setAdd(true)}>
              Plant mothers
            </button>
          ) : null}
        </Empty>
      ) : null}
      {data?.to_cut.length ? (
        <ToCut
          rows={data.to_cut}
          onCut={(stock, many, on) =>
            navigate({
              to: "/stockplants",
              search: (old) => ({ ...old, stock, cut: on <= today ? String(many) : undefined }),
            })
          }
        />
      ) : null}
      {data?.outlooks.map((one) => (
        <Outlook key={one.crop} outlook={one} />
      ))}
      <Plans
        {...(address.plan ? { chosen: address.plan } : {})}
        onPlant={(of, { id, plantlets }) => setStart({ ...of, id, plantlets })}
      />
      {data?.stocks.length ? (
        <div className="mt-6">
          <Table
            name="mothers"
            label="Stocks of mothers"
            columns={columns}
            rows={data.stocks}
            rowKey={(one) => one.id}
            on={(one) => one.id === chosen?.id}
            rank={(one) => (one.on_hold ? 0 : one.retired_on ? 2 : 1)}
            tools={
              <button type="button" className="btn-link" onClick={() => setOlder(!older)}>
                {older ? "only those that stand" : "retired ones too"}
              </button>
            }
          />
        </div>
      ) : null}
      <Traps />
      {add || start ? (
        <Sheet
          open
          onClose={() => {
            setAdd(false);
            setStart(null);
          }}
          title="Plant mothers"
        >
          <PlantMothers
            start={start}
            onDone={(made) => {
              setAdd(false);
              setStart(null);
              void open(made.uuid);
            }}
          />
        </Sheet>
      ) : null}
      {address.plan === "new" && may("mothers.plan") ? (
        <Sheet open onClose={() => void plan()} title="Plan mothers" wide>
          <PlanMothers
            crops={[...new Set(data?.outlooks.map((one) => one.crop))]}
            onDone={(made) => void plan(String(made.id))}
          />
        </Sheet>
      ) : null}
      {chosen ? (
        <Sheet open onClose={() => void open()} title={`${chosen.crop} mothers ${chosen.code}`} wide>
          <OneStock key={chosen.id} stock={chosen} cut={address.cut ?? ""} />
        </Sheet>
      ) : null}
    </div>
  );
}

interface ToCutProps {
  rows: Schemas["ToCutOut"][];
  onCut: (stock: string, many: number, on: string) => void;
}

/** The cuttings of the coming days: of which mothers, for which batch, on which morning. */
function ToCut({ rows, onCut }: ToCutProps) {
  const may = useMay()("mothers.cut");
  return (
    <section className="mt-2" aria-label="To cut">
      <h2>To cut</h2>
      <table className="tbl !w-auto">
        <tbody>
          {rows.map((one) => (
            <tr key={`${one.stock} ${one.batch}`}>
              <td className="whitespace-nowrap">{shortDay(one.on)}</td>
              <td className="num">{count(one.many)}</td>
              <td>
                {one.stock_uuid ? (
                  <>
                    of <LotCode code={one.stock} /> {one.place}
                  </>
                ) : (
                  <b>no mother gives them</b>
                )}
              </td>
              <td>
                for{" "}
                <Door link={`/batches/${one.batch_id}`}>
                  <BatchCode code={one.batch} />
                </Door>
              </td>
              <td>
                {may && one.stock_uuid ? (
                  <button
                    type="button"
                    className="btn-link"
                    onClick={() => onCut(one.stock_uuid ?? "", one.many, one.on)}
                  >
                    cut them
                  </button>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="note">
        Water them the evening before, cut in the morning, stick within two hours. A sterile blade for each crate.
      </p>
    </section>
  );
}

function columnsOf(open: (stock: string) => void): Column<Stock>[] {
  return [
    {
      key: "code",
      head: "Mothers",
      value: (one) => one.code,
      cell: (one) => (
        <button type="button" className="btn-link" onClick={() => open(one.uuid)}>
          <LotCode code={one.code} />
        </button>
      ),
    },
    { key: "crop", head: "Crop", value: (one) => `${one.crop} ${one.line}`.trim() },
    {
      key: "state",
      head: "How they stand",
      value: (one) => one.sentence,
      cell: (one) => (one.on_hold ? <b>{one.sentence}</b> : one.sentence),
    },
    { key: "mothers", head: "Standing", value: (one) => one.mothers, cell: (one) => count(one.mothers), num: true },
    { key: "cut", head: "Cut so far", value: (one) => one.cut, cell: (one) => count(one.cut), num: true },
    {
      key: "soon",
      head: "In 4 weeks",
      value: (one) => soon(one),
      cell: (one) => count(Math.round(soon(one))),
      num: true,
    },
    { key: "place", head: "Place", value: (one) => one.place },
    { key: "planted", head: "Planted", value: (one) => one.planted_on, cell: (one) => shortDay(one.planted_on) },
    { key: "generation", head: "Generation", value: (one) => one.generation, num: true, spare: true },
  ];
}

const soon = (one: Stock) => one.given.slice(0, SOON).reduce((all, many) => all + many, 0);
