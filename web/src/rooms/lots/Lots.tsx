import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useCallback, useMemo, useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { lotQuery, lotsQuery, type Ref, ref, spokenQuery } from "../../api/queries";
import { fullDay, shortDay } from "../../ui/dates";
import { count, few, quantity, share } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { Against, BatchCode, Empty, Faults, LotCode, Pennant, RoomHead, Sheet } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { type Column, Table } from "../../ui/Table";
import { WhatWasDone } from "../../ui/TakeBack";
import { ByWeek } from "./ByWeek";
import { HoldIt, Holds } from "./Holds";
import { OwnSeed } from "./OwnSeed";
import { Packing } from "./Packing";
import { Receive, WHAT } from "./Receive";
import { ToBuy, WaitingFor } from "./ToBuy";
import { Treatments } from "./Treatments";

type Lot = Schemas["LotOut"];
const BOUGHT = new Set(WHAT.map(([form]) => form));

export function Lots() {
  const { data: lots } = useSuspenseQuery(lotsQuery);
  const address = useAddress();
  const navigate = useNavigate();
  const may = useMay();
  const [receive, setReceive] = useState(false);
  const choose = useCallback(
    (id: number | null) =>
      void navigate({ to: "/lots", search: (old) => ({ ...old, lot: id ? String(id) : undefined }) }),
    [navigate],
  );
  const { data: spoken } = useQuery(spokenQuery);
  const columns = useMemo(
    () => columnsOf(choose, new Map(spoken?.map((one) => [one.lot_id, one.planned + one.aside]))),
    [choose, spoken],
  );
  const stocked = lots.filter((lot) => lot.balance > 0).length;
  return (
    <div className="px-4 pb-6">
      <RoomHead title="Lots" note={`${few(stocked, "lot")} in stock`}>
        {may("lots.receive") ? (
          <button type="button" className="btn" onClick={() => setReceive(true)}>
            Receive seed or plants
          </button>
        ) : null}
      </RoomHead>
      <nav aria-label="Stock or what is wanted" className="mb-2 flex gap-5 border-rule border-b pb-2">
        {[
          ["", "In stock"],
          ["buy", "To buy"],
          ["week", "By week"],
        ].map(([view, words]) => (
          <Link
            key={view}
            to="/lots"
            search={view ? { view } : {}}
            aria-current={(address.view ?? "") === view ? "page" : undefined}
            className={(address.view ?? "") === view ? "border-ink border-b-2 font-semibold no-underline" : ""}
          >
            {words}
          </Link>
        ))}
      </nav>
      {address.view === "week" ? (
        <ByWeek />
      ) : address.view === "buy" ? (
        <ToBuy />
      ) : lots.length ? (
        <Table
          name="lots"
          label="lots"
          columns={columns}
          rows={lots}
          rowKey={(lot) => lot.id}
          on={(lot) => String(lot.id) === address.lot}
        />
      ) : (
        <Empty title="No lots yet">
          <p>
            Seed belongs here with its germination, its thousand-grain weight and its test date; and later every graded
            batch as a lot of its own.
          </p>
          <button type="button" className="btn btn-decide" onClick={() => setReceive(true)}>
            Receive seed or plants
          </button>
        </Empty>
      )}
      <Receive open={receive} onClose={() => setReceive(false)} onDone={(lot) => choose(lot.id)} />
      {address.lot ? <LotSheet id={ref(address.lot)} onClose={() => choose(null)} /> : null}
    </div>
  );
}

function columnsOf(choose: (id: number) => void, spoken: Map<number, number>): Column<Lot>[] {
  return [
    {
      key: "code",
      head: "Lot",
      value: (l) => l.code,
      cell: (l) => (
        <button type="button" onClick={() => choose(l.id)}>
          <LotCode code={l.code} />
        </button>
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
      value: (l) => `${l.form} ${l.class_name}${l.on_hold ? " on hold" : ""}`,
      cell: (l) => (
        <>
          {l.form} <span className="note">{[l.class_name, l.status_words].filter(Boolean).join(", ")}</span>
          {l.on_hold ? <Pennant>on hold</Pennant> : null}
        </>
      ),
    },
    { key: "balance", head: "In stock", value: (l) => l.balance, cell: (l) => quantity(l.balance, l.unit), num: true },
    {
      key: "spoken",
      head: "Spoken for",
      value: (l) => spoken.get(l.id) ?? null,
      cell: (l) => {
        const wanted = spoken.get(l.id) ?? 0;
        return wanted ? (
          <Against wanted={wanted} there={l.balance}>
            {quantity(wanted, l.unit)}
            {wanted > l.balance * (1 + 1e-6) ? `, ${quantity(wanted - l.balance, l.unit)} short` : ""}
          </Against>
        ) : (
          ""
        );
      },
      num: true,
    },
    {
      key: "germination",
      head: "Germination",
      value: (l) => l.germination,
      cell: (l) => share(l.germination),
      num: true,
    },
    { key: "tgw", head: "g a thousand", value: (l) => l.tgw_g, num: true },
    {
      key: "tested",
      head: "Tested",
      value: (l) => l.tested_on,
      cell: (l) =>
        l.test_is_old ? (
          <Pennant later>{l.tested_on ? `${fullDay(l.tested_on)}, over a year` : "never tested"}</Pennant>
        ) : l.tested_on ? (
          fullDay(l.tested_on)
        ) : (
          ""
        ),
    },
    { key: "supplier", head: "From", value: (l) => l.supplier || l.note },
    {
      key: "received",
      head: "Received",
      value: (l) => l.received_on,
      cell: (l) => fullDay(l.received_on),
    },
    { key: "packets", head: "Packets", value: (l) => l.packets, num: true, spare: true },
    { key: "treatment", head: "Treatment", value: (l) => l.treatment, spare: true },
  ];
}

function LotSheet({ id, onClose }: { id: Ref; onClose: () => void }) {
  const { data: lot, error } = useQuery(lotQuery(id));
  const may = useMay();
  return (
    <Sheet
      open
      onClose={onClose}
      title={lot ? `Lot ${lot.code}` : "Lot"}
      wide={Boolean(lot?.status || lot?.seed_class)}
    >
      <Faults error={error} />
      {lot ? (
        <>
          <p>
            {[lot.crop, lot.cultivar].filter(Boolean).join(" ")}, {lot.form}
            {lot.class_name ? `, ${lot.class_name}` : ""}
            {lot.status ? `, ${lot.status_words}` : ""}. <b>{quantity(lot.balance, lot.unit)}</b> in stock
            {lot.supplier ? `, from ${lot.supplier} ${lot.supplier_ref}` : ""}. {lot.note}
          </p>
          <Holds lot={lot} />
          <Packing lot={lot} />
          <WaitingFor lot={lot} />
          {lot.label_number ? <p>Official label {lot.label_number}.</p> : null}
          {lot.status || lot.seed_class ? <OwnSeed lot={lot} /> : null}
          <h2 className="mt-4">Movements</h2>
          <table className="tbl">
            <tbody>
              {lot.movements.map((row) => (
                <tr key={row.id}>
                  <td className="note">{shortDay(row.happened_at)}</td>
                  <td>
                    {row.kind}{" "}
                    {row.subject_kind === "batch" && row.subject_id ? (
                      <Link to="/batches/$id" params={{ id: String(row.subject_id) }}>
                        <BatchCode code={row.subject_code} />
                      </Link>
                    ) : row.subject_kind === "delivery" && row.subject_id ? (
                      <Link to="/deliveries" search={{ note: String(row.subject_id) }}>
                        note {row.subject_code}
                      </Link>
                    ) : (
                      row.reason
                    )}
                    <div className="note">{row.by}</div>
                  </td>
                  <td className="num">
                    {row.quantity > 0 ? "+" : "−"}
                    {quantity(Math.abs(row.quantity), lot.unit)}
                  </td>
                </tr>
              ))}
              <tr>
                <td />
                <td>
                  <b>balance</b>
                </td>
                <td className="num">
                  <b>{quantity(lot.balance, lot.unit)}</b>
                </td>
              </tr>
            </tbody>
          </table>
          {lot.form === "seed" && !lot.status ? (
            <>
              <h2 className="mt-4">Tests</h2>
              <table className="tbl">
                <tbody>
                  {lot.tests.map((test) => (
                    <tr key={test.id}>
                      <td className="note">{fullDay(test.tested_on)}</td>
                      <td>
                        {test.kind === "germination" ? "germination" : "g a thousand"}{" "}
                        {test.seeds ? <span className="note">{count(test.seeds)} seeds</span> : null}
                      </td>
                      <td className="num">{test.kind === "germination" ? share(test.value) : test.value}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {may("lots.test") ? <TestForm id={lot.id} /> : null}
            </>
          ) : null}
          {may("lots.receive") && BOUGHT.has(lot.form) && !lot.status ? (
            <BalanceForm id={lot.id} unit={lot.unit} />
          ) : null}
          <Treatments lot={lot} />
          <HoldIt lot={lot} />
          <WhatWasDone of={[lot.uuid]} />
        </>
      ) : null}
    </Sheet>
  );
}

function TestForm({ id }: { id: number }) {
  return (
    <details className="mt-2">
      <summary className="btn-link cursor-pointer">Record a germination test</summary>
      <div className="mt-2">
        <QuickForm
          columns={1}
          button="Record"
          fields={[
            { name: "value", label: "Germination, %", needed: true, digits: true },
            { name: "tested_on", label: "Tested on", type: "date", needed: true },
          ]}
          save={({ value = "", tested_on = "" }) =>
            take(
              api.POST("/api/lots/{lot_id}/tests", {
                params: { path: { lot_id: id } },
                body: { kind: "germination", value, seeds: 400, tested_on },
              }),
            )
          }
        />
      </div>
    </details>
  );
}

function BalanceForm({ id, unit }: { id: number; unit: string }) {
  return (
    <details className="mt-2">
      <summary className="btn-link cursor-pointer">Correct the balance</summary>
      <div className="mt-2">
        <QuickForm
          columns={1}
          button="Correct"
          fields={[
            { name: "counted", label: `Weighed now, ${unit}`, needed: true, digits: true },
            { name: "reason", label: "Why" },
          ]}
          save={({ counted = "", reason = "" }) =>
            take(
              api.POST("/api/lots/{lot_id}/balance", { params: { path: { lot_id: id } }, body: { counted, reason } }),
            )
          }
        />
      </div>
    </details>
  );
}
