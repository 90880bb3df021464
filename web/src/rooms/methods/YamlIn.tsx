import { useMutation, useSuspenseQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { formsQuery, libraryChanged } from "../../api/queries";
import { few } from "../../ui/format";
import { useSave } from "../../ui/hooks";
import { Faults } from "../../ui/parts";
import { named } from "./Editions";

const STATES: Record<string, string> = { new: "new", changed: "changes", same: "stays as it is" };

/** Library rows as YAML: what each would change is shown first, and all of them are saved or none. */
export function YamlIn() {
  const { data: forms } = useSuspenseQuery(formsQuery);
  const [text, setText] = useState("");
  const read = (commit: boolean) => take(api.POST("/api/library/yaml/read", { body: { text, commit } }));
  const look = useMutation({ mutationFn: () => read(false) });
  const save = useSave(() => read(true).then(libraryChanged));
  const told = save.data ?? look.data;
  const faults = told?.rows.reduce((sum, row) => sum + row.faults.length, 0) ?? 0;
  return (
    <article className="max-w-3xl">
      <h2>Bring in YAML</h2>
      <p className="mb-2 text-ink2">
        Rows as Aldrip writes them out. <a href="/api/library/yaml">Everything of your own as YAML</a> shows how they
        are written.
      </p>
      <label className="field">
        <span>Rows</span>
        <textarea
          className="input min-h-56 py-1 font-mono"
          value={text}
          spellCheck={false}
          onChange={(event) => {
            setText(event.target.value);
            look.reset();
            save.reset();
          }}
          placeholder={"- row: crop\n  name: Winter purslane\n  tgw_g: 1.2\n  germination: 90"}
        />
      </label>
      <div className="mt-2 flex flex-wrap items-center gap-4">
        <button type="button" className="btn" disabled={!text.trim() || look.isPending} onClick={() => look.mutate()}>
          See what it would change
        </button>
        <label className="flex items-center gap-2">
          or a file
          <input
            type="file"
            accept=".yaml,.yml,.txt"
            onChange={(event) => {
              event.target.files?.[0]?.text().then(setText);
              event.target.value = "";
            }}
          />
        </label>
      </div>
      <Faults error={look.error ?? save.error} />
      {told ? (
        <section aria-label="What it would change" className="mt-4">
          <ul>
            {told.rows.map((row, n) => (
              <li key={`${row.kind} ${row.slug} ${n}`} className="border-hair border-b py-1.5">
                <b>{row.name || row.slug || `row ${n + 1}`}</b> <span className="note">{row.kind}</span>{" "}
                {row.faults.length ? "" : STATES[row.state]}
                {row.changed.length ? (
                  <span className="note block">
                    {row.changed.map((path) => named(forms[row.kind] ?? [], path)).join(", ")}
                  </span>
                ) : null}
                {row.faults.map((fault) => (
                  <span key={fault.field + fault.message} className="fault block">
                    {fault.field}: {fault.message}
                  </span>
                ))}
              </li>
            ))}
          </ul>
          {told.saved ? (
            <p className="mt-3 border-ink border-l-4 pl-3" role="status">
              Saved: {few(told.rows.filter((row) => row.state !== "same").length, "row")}.
            </p>
          ) : faults ? (
            <p className="mt-3 border-ink border-l-4 pl-3" role="status">
              {few(faults, "thing needs", "things need")} mending; nothing is saved before.
            </p>
          ) : (
            <button type="button" className="btn mt-3" disabled={save.isPending} onClick={() => save.mutate(undefined)}>
              Save {few(told.rows.length, "row")}
            </button>
          )}
        </section>
      ) : null}
    </article>
  );
}
