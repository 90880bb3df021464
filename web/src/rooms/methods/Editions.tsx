import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { editionsQuery, libraryChanged } from "../../api/queries";
import { shortDay } from "../../ui/dates";
import { useMay, useSave } from "../../ui/hooks";
import { Faults, Sheet } from "../../ui/parts";
import { QuickForm } from "../../ui/QuickForm";
import type { Asked } from "./AskedFields";

type Edition = Schemas["EditionOut"];

/** What a row was: every change an edition, compared with the one before it, each to be taken back. */
export function Editions({ kind, slug, asked }: { kind: string; slug: string; asked: Asked[] }) {
  const [open, setOpen] = useState(false);
  const { data } = useQuery({ ...editionsQuery(kind, slug), enabled: open });
  const may = useMay();
  const back = useSave((id: number) =>
    take(
      api.POST("/api/editions/{edition_id}/take-back", { params: { path: { edition_id: id } }, body: { reason: "" } }),
    ).then(libraryChanged),
  );
  return (
    <details className="mt-6" open={open} onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="w-fit cursor-pointer underline">What it was before</summary>
      <Faults error={back.error} />
      <ul className="max-w-3xl">
        {data?.map((one, n) => (
          <li key={one.id} className="flex flex-wrap items-baseline gap-x-4 border-hair border-b py-1.5">
            <span className="w-24 flex-none">{shortDay(one.happened_at.slice(0, 10))}</span>
            <span className="min-w-0 flex-1 basis-64">
              {one.own
                ? `Your edition ${one.number}${one.by ? ` by ${one.by}` : ""}`
                : `As shipped, edition ${one.number}`}
              {one.reason ? `: ${one.reason}` : ""}
              {one.changed.length ? (
                <span className="note block">changed: {one.changed.map((name) => named(asked, name)).join(", ")}</span>
              ) : null}
              {n && data[0] ? <Compared asked={asked} now={data[0]} was={one} /> : null}
            </span>
            {n && may("methods.edit") ? (
              <button type="button" className="btn" disabled={back.isPending} onClick={() => back.mutate(one.id)}>
                Take back
              </button>
            ) : (
              <span className="note">{n ? "" : "as it stands"}</span>
            )}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** What would be different if an edition were taken back. */
function Compared({ asked, now, was }: { asked: Asked[]; now: Edition; was: Edition }) {
  const differs = asked.filter(
    (one) => one.sort !== "table" && JSON.stringify(now.values[one.name]) !== JSON.stringify(was.values[one.name]),
  );
  if (!differs.length) return null;
  const said = (value: unknown) =>
    value === null || value === "" || value === undefined
      ? "nothing"
      : typeof value === "object"
        ? JSON.stringify(value)
        : String(value);
  return (
    <span className="note block">
      then {differs.map((one) => `${one.words.toLowerCase()} ${said(was.values[one.name])}`).join(", ")}; now{" "}
      {differs.map((one) => said(now.values[one.name])).join(", ")}
    </span>
  );
}

/** “stages.grow.days” in words: “grow, lasts”. */
export function named(asked: Asked[], path: string): string {
  const [first, key, name] = path.split(".");
  const one = asked.find((field) => field.name === first);
  if (!one) return path === "retired" ? "retired" : path === "sources" ? "sources" : (first ?? path);
  if (!key) return one.words.toLowerCase();
  const field = one.fields.find((other) => other.name === name);
  return field ? `${key}, ${field.words.toLowerCase()}` : `the stage “${key}”`;
}

/** A row that is not to be offered any more. */
export function Retire({ kind, slug, name }: { kind: string; slug: string; name: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="btn-link" onClick={() => setOpen(true)}>
        Retire
      </button>
      <Sheet open={open} onClose={() => setOpen(false)} title={`Retire ${name}`}>
        <p className="mb-3">
          It is not offered any more. What was made with it stays, and an earlier edition can be taken back.
        </p>
        <QuickForm
          button="Retire it"
          columns={1}
          fields={[{ name: "reason", label: "Why", needed: true }]}
          save={(values) =>
            take(
              api.POST("/api/library/{kind}/{slug}/retire", {
                params: { path: { kind, slug } },
                body: { reason: values.reason ?? "" },
              }),
            ).then(libraryChanged)
          }
          onDone={() => setOpen(false)}
        />
      </Sheet>
    </>
  );
}
