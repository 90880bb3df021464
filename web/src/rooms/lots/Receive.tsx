import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { useSpan } from "../../shell/span";
import { DayField } from "../../ui/DayField";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";
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
  crop: "",
  line: "",
  quantity: "",
  packets: "",
  packet_size: "",
  germination: "",
  tgw: "",
  tested_on: "",
  supplier: "",
  supplier_ref: "",
  treatment: "",
  cultivar: "",
  seed_class: "",
  label_number: "",
};

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
  const { data: library } = useQuery({ ...libraryQuery, enabled: open });
  const may = useMay();
  const { today } = useSpan();
  const [form, setForm] = useState(EMPTY);
  const put = (name: keyof typeof EMPTY) => (event: React.ChangeEvent<HTMLInputElement | HTMLSelectElement>) =>
    setForm({ ...form, [name]: event.target.value });
  const seed = form.form === "seed";
  const forms = library && form.crop ? formsOf(library, Number(form.crop)).filter((name) => name !== "seed") : [];
  const save = useSave(
    async () => {
      let line = form.line && form.line !== "new" ? Number(form.line) : null;
      if (form.line === "new") {
        const added = await take(
          api.POST("/api/lines", { body: { crop_id: Number(form.crop), name: form.cultivar, role: "" } }),
        );
        line = added.id;
      }
      return take(
        api.POST("/api/lots", {
          body: {
            crop_id: Number(form.crop),
            line_id: line,
            quantity: form.quantity,
            packets: form.packets ? Number(form.packets) : null,
            packet_size: form.packet_size,
            form: form.form,
            germination_percent: seed && form.germination ? Number(form.germination) : null,
            tgw: seed ? form.tgw : "",
            tested_on: (seed && form.tested_on) || null,
            supplier: form.supplier,
            supplier_ref: form.supplier_ref,
            treatment: form.treatment,
            note: "",
            seed_class: seed ? form.seed_class : "",
            label_number: form.label_number,
          },
        }),
      );
    },
    (lot) => {
      setForm(EMPTY);
      onClose();
      onDone(lot);
    },
  );
  const error = save.error instanceof ApiError ? save.error : null;
  const shown = [
    "form",
    "crop_id",
    "line_id",
    "quantity",
    "packets",
    "packet_size",
    "value",
    "tgw",
    "tested_on",
    "name",
    "seed_class",
  ];
  return (
    <Sheet open={open} onClose={onClose} title="Receive seed or plants">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined);
        }}
      >
        <Field label="What came" fault={error?.of("form")}>
          <select className="input" value={form.form} onChange={put("form")}>
            {WHAT.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
            {forms.map((name) => (
              <option key={name} value={name}>
                {name}, raised elsewhere, to be handed over
              </option>
            ))}
          </select>
        </Field>
        <Field label="Crop" fault={error?.of("crop_id")}>
          <select className="input" value={form.crop} onChange={put("crop")} required>
            <option value="" />
            {library?.crops.map((crop) => (
              <option key={crop.id} value={crop.id}>
                {crop.name}
              </option>
            ))}
          </select>
        </Field>
        <Field label="Cultivar" fault={error?.of("line_id")}>
          <select className="input" value={form.line} onChange={put("line")}>
            <option value="">not stated</option>
            {library?.lines
              .filter((line) => line.crop_id === Number(form.crop))
              .map((line) => (
                <option key={line.id} value={line.id}>
                  {line.name}
                </option>
              ))}
            {may("methods.edit") ? <option value="new">another one …</option> : null}
          </select>
        </Field>
        {form.line === "new" ? (
          <Field label="Name of the cultivar" fault={error?.of("name")}>
            <input className="input" value={form.cultivar} onChange={put("cultivar")} required />
          </Field>
        ) : null}
        <Field
          label="How much came"
          fault={error?.of("quantity")}
          hint={seed ? "60 g, 14 kg, 2 oz, 20,000 seeds or 5 packets of 1,000 seeds" : "How many: 1,200"}
        >
          <input className="input" value={form.quantity} onChange={put("quantity")} />
        </Field>
        <div className="grid grid-cols-2 gap-3">
          <Field label="Packets" fault={error?.of("packets")}>
            <input className="input" inputMode="numeric" value={form.packets} onChange={put("packets")} />
          </Field>
          <Field label="of" fault={error?.of("packet_size")} hint="10 g">
            <input className="input" value={form.packet_size} onChange={put("packet_size")} />
          </Field>
        </div>
        <div className={seed ? "grid grid-cols-2 gap-3" : "hidden"}>
          <Field label="Germination on the label, %" fault={error?.of("value")}>
            <input className="input" inputMode="decimal" value={form.germination} onChange={put("germination")} />
          </Field>
          <Field label="Tested on" fault={error?.of("tested_on")}>
            <DayField
              value={form.tested_on}
              max={today}
              onChange={(day) => setForm((now) => ({ ...now, tested_on: day }))}
            />
          </Field>
        </div>
        {seed ? (
          <Field label="Thousand-grain weight" fault={error?.of("tgw")} hint="0.4 g">
            <input className="input" value={form.tgw} onChange={put("tgw")} />
          </Field>
        ) : null}
        <div className="grid grid-cols-2 gap-3">
          <Field label="Supplier">
            <input className="input" value={form.supplier} onChange={put("supplier")} />
          </Field>
          <Field label="Their number">
            <input className="input" value={form.supplier_ref} onChange={put("supplier_ref")} />
          </Field>
        </div>
        <div className="grid grid-cols-2 gap-3">
          {seed ? (
            <Field label="Class, of parent seed" fault={error?.of("seed_class")}>
              <select className="input" value={form.seed_class} onChange={put("seed_class")}>
                <option value="">none</option>
                {library?.schemes
                  .find((scheme) => scheme.chosen)
                  ?.classes.map((one) => (
                    <option key={String(one.slug)}>{String(one.name)}</option>
                  ))}
              </select>
            </Field>
          ) : null}
          <Field label={seed ? "Official label number" : "Plant passport number"}>
            <input className="input" value={form.label_number} onChange={put("label_number")} />
          </Field>
        </div>
        <Field label="Treated with" hint={seed ? "Treated seed is never food or feed" : "As the label says"}>
          <input className="input" value={form.treatment} onChange={put("treatment")} />
        </Field>
        <Faults error={save.error} fields={shown} />
        <button type="submit" className="btn w-fit" disabled={save.isPending}>
          Receive
        </button>
      </form>
    </Sheet>
  );
}
