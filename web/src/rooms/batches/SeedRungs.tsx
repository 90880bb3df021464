import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { blockQuery, seedCropsQuery } from "../../api/queries";
import { useWorking } from "../../shell/working";
import { count, hectares, kilos, weighed } from "../../ui/format";

/** The rungs of a seed crop below its ground: rows, plants, parent seed, and the class above. */
export function SeedRungs({ batchId }: { batchId: number }) {
  const { data: crops } = useQuery(seedCropsQuery);
  const crop = crops?.find((one) => one.batch_id === batchId);
  const { data: block } = useQuery({ ...blockQuery(crop?.block_id ?? 0), enabled: Boolean(crop?.block_id) });
  const { show } = useWorking();
  if (crop && !crop.block_id)
    return (
      <p className="border-hair border-t py-2">
        Not laid out yet, so rows, plants and parent seed are open.{" "}
        <Link to="/seedcrops" search={{ batch: String(batchId) }} className="btn ml-2">
          Lay out the block
        </Link>
      </p>
    );
  if (!block) return null;
  const { rungs, classes, working } = block.generations;
  return (
    <section aria-label="Below the ground" className="max-w-[720px]">
      {rungs.map((rung) => (
        <div key={rung.key} className="flex min-h-9 items-baseline border-hair border-t pt-1">
          <span className="w-[72px] flex-none" />
          <b className="w-[112px] flex-none">{rung.name}</b>
          <button
            type="button"
            className="w-[104px] flex-none border-ink3 border-b border-dotted text-right text-h1 font-semibold"
            onClick={() => show({ title: rung.name.toLowerCase(), value: "", steps: block.working }, true)}
          >
            {weighed(rung.unit) ? kilos(rung.value).replace(" kg", "") : count(rung.value)}
          </button>
          <span className="cond w-[76px] flex-none pl-2 text-note">{rung.unit}</span>
          <span className="note">{rung.words}</span>
        </div>
      ))}
      {classes.map((one) => (
        <div key={one.role} className="flex min-h-9 items-baseline border-hair border-t pt-1">
          <span className="note w-[72px] flex-none">class above</span>
          <b className="w-[112px] flex-none truncate">
            {one.seed_class} {one.line}
          </b>
          <button
            type="button"
            className="w-[104px] flex-none border-ink3 border-b border-dotted text-right text-h1 font-semibold"
            onClick={() => show({ title: "generations", value: "", steps: working }, true)}
          >
            {kilos(one.kg).replace(" kg", "")}
          </button>
          <span className="cond w-[76px] flex-none pl-2 text-note">kg</span>
          <span className="note">
            {one.area_ha * 10_000 >= 10_000
              ? hectares(one.area_ha * 10_000)
              : `${(one.area_ha * 10_000).toFixed(0)} m²`}{" "}
            of its own, from {(one.seed_in_kg * 1000).toFixed(0)} g of {one.from_class}
          </span>
        </div>
      ))}
      <p className="py-2">
        <Link to="/seedcrops/$id" params={{ id: String(block.block_id) }}>
          See the block
        </Link>
      </p>
    </section>
  );
}
