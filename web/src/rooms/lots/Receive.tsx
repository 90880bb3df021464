import { useQuery } from "@tanstack/react-query";
import { useWatch } from "react-hook-form";
import { api, type Schemas, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { AskField, AskForm } from "../../ui/AskForm";
import { useMay } from "../../ui/hooks";
import { Sheet } from "../../ui/parts";
import { useAsk } from "../../ui/useAsk";
import { formsOf } from "../orders/forms";

/** What is bought in: seed, and what a batch may be begun with instead. */
export const WHAT: [value: string, words: string][] = [
  ["seed", "seed"],
  ["plant", "young plants"],
  ["cutting", "cuttings"],
  ["tuber", "tubers, bulbs, roots"],
  ["division", "divisions"],
];
const EMPTY = {
  form: "seed",
  crop_id: "",
  line_id: "",
  quantity: "",
  packets: "",
  packet_size: "",
  germination_percent: "",
  tgw: "",
  tested_on: "",
  supplier: "",
  supplier_ref: "",
  treatment: "",
  name: "",
  seed_class: "",
  label_number: "",
};
const ANOTHER = "new";

async function received(typed: typeof EMPTY) {
  const { name, ...body } = typed;
  const crop_id = Number(typed.crop_id);
  const line_id =
    typed.line_id === ANOTHER
      ? (await take(api.POST("/api/lines", { body: { crop_id, name, role: "", earliness: "" } }))).id
      : Number(typed.line_id) || null;
  const seed = typed.form === "seed";
  const label = seed ? body : { ...body, germination_percent: "", tgw: "", tested_on: "", seed_class: "" };
  const tested_on = label.tested_on || null;
  return take(api.POST("/api/lots", { body: { ...label, crop_id, line_id, tested_on, note: "" } }));
}

/** Receive a seed lot: what is on the label, and how much came. */
export function Receive({
  open,
  onClose,
  onDone,
}: {
  open: boolean;
  onClose: () => void;
  onDone: (lot: Schemas["LotOut"]) => void;
}) {
  const { data: library, isPending: reading } = useQuery({ ...libraryQuery, enabled: open });
  const may = useMay();
  const { today } = useSpan();
  const ask = useAsk({
    start: EMPTY,
    save: received,
    names: { value: "germination_percent" },
    onDone: (lot) => {
      onClose();
      onDone(lot);
    },
  });
  const { form, crop_id, line_id } = useWatch({ control: ask.form.control }) as typeof EMPTY;
  const seed = form === "seed";
  const crop = Number(crop_id);
  const raised = library && crop ? formsOf(library, crop).filter((name) => name !== "seed") : [];
  const lines = (library?.lines ?? []).filter((line) => line.crop_id === crop);
  const classes = library?.schemes.find((scheme) => scheme.chosen)?.classes ?? [];
  return (
    <Sheet open={open} onClose={onClose} title="Receive seed or plants" ready={!reading}>
      <AskForm ask={ask} button="Receive">
        <AskField
          ask={ask}
          name="form"
          label="What came"
          type="select"
          options={[...WHAT, ...raised.map((name) => [name, `${name}, raised elsewhere, to be handed over`] as const)]}
        />
        <AskField
          ask={ask}
          name="crop_id"
          label="Crop"
          type="select"
          needed
          options={[["", ""], ...(library?.crops ?? []).map((one) => [String(one.id), one.name] as const)]}
        />
        <AskField
          ask={ask}
          name="line_id"
          label="Cultivar"
          type="select"
          options={[
            ["", "not stated"],
            ...lines.map((line) => [String(line.id), line.name] as const),
            ...(may("methods.edit") ? [[ANOTHER, "another one …"] as const] : []),
          ]}
        />
        {line_id === ANOTHER ? <AskField ask={ask} name="name" label="Name of the cultivar" needed /> : null}
        <AskField
          ask={ask}
          name="quantity"
          label="How much came"
          hint={seed ? "60 g, 14 kg, 2 oz, 20,000 seeds or 5 packets of 1,000 seeds" : "How many: 1,200"}
        />
        <div className="grid grid-cols-2 gap-3">
          <AskField ask={ask} name="packets" label="Packets" digits />
          <AskField ask={ask} name="packet_size" label="of" hint="10 g" />
        </div>
        {seed ? (
          <>
            <div className="grid grid-cols-2 gap-3">
              <AskField ask={ask} name="germination_percent" label="Germination on the label, %" digits />
              <AskField ask={ask} name="tested_on" label="Tested on" type="date" max={today} />
            </div>
            <AskField ask={ask} name="tgw" label="Thousand-grain weight" hint="0.4 g" />
          </>
        ) : null}
        <div className="grid grid-cols-2 gap-3">
          <AskField ask={ask} name="supplier" label="Supplier" />
          <AskField ask={ask} name="supplier_ref" label="Their number" />
        </div>
        <div className="grid grid-cols-2 gap-3">
          {seed ? (
            <AskField
              ask={ask}
              name="seed_class"
              label="Class, of parent seed"
              type="select"
              options={[["", "none"], ...classes.map((one) => [String(one.slug), String(one.name)] as const)]}
            />
          ) : null}
          <AskField ask={ask} name="label_number" label={seed ? "Official label number" : "Plant passport number"} />
        </div>
        <AskField
          ask={ask}
          name="treatment"
          label="Treated with"
          hint={seed ? "Treated seed is never food or feed" : "As the label says"}
        />
      </AskForm>
    </Sheet>
  );
}
