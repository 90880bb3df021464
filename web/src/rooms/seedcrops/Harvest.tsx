import { useSuspenseQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { api, take } from "../../api/client";
import { blockQuery, ref } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { shortDay } from "../../ui/dates";
import { kilos } from "../../ui/format";
import { useMay } from "../../ui/hooks";
import { Pennant } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import { type BlockData, BlockHead } from "./Block";

const DECISIONS: Record<string, string> = {
  accept: "accepted",
  rogue: "rogued, to be inspected again",
  downgrade: "downgraded",
  reject: "rejected",
  part: "a part rejected",
  dispense: "dispensed with",
};

/** Visits to the field, the male out, and every load at the door. */
export function Harvest() {
  const { id = "" } = useParams({ strict: false });
  const { data: block } = useSuspenseQuery(blockQuery(ref(id)));
  return (
    <div className="px-4 pb-8">
      <BlockHead block={block} here="harvest" />
      <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
        <Visits block={block} />
        <div className="grid content-start gap-6">
          {block.has_male ? <MaleOut block={block} /> : null}
          <Loads block={block} />
        </div>
      </div>
    </div>
  );
}

function Visits({ block }: { block: BlockData }) {
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Field inspections</h2>
      <table className="tbl">
        <tbody>
          {[...block.visits]
            .sort((a, b) => a.planned_on.localeCompare(b.planned_on) || a.number - b.number)
            .map((visit) => (
              <tr key={visit.id}>
                <td className="note w-20">{shortDay(visit.planned_on)}</td>
                <td>
                  <Link to="/seedcrops/inspections/$id" params={{ id: String(visit.id) }}>
                    <b>{visit.number}</b> {visit.words}
                  </Link>
                </td>
                <td>
                  {visit.state === "signed" ? (
                    <b>{DECISIONS[visit.decision]}</b>
                  ) : visit.state === "open" ? (
                    <Pennant>being counted</Pennant>
                  ) : (
                    <span className="note">planned</span>
                  )}
                </td>
              </tr>
            ))}
        </tbody>
      </table>
      <p className="note mt-2">
        Days follow the predicted stages and move with what is seen. A lot of this block is released only when every
        visit is signed.
      </p>
    </section>
  );
}

function MaleOut({ block }: { block: BlockData }) {
  const may = useMay();
  const { today } = useSpan();
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Male rows and borders</h2>
      {block.male_out ? (
        <p className="py-1">
          Out since <b>{shortDay(block.male_out.on)}</b>: {block.male_out.how}. The female may be cut.
        </p>
      ) : (
        <>
          <p className="py-1">
            The male still stands. It comes out first, rows and borders; until then no female load is taken in.
          </p>
          {may("seedcrops.do") && block.parents.some((p) => p.role === "M" && p.sown.length) ? (
            <QuickForm
              button="The male is out"
              fields={[
                { name: "on", label: "Out on", type: "date", start: today, needed: true },
                {
                  name: "how",
                  label: "How",
                  type: "select",
                  start: "cut and destroyed",
                  options: [
                    ["cut and destroyed", "cut and destroyed"],
                    ["harvested first", "harvested first, equipment cleaned"],
                  ],
                },
              ]}
              save={(values, uuid) =>
                take(
                  api.POST("/api/seed-blocks/{block_id}/male-out", {
                    params: { path: { block_id: block.block_id ?? 0 } },
                    body: { on: values.on ?? "", how: values.how ?? "", client_uuid: uuid },
                  }),
                )
              }
            />
          ) : null}
        </>
      )}
    </section>
  );
}

function Loads({ block }: { block: BlockData }) {
  const may = useMay();
  const { today } = useSpan();
  const barred = block.has_male && !block.male_out;
  const sown = block.parents.some((parent) => parent.sown.length);
  return (
    <section>
      <h2 className="border-rule border-b pb-1">Loads at the door</h2>
      <table className="tbl">
        <tbody>
          {block.loads.map((load) => (
            <tr key={load.id}>
              <td className="note w-20">{shortDay(load.on)}</td>
              <td>
                {load.lot_id ? (
                  <Link to="/lots" search={{ lot: String(load.lot_id) }} className="lotcode">
                    {load.lot}
                  </Link>
                ) : (
                  "no lot"
                )}
              </td>
              <td className="num">{kilos(load.net_kg)}</td>
              <td className="num">{load.moisture_percent} %</td>
              <td>
                {load.decision === "dry now" ? (
                  <b>dried at once</b>
                ) : load.decision === "apart" ? (
                  <b>taken in apart</b>
                ) : load.decision === "refuse" ? (
                  "refused"
                ) : (
                  "taken in"
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <AllIn block={block} />
      {may("seedcrops.do") && sown ? (
        barred ? (
          <p className="note mt-2">Barred: the male stands.</p>
        ) : (
          <details className="mt-2" open={!block.loads.length && !block.all_in}>
            <summary className="btn-link cursor-pointer">Take in a load</summary>
            <div className="mt-2">
              <QuickForm
                button="Take it in"
                fields={[
                  { name: "gross", label: "Gross", hint: "12 100, “12.1 t” or “9300 lb”", needed: true },
                  { name: "tare", label: "Tare", start: "0" },
                  {
                    name: "moisture_percent",
                    label: "Moisture, % wet basis",
                    needed: true,
                    hint: block.intake_limit ? `above ${block.intake_limit} % it is dried at once` : "",
                  },
                  { name: "purity_percent", label: "Pure seed in the sample, %" },
                  { name: "on", label: "Harvested on", type: "date", start: today, needed: true },
                  { name: "pests", label: "Pests or weeds seen" },
                  { name: "equipment_clean", label: "Combine and trailers were cleaned down", type: "check" },
                  { name: "refused", label: "Refuse this load", type: "check" },
                ]}
                save={(values, uuid) =>
                  take(
                    api.POST("/api/seed-blocks/{block_id}/harvest", {
                      params: { path: { block_id: block.block_id ?? 0 } },
                      body: {
                        on: values.on ?? "",
                        gross: values.gross ?? "",
                        tare: values.tare || "0",
                        moisture_percent: values.moisture_percent ?? "",
                        purity_percent: values.purity_percent ?? "",
                        pests: values.pests ?? "",
                        refused: values.refused === "yes",
                        equipment_clean: values.equipment_clean === "yes",
                        client_uuid: uuid,
                      },
                    }),
                  )
                }
              />
            </div>
          </details>
        )
      ) : null}
    </section>
  );
}

/** Whether more comes: until the harvest is finished the rest of the block is still expected. */
function AllIn({ block }: { block: BlockData }) {
  const may = useMay();
  const { today } = useSpan();
  if (!block.loads.length && !block.all_in) return null;
  if (block.all_in)
    return (
      <p className="py-1">
        Harvest finished on <b>{shortDay(block.all_in)}</b>: nothing more is expected than what came in.
      </p>
    );
  if (block.state !== "sown") return null;
  return (
    <div className="py-1">
      <p>
        More is expected until the harvest is finished: <b>{kilos(Math.round(block.expected))}</b> clean in all.
      </p>
      {may("seedcrops.do") ? (
        <QuickForm
          button="The harvest is finished"
          fields={[{ name: "on", label: "Finished on", type: "date", start: today, needed: true }]}
          save={(values) =>
            take(
              api.POST("/api/seed-blocks/{block_id}/all-in", {
                params: { path: { block_id: block.block_id ?? 0 } },
                body: { on: values.on ?? "" },
              }),
            )
          }
        />
      ) : null}
    </div>
  );
}
