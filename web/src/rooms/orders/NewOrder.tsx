import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { weighed } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";
import { formsOf } from "./forms";

const EMPTY = {
  order: "",
  customer: "",
  crop: "",
  cultivar: "",
  form: "",
  seed_class: "",
  quantity: "",
  due: "",
  until: "",
  note: "",
};

export function NewOrder({ open, onClose }: { open: boolean; onClose: () => void }) {
  const { data: library } = useQuery({ ...libraryQuery, enabled: open });
  const may = useMay();
  const [row, setRow] = useState(EMPTY);
  const put = (name: keyof typeof EMPTY) => (event: React.ChangeEvent<HTMLInputElement | HTMLSelectElement>) =>
    setRow({ ...row, [name]: event.target.value });
  const crop = library?.crops.find((c) => c.name === row.crop);
  const forms = library && crop ? formsOf(library, crop.id) : [];
  const method = library?.methods.find((m) => m.crop_id === crop?.id && m.form === (row.form || forms[0]));
  const save = useSave(
    async () => {
      const body = { rows: [{ ...row, form: row.form || (forms[0] ?? "") }] };
      const taken = await take(api.POST("/api/orders", { body }));
      if (may("batches.plan")) await take(api.POST("/api/batches/plan-lines", { body: { lines: taken.lines } }));
      return taken;
    },
    () => {
      setRow({ ...EMPTY, order: row.order, customer: row.customer });
      onClose();
    },
  );
  const error = save.error instanceof ApiError ? save.error : null;
  const of = (name: string) => error?.of(`rows.0.${name}`);
  const fields = Object.keys(EMPTY).map((name) => `rows.0.${name}`);
  return (
    <Sheet open={open} onClose={onClose} title="New order">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined);
        }}
      >
        <Field label="Order number" fault={of("order")} hint="Leave it empty for the next one">
          <input className="input" value={row.order} onChange={put("order")} />
        </Field>
        <Field label="Customer" fault={of("customer")}>
          <input className="input" value={row.customer} onChange={put("customer")} />
        </Field>
        <Field label="Crop" fault={of("crop")}>
          <select className="input" value={row.crop} onChange={put("crop")}>
            <option value="" />
            {library?.crops
              .filter((c) => formsOf(library, c.id).length)
              .map((c) => (
                <option key={c.id}>{c.name}</option>
              ))}
          </select>
        </Field>
        <Field label="Cultivar" fault={of("cultivar")}>
          <select className="input" value={row.cultivar} onChange={put("cultivar")}>
            <option value="">any</option>
            {library?.lines
              .filter((line) => line.crop_id === crop?.id)
              .map((line) => (
                <option key={line.id}>{line.name}</option>
              ))}
          </select>
        </Field>
        <Field label="Form" fault={of("form")}>
          <select className="input" value={row.form || forms[0] || ""} onChange={put("form")}>
            {forms.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </Field>
        {method && method.way !== "plants" ? (
          <Field label="Class" fault={of("seed_class")}>
            <select className="input" value={row.seed_class} onChange={put("seed_class")}>
              <option value="">what the method gives</option>
              {library?.schemes
                .find((scheme) => scheme.chosen)
                ?.classes.map((one) => (
                  <option key={String(one.slug)}>{String(one.name)}</option>
                ))}
            </select>
          </Field>
        ) : null}
        <Field
          label="Quantity"
          fault={of("quantity")}
          hint={
            weighed(method?.unit ?? "")
              ? "2400 kg, 250 g, 2.4 t or 5 packets of 1,000 seeds"
              : "12000, 12,000 or 12k good ones"
          }
        >
          <input className="input" value={row.quantity} onChange={put("quantity")} />
        </Field>
        <Field label="Due" fault={of("due")} hint="A day or a week, such as “week 36”">
          <input className="input" value={row.due} onChange={put("due")} />
        </Field>
        <Field label="Until" fault={of("until")} hint="Only if the window is longer">
          <input className="input" value={row.until} onChange={put("until")} />
        </Field>
        <Field label="Note" fault={of("note")}>
          <input className="input" value={row.note} onChange={put("note")} />
        </Field>
        <Faults error={save.error} fields={fields} />
        <button type="submit" className="btn w-fit" disabled={save.isPending}>
          {may("batches.plan") ? "Save and plan" : "Save"}
        </button>
      </form>
    </Sheet>
  );
}
