import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import { tubersQuery } from "../../api/queries";
import { Door } from "../../ui/Door";
import { fullDay, shortDay } from "../../ui/dates";
import { count } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { Empty, Faults, RoomHead, Sheet } from "../../ui/parts";
import { type Column, Table } from "../../ui/Table";
import { Damage } from "./Damage";
import { OneStack, stacksOf } from "./OneStack";
import { PlantingList } from "./PlantingList";
import { StandTubers } from "./StandTubers";

type Stack = Schemas["TuberStackOut"];

/** Seed tubers in their trays: what stands where, what was found in it, when it is turned, what goes out where, and lifting damage. */
export function TuberStore() {
  const address = useAddress();
  const navigate = useNavigate();
  const may = useMay();
  const [older, setOlder] = useState(false);
  const [sheet, setSheet] = useState<"stand" | "list" | null>(null);
  const { data, error } = useQuery(tubersQuery(older));
  const open = (stack?: string) => navigate({ to: "/stockplants/tubers", search: (old) => ({ ...old, stack }) });
  const columns = useMemo(() => columnsOf((stack) => void open(stack)), []);
  const chosen = data?.stacks.find((one) => one.uuid === address.stack || String(one.id) === address.stack);
  return (
    <div className="px-4 pb-6">
      <RoomHead title="Tuber store" note={data?.sentence ?? ""}>
        {data?.stacks.some((one) => one.left) ? (
          <button type="button" className="btn" onClick={() => setSheet("list")}>
            Planting list
          </button>
        ) : null}
        {may("tubers.store") ? (
          <button type="button" className="btn" onClick={() => setSheet("stand")}>
            Stand tubers
          </button>
        ) : null}
        <Door link="/stockplants">Stock plants</Door>
      </RoomHead>
      {data ? null : <p className="text-ink3">{error ? "" : "Fetching …"}</p>}
      <Faults error={error} />
      {data && !data.stacks.length ? (
        <Empty title="Nothing stands in the store">
          <p>
            Seed tubers are graded and stood eyes up in trays, the trays in stacks. A load of a lot is split by size
            here: its trays, stacks, floor and hours are reckoned, its stacks numbered on. Which trays are drawn to be
            looked through is said, and nothing that was rejected goes out.
          </p>
          {may("tubers.store") ? (
            <button type="button" className="btn btn-decide" onClick={() => setSheet("stand")}>
              Stand tubers
            </button>
          ) : null}{" "}
          {older ? null : (
            <button type="button" className="btn-link" onClick={() => setOlder(true)}>
              what went out
            </button>
          )}
        </Empty>
      ) : null}
      {data?.stacks.length ? (
        <Table
          name="tubers"
          label="Stacks of trays"
          columns={columns}
          rows={data.stacks}
          rowKey={(one) => one.id}
          on={(one) => one.id === chosen?.id}
          rank={(one) => (one.on_hold || one.state === "rejected" ? 0 : one.late ? 1 : one.left ? 2 : 3)}
          tools={
            <button type="button" className="btn-link" onClick={() => setOlder(!older)}>
              {older ? "only what stands" : "what went out too"}
            </button>
          }
        />
      ) : null}
      {data ? <Damage store={data} /> : null}
      {sheet === "stand" ? (
        <Sheet open onClose={() => setSheet(null)} title="Stand tubers in trays" wide>
          <StandTubers onDone={() => setSheet(null)} />
        </Sheet>
      ) : null}
      {sheet === "list" && data ? (
        <Sheet open onClose={() => setSheet(null)} title="What is planted where" wide>
          <PlantingList crops={[...new Set(data.stacks.filter((one) => one.left).map((one) => one.crop))]} />
        </Sheet>
      ) : null}
      {chosen ? (
        <Sheet
          open
          onClose={() => void open()}
          title={`${chosen.crop} grade ${chosen.grade}, ${stacksOf(chosen)}`}
          wide
        >
          <OneStack key={chosen.id} stack={chosen} />
        </Sheet>
      ) : null}
    </div>
  );
}

function columnsOf(open: (stack: string) => void): Column<Stack>[] {
  return [
    {
      key: "stacks",
      head: "Stacks",
      value: (one) => one.first,
      cell: (one) => (
        <button type="button" className="btn-link whitespace-nowrap" onClick={() => open(one.uuid)}>
          {one.first === one.last ? one.first : `${count(one.first)} – ${count(one.last)}`}
        </button>
      ),
    },
    { key: "crop", head: "Tubers", value: (one) => `${one.crop} ${one.line}`.trim() },
    { key: "grade", head: "Grade", value: (one) => one.grade, num: true },
    {
      key: "state",
      head: "How they stand",
      value: (one) => one.sentence,
      cell: (one) => (one.on_hold || one.state === "rejected" ? <b>{one.sentence}</b> : one.sentence),
    },
    { key: "trays", head: "Trays", value: (one) => one.left, cell: (one) => count(one.left), num: true },
    { key: "tubers", head: "Of", value: (one) => one.left_tubers, cell: (one) => count(one.left_tubers), num: true },
    {
      key: "kg",
      head: "kg",
      value: (one) => one.kg,
      cell: (one) => count(Math.round(one.kg)),
      num: true,
      spare: true,
    },
    {
      key: "turn",
      head: "Turn",
      value: (one) => one.turn_on ?? "",
      cell: (one) => (one.turn_on ? one.late ? <b>since {shortDay(one.turn_on)}</b> : shortDay(one.turn_on) : ""),
    },
    {
      key: "sprouts",
      head: "Sprouts",
      value: (one) => one.sprout_mm ?? -1,
      cell: (one) =>
        one.sprout_mm === null
          ? ""
          : `${one.sprout_mm} mm${one.ready_on ? `, 20 mm about ${fullDay(one.ready_on)}` : ""}`,
    },
    { key: "lot", head: "Lot", value: (one) => one.lot, spare: true },
    { key: "place", head: "Place", value: (one) => one.place },
  ];
}
