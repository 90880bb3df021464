import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { ApiError, api, type Schemas, take } from "../../api/client";
import { libraryQuery } from "../../api/queries";
import { weighed } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Field, Sheet } from "../../ui/parts";
import { faultAt, useAsk } from "../../ui/useAsk";
import { formsOf } from "./forms";

export const EMPTY = {
  order: "",
  customer: "",
  crop: "",
  cultivar: "",
  form: "",
  container: "",
  seed_class: "",
  quantity: "",
  due: "",
  until: "",
  note: "",
};
export type Typed = typeof EMPTY;
type Name = keyof Typed;
type Library = Schemas["LibraryOut"];

/** The crop that was typed, and the forms in which it is raised here. */
function known(library: Library | undefined, typed: string) {
  const crop = library?.crops.find((one) => one.name.toLowerCase() === typed.trim().toLowerCase());
  return { crop, forms: library && crop ? formsOf(library, crop.id) : [] };
}

const whole = (library: Library | undefined, typed: typeof EMPTY): typeof EMPTY => ({
  ...typed,
  form: typed.form || (known(library, typed.crop).forms[0] ?? ""),
});

/** One promise, as it is given over the telephone; one that is not understood yet can wait. */
export function NewOrder({
  open,
  onClose,
  onTaken,
  asked = {},
  series = { every_weeks: "", times: "" },
}: {
  open: boolean;
  onClose: () => void;
  /** The first of the lines that were taken in, so that what became of it is seen. */
  onTaken?: (line: number) => void;
  asked?: Partial<Typed>;
  /** Every so many weeks, so many times, where a succession was worked out before. */
  series?: { every_weeks: string; times: string };
}) {
  const { data: library, isPending: reading } = useQuery({ ...libraryQuery, enabled: open });
  const may = useMay();
  const planned = async (lines: number[]) => {
    if (may("batches.plan") && lines.length) await take(api.POST("/api/batches/plan-lines", { body: { lines } }));
  };
  const { form, submit, pending, error, told } = useAsk({
    start: { rows: [{ ...EMPTY, ...asked }], series },
    again: false,
    save: async ({ rows, series }) => {
      const taken = await take(
        api.POST("/api/orders", {
          body: { rows: rows.map((typed) => whole(library, typed)), keep: false, waited: [], plan: true, series },
        }),
      );
      await planned(taken.lines);
      return taken;
    },
    onDone: (taken) => {
      next();
      if (taken.lines[0]) onTaken?.(taken.lines[0]);
    },
  });
  const row = form.watch("rows.0");
  const { crop, forms } = known(library, row.crop);
  const method = library?.methods.find((one) => one.crop_id === crop?.id && one.form === (row.form || forms[0]));
  const next = () => {
    const { order, customer } = form.getValues("rows.0");
    form.reset({ rows: [{ ...EMPTY, order, customer }], series: { every_weeks: "", times: "" } });
    onClose();
  };
  const wait = useSave(
    () => take(api.POST("/api/orders", { body: { rows: [whole(library, row)], keep: true, waited: [], plan: false } })),
    next,
  );
  const named = (name: Name) => ({
    ...form.register(`rows.0.${name}`),
    className: "input",
  });
  const fault = (name: Name) => faultAt(form.formState.errors, `rows.0.${name}`);
  const strange =
    error instanceof ApiError &&
    error.errors.some((one) => ["unknown_crop", "unknown_form", "unknown_cultivar"].includes(one.code));
  return (
    <Sheet open={open} onClose={onClose} title="New order" ready={!reading}>
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          submit();
        }}
      >
        <Field label="Order number" fault={fault("order")} hint="Leave it empty for the next one">
          <input {...named("order")} />
        </Field>
        <Field label="Customer" fault={fault("customer")}>
          <input {...named("customer")} />
        </Field>
        <Field label="Crop" fault={fault("crop")}>
          <input {...named("crop")} list="crops-known" autoComplete="off" />
        </Field>
        <datalist id="crops-known">
          {library?.crops
            .filter((one) => formsOf(library, one.id).length)
            .map((one) => (
              <option key={one.id} value={one.name} />
            ))}
        </datalist>
        <Field label="Cultivar" fault={fault("cultivar")} hint="Empty for any">
          <input {...named("cultivar")} list="cultivars-known" autoComplete="off" />
        </Field>
        <datalist id="cultivars-known">
          {library?.lines
            .filter((line) => line.crop_id === crop?.id)
            .map((line) => (
              <option key={line.id} value={line.name} />
            ))}
        </datalist>
        <Field label="Form" fault={fault("form")}>
          {forms.length ? (
            <select {...named("form")} value={row.form || forms[0]}>
              {forms.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          ) : (
            <input {...named("form")} />
          )}
        </Field>
        {method && method.way !== "plants" ? (
          <Field label="Class" fault={fault("seed_class")}>
            <select {...named("seed_class")}>
              <option value="">what the method gives</option>
              {library?.schemes
                .find((scheme) => scheme.chosen)
                ?.classes.map((one) => (
                  <option key={String(one.slug)}>{String(one.name)}</option>
                ))}
            </select>
          </Field>
        ) : (
          <Field label="Container" fault={fault("container")}>
            <select {...named("container")}>
              <option value="">the usual one</option>
              {library?.containers.map((one) => (
                <option key={one.id}>{one.name}</option>
              ))}
            </select>
          </Field>
        )}
        <Field
          label="Quantity"
          fault={fault("quantity")}
          hint={
            weighed(method?.unit ?? "")
              ? "2400 kg, 250 g, 2.4 t or 5 packets of 1,000 seeds"
              : "12000, 12,000 or 12k good ones"
          }
        >
          <input {...named("quantity")} />
        </Field>
        <Field label="Due" fault={fault("due")} hint="A day or a week, such as “week 36”">
          <input {...named("due")} />
        </Field>
        <Field label="Until" fault={fault("until")} hint="Only if the window is longer">
          <input {...named("until")} />
        </Field>
        <Field label="Note" fault={fault("note")}>
          <input {...named("note")} />
        </Field>
        <fieldset className="grid grid-cols-2 gap-3">
          <legend className="note">The same again</legend>
          <Field label="Every … weeks" fault={faultAt(form.formState.errors, "series.every_weeks")}>
            <input {...form.register("series.every_weeks")} className="input" inputMode="numeric" />
          </Field>
          <Field label="Times in all" fault={faultAt(form.formState.errors, "series.times")} hint="Empty for once">
            <input {...form.register("series.times")} className="input" inputMode="numeric" />
          </Field>
        </fieldset>
        <Faults error={error ?? wait.error} fields={told} />
        <span className="flex flex-wrap items-center gap-3">
          <button type="submit" className="btn w-fit" disabled={pending}>
            {may("batches.plan") ? "Save and plan" : "Save"}
          </button>
          {strange ? (
            <>
              <button type="button" className="btn" disabled={wait.isPending} onClick={() => wait.mutate(undefined)}>
                Keep it waiting
              </button>
              {may("methods.edit") && !crop && row.crop ? (
                <Link to="/methods" search={{ kind: "crop", act: "new", name: row.crop }}>
                  Add {row.crop}
                </Link>
              ) : null}
            </>
          ) : null}
        </span>
      </form>
    </Sheet>
  );
}
