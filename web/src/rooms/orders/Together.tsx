import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../../api/client";
import { libraryChanged, rowsQuery, wordsQuery } from "../../api/queries";
import { few } from "../../ui/format";
import { useMay, useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";

type Row = Schemas["RowIO"];
type Checked = Schemas["CheckedOut"];
type Fault = Checked["faults"][number];

interface Group {
  column: keyof Row;
  value: string;
  crop: string;
  faults: Fault[];
}

/** Problems that are one problem: the same words in the same column, of the same crop where the column hangs on it. */
function grouped(checked: Checked, rows: Row[]): Group[] {
  const found = new Map<string, Group>();
  for (const fault of checked.faults) {
    const column = fault.column as keyof Row;
    const row = rows[fault.row];
    const value = String(row?.[column] ?? "");
    const crop = column === "cultivar" || column === "form" ? fault.crop : "";
    const key = [column, fault.code, fault.message, value, crop].join("\n");
    const group = found.get(key) ?? { column, value, crop, faults: [] };
    group.faults.push(fault);
    found.set(key, group);
  }
  return [...found.values()].sort((a, b) => b.faults.length - a.faults.length);
}

/** Every problem once, however many rows have it, each with what settles it. */
export function Together({
  checked,
  rows,
  onRows,
}: {
  checked: Checked;
  rows: Row[];
  /** The rows as they are now, to be checked again. */
  onRows: (rows: Row[]) => void;
}) {
  const groups = grouped(checked, rows);
  return (
    <ol className="mb-3" aria-label="Problems">
      <NewCultivars groups={groups} onDone={() => onRows(rows)} />
      {groups.map((group) => (
        <Problem
          key={`${group.column} ${group.value} ${group.crop} ${group.faults[0]?.message}`}
          group={group}
          lines={checked.lines}
          rows={rows}
          onRows={onRows}
        />
      ))}
    </ol>
  );
}

function Problem({
  group,
  lines,
  rows,
  onRows,
}: {
  group: Group;
  lines: Checked["lines"];
  rows: Row[];
  onRows: (rows: Row[]) => void;
}) {
  const [instead, setInstead] = useState("");
  const { faults, column, value } = group;
  const first = faults[0];
  if (!first) return null;
  const touched = new Set(faults.map((fault) => fault.row));
  const many = touched.size > 1;
  const words = first.column_words;
  const write = (into: keyof Row, text: string) =>
    onRows(rows.map((row, n) => (touched.has(n) ? { ...row, [into]: text } : row)));
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-hair border-b py-1.5">
      <span className="min-w-0 flex-1 basis-96">
        <a href={`#cell-${first.row}-${column}`} className="font-semibold">
          {many ? `${few(touched.size, "row")}, ${words}` : `Line ${lines[first.row] ?? first.row + 1}, ${words}`}
        </a>
        : {first.message}
      </span>
      <Choices
        group={group}
        onWrite={(value) => write(first.code === "unknown_container" ? "container" : column, value)}
        onDone={() => onRows(rows)}
      />
      <Door group={group} onDone={() => onRows(rows)} />
      {many ? (
        <form
          className="flex items-center gap-1"
          onSubmit={(event) => {
            event.preventDefault();
            write(column, instead);
          }}
        >
          <input
            className="input w-32"
            aria-label={`${words} in place of “${value}” in ${few(touched.size, "row")}`}
            placeholder="write instead"
            value={instead}
            onChange={(event) => setInstead(event.target.value)}
          />
          <button type="submit" className="btn" disabled={!instead.trim()}>
            In all {touched.size}
          </button>
        </form>
      ) : null}
      <button type="button" className="btn-link" onClick={() => onRows(rows.filter((_, n) => !touched.has(n)))}>
        {many ? `leave all ${touched.size} out` : "leave it out"}
      </button>
    </li>
  );
}

/** Every cultivar that is new here, added at once. */
function NewCultivars({ groups, onDone }: { groups: Group[]; onDone: () => void }) {
  const may = useMay();
  const fresh = new Map(
    groups
      .filter((group) => group.faults[0]?.code === "unknown_cultivar")
      .map((group) => [`${group.faults[0]?.crop} ${group.value}`, group]),
  );
  const add = useSave(async () => {
    for (const group of fresh.values()) await addCultivar(group.value, group.faults[0]?.crop ?? "");
    await libraryChanged(fresh.size);
  }, onDone);
  if (fresh.size < 2 || !may("methods.edit")) return null;
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-hair border-b py-1.5">
      <span className="min-w-0 flex-1 basis-96">
        {few(fresh.size, "cultivar")} new here: {[...fresh.values()].map((group) => group.value).join(", ")}.
      </span>
      <button type="button" className="btn" disabled={add.isPending} onClick={() => add.mutate(undefined)}>
        Add all {fresh.size}
      </button>
      <Faults error={add.error} />
    </li>
  );
}

const addCultivar = (name: string, crop: string) =>
  take(
    api.POST("/api/library/{kind}", {
      params: { path: { kind: "line" } },
      body: { typed: { name, crop }, like: "", source: "", reason: "" },
    }),
  );

/** What may have been meant; some of it is settled for the house, the rest is written into the rows. */
function Choices({ group, onWrite, onDone }: { group: Group; onWrite: (value: string) => void; onDone: () => void }) {
  const fault = group.faults[0];
  const settle = useSave(
    (means: string) =>
      take(
        api.POST("/api/orders/words", {
          body: { column: group.column, said: group.value, means, crop: fault?.crop ?? "" },
        }),
      ),
    onDone,
  );
  return (
    <>
      {fault?.choices.map((choice) => (
        <button
          key={choice.value}
          type="button"
          className="btn"
          disabled={settle.isPending}
          onClick={() => (choice.keep && group.value ? settle.mutate(choice.value) : onWrite(choice.value))}
        >
          {choice.words}
        </button>
      ))}
      <Faults error={settle.error} />
    </>
  );
}

/** What the house has settled that words in orders mean; each can be forgotten. */
export function OwnWords({ onDone }: { onDone: () => void }) {
  const { data: words } = useQuery(wordsQuery);
  const { data: library } = useQuery(rowsQuery);
  const may = useMay();
  const forget = useSave(
    (id: number) => take(api.POST("/api/orders/words/{word_id}/forget", { params: { path: { word_id: id } } })),
    onDone,
  );
  if (!words?.length) return null;
  const crop = (slug: string) => library?.find((row) => row.kind === "crop" && row.slug === slug)?.name ?? slug;
  return (
    <details className="mb-2">
      <summary className="note">{few(words.length, "word")} of your own understood</summary>
      <ul>
        {words.map((word) => (
          <li key={word.id} className="note">
            “{word.said}”{word.crop ? ` of ${crop(word.crop).toLowerCase()}` : ""} is{" "}
            {word.column === "crop" ? crop(word.means) : word.means}{" "}
            {may("orders.edit") ? (
              <button type="button" className="btn-link" onClick={() => forget.mutate(word.id)}>
                forget<span className="sr-only"> {word.said}</span>
              </button>
            ) : null}
          </li>
        ))}
      </ul>
      <Faults error={forget.error} />
    </details>
  );
}

/** Where a problem of the library is settled: on the spot, or in Methods. */
function Door({ group, onDone }: { group: Group; onDone: () => void }) {
  const may = useMay();
  const { data: library } = useQuery(rowsQuery);
  const slug = group.faults[0]?.crop;
  const crop = library?.find((row) => row.kind === "crop" && row.slug === slug);
  const add = useSave(() => addCultivar(group.value, slug ?? "").then(libraryChanged), onDone);
  const code = group.faults[0]?.code;
  if (!may("methods.edit")) return null;
  const to = (kind: string, more: { name?: string; crop?: string }) =>
    ({ to: "/methods", search: { kind, act: "new", ...more } }) as const;
  if (code === "unknown_crop") return <Link {...to("crop", { name: group.value })}>add it as a crop</Link>;
  if (code === "unknown_container") return <Link {...to("container", {})}>add a container</Link>;
  if ((code === "unknown_form" || code === "no_method") && crop)
    return <Link {...to("method", { crop: crop.slug })}>say how it is raised so</Link>;
  if (code === "unknown_cultivar" && crop)
    return (
      <>
        <button type="button" className="btn" disabled={add.isPending} onClick={() => add.mutate(undefined)}>
          Add {group.value}
        </button>
        <Faults error={add.error} />
      </>
    );
  return null;
}
