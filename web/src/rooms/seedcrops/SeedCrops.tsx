import { useQuery, useSuspenseQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { api, type Schemas, take } from "../../api/client";
import { placesQuery, seedCropsQuery } from "../../api/queries";
import { shortDay } from "../../ui/dates";
import { chance, few, hectares, kilos } from "../../ui/format";
import { useAddress, useMay } from "../../ui/hooks";
import { OUTLINE_HINT, readOutline } from "../../ui/outline";
import { BatchCode, Empty, Pennant, RoomHead, Sheet } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { type Column, Table } from "../../ui/Table";

type SeedCrop = Schemas["SeedCropOut"];

export function SeedCrops() {
  const { data: crops } = useSuspenseQuery(seedCropsQuery);
  const address = useAddress();
  const navigate = useNavigate();
  const may = useMay();
  const laying = crops.find((crop) => String(crop.batch_id) === address.batch && !crop.block_id);
  const mayPlan = may("seedcrops.plan");
  const close = () => navigate({ to: "/seedcrops", search: ({ batch: _, ...old }) => old });
  return (
    <div className="px-4 pb-6">
      <RoomHead title="Seed crops" note={crops.length ? few(crops.length, "crop") : ""} />
      {crops.length ? (
        <Table
          name="seedcrops"
          label="seed crops"
          columns={mayPlan ? PLANNERS : EVERYBODY}
          rows={crops}
          rowKey={(crop) => crop.batch_id}
        />
      ) : (
        <Empty title="No seed crops yet">
          <p>
            A promise of seed becomes a crop here: enter an order line with the form “seed”, its cultivar and class, and
            plan it. Its block is then laid out on a field with its parents, flowering, isolation and visits.
          </p>
          <Link to="/orders" search={{ new: "1" }} className="btn btn-decide">
            Enter an order of seed
          </Link>
        </Empty>
      )}
      {laying ? <LayOut crop={laying} onClose={close} /> : null}
    </div>
  );
}

const PLANNERS = columnsOf(true);
const EVERYBODY = columnsOf(false);

function columnsOf(mayPlan: boolean): Column<SeedCrop>[] {
  return [
    {
      key: "code",
      head: "Batch",
      value: (c) => c.code,
      cell: (c) => (
        <Link to="/batches/$id" params={{ id: String(c.batch_id) }}>
          <BatchCode code={c.code} />
        </Link>
      ),
    },
    {
      key: "crop",
      head: "Crop",
      value: (c) => `${c.crop} ${c.cultivar}`,
      cell: (c) =>
        c.block_id ? (
          <Link to="/seedcrops/$id" params={{ id: String(c.block_id) }}>
            <b>{c.crop}</b> {c.cultivar}
          </Link>
        ) : (
          <>
            <b>{c.crop}</b> {c.cultivar}
          </>
        ),
    },
    { key: "class", head: "Class", value: (c) => c.class_name },
    {
      key: "field",
      head: "Field",
      value: (c) => c.field,
      cell: (c) =>
        c.block_id ? (
          c.field
        ) : mayPlan && c.state === "planned" ? (
          <Link to="/seedcrops" search={{ batch: String(c.batch_id) }} className="btn">
            Lay out
          </Link>
        ) : (
          <span className="note">not laid out</span>
        ),
    },
    { key: "area", head: "Ground", value: (c) => c.area_m2, cell: (c) => hectares(c.area_m2), num: true },
    { key: "stage", head: "Stands at", value: (c) => c.stage },
    { key: "needed", head: "Promised", value: (c) => c.needed, cell: (c) => kilos(c.needed), num: true },
    {
      key: "expected",
      head: "Expected",
      value: (c) => c.expected,
      cell: (c) => (
        <>
          {kilos(Math.round(c.expected))}
          {c.delivered ? <div className="note">besides {kilos(c.delivered)} delivered</div> : null}
          {c.low !== null && c.high !== null && c.high > c.low ? (
            <div className="note">
              {Math.round(c.low)} to {Math.round(c.high)}
            </div>
          ) : null}
        </>
      ),
      num: true,
    },
    {
      key: "chance",
      head: "Chance",
      value: (c) => c.chance,
      cell: (c) => (c.delivered >= c.needed ? "delivered" : chance(c.chance)),
      num: true,
    },
    {
      key: "visit",
      head: "Next visit",
      value: (c) => c.next_visit,
      cell: (c) => {
        const next = c.visits.find((visit) => visit.state !== "signed");
        if (!next) return c.visits.length ? <span className="note">all signed</span> : "";
        return (
          <Link to="/seedcrops/inspections/$id" params={{ id: String(next.id) }}>
            {next.state === "open" ? <Pennant>being counted</Pennant> : shortDay(next.planned_on)}{" "}
            <span className="note">{next.words.toLowerCase()}</span>
          </Link>
        );
      },
    },
    { key: "ready", head: "Seed ready", value: (c) => c.ready_on, cell: (c) => shortDay(c.ready_on) },
    { key: "orders", head: "Order", value: (c) => c.orders.join(", ") },
  ];
}

/** The first step of a seed crop: which field, and what it looks like. */
function LayOut({ crop, onClose }: { crop: SeedCrop; onClose: () => void }) {
  const { data } = useQuery(placesQuery);
  const navigate = useNavigate();
  const fields = data?.places.filter((place) => place.kind === "field" && place.active) ?? [];
  return (
    <Sheet open onClose={onClose} title={`Lay out ${crop.code}`}>
      <p>
        {crop.crop} {crop.cultivar}, {crop.class_name}: about {hectares(crop.area_m2)} for {kilos(crop.needed)} with the
        chance the house wants. The method's pattern, spacing and borders are taken; change them on the block.
      </p>
      <div className="mt-3">
        {data ? (
          <QuickForm
            columns={1}
            button="Lay it out"
            decide
            fields={[
              {
                name: "field_id",
                label: "Field",
                type: "select",
                needed: true,
                options: fields.map((place) => [
                  String(place.id),
                  `${place.name}${place.capacity ? `, ${hectares(place.capacity)}` : ", no outline yet"}`,
                ]),
              },
              {
                name: "outline",
                label: "Outline, only if it is less than the field",
                type: "area",
                hint: OUTLINE_HINT,
              },
              {
                name: "bearing_deg",
                label: "Bearing of the rows, degrees from north",
                hint: "Empty: along the longest side",
              },
            ]}
            save={async (values) => {
              const block = await take(
                api.POST("/api/seed-blocks", {
                  body: {
                    batch_id: crop.batch_id,
                    field_id: Number(values.field_id),
                    bearing_deg: values.bearing_deg ?? "",
                    ...readOutline(values.outline ?? ""),
                  },
                }),
              );
              await navigate({ to: "/seedcrops/$id", params: { id: String(block.block_id) } });
            }}
          />
        ) : null}
      </div>
      {data && !fields.length ? (
        <p className="fault mt-2">
          There is no field yet. <Link to="/places">Add one in Places</Link> with its outline.
        </p>
      ) : null}
    </Sheet>
  );
}
