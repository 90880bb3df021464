import { useQuery } from "@tanstack/react-query";
import type { FieldPath, FieldValues } from "react-hook-form";
import { libraryQuery } from "../../api/queries";
import { AskField } from "../../ui/AskForm";
import type { Ask } from "../../ui/useAsk";
import { formsOf } from "./forms";

interface Typed {
  crop_id: string;
  form: string;
}

/** The crops that are raised here, and their forms: what a question about a promise begins with. */
export function useRaised(open: boolean) {
  const { data: library, isPending } = useQuery({ ...libraryQuery, enabled: open });
  const forms = (typed: Typed) => (library ? formsOf(library, Number(typed.crop_id)) : []);
  const crops = (library?.crops ?? []).filter((one) => library && formsOf(library, one.id).length);
  return {
    reading: isPending,
    crops,
    forms,
    formsOf: (name: string) => {
      const crop = crops.find((one) => one.name === name);
      return library && crop ? formsOf(library, crop.id) : [];
    },
    formOf: (typed: Typed) => (forms(typed).includes(typed.form) ? typed.form : (forms(typed)[0] ?? "")),
    nameOf: (typed: Typed) => crops.find((one) => String(one.id) === typed.crop_id)?.name ?? "",
  };
}

/** The same in one of several rows, by their names: what an order is written in. */
export function RowCropAndForm<T extends FieldValues>({
  ask,
  raised,
  row,
  n,
}: {
  ask: Ask<T>;
  raised: ReturnType<typeof useRaised>;
  row: { crop: string; form: string };
  n: number;
}) {
  return (
    <>
      <AskField
        ask={ask}
        name={`rows.${n}.crop` as FieldPath<T>}
        label="Crop"
        type="select"
        needed
        options={[["", ""], ...raised.crops.map((one) => [one.name, one.name] as const)]}
      />
      <AskField
        ask={ask}
        name={`rows.${n}.form` as FieldPath<T>}
        label="Form"
        type="select"
        options={raised.formsOf(row.crop).map((name) => [name, name])}
      />
    </>
  );
}

export function CropAndForm<T extends FieldValues & Typed>({
  ask,
  raised,
  typed,
}: {
  ask: Ask<T>;
  raised: ReturnType<typeof useRaised>;
  typed: Typed;
}) {
  return (
    <>
      <AskField
        ask={ask}
        name={"crop_id" as FieldPath<T>}
        label="Crop"
        type="select"
        needed
        options={[["", ""], ...raised.crops.map((one) => [String(one.id), one.name] as const)]}
      />
      <AskField
        ask={ask}
        name={"form" as FieldPath<T>}
        label="Form"
        type="select"
        options={raised.forms(typed).map((name) => [name, name])}
      />
    </>
  );
}
