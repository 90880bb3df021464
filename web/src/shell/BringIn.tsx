import { useMutation } from "@tanstack/react-query";
import { useRef } from "react";
import { ApiError, api, type Schemas, take } from "../api/client";
import { Faults } from "../ui/parts";

function formOf(file: File, word: string) {
  const form = new FormData();
  form.append("file", file);
  if (word) form.append("word", word);
  return form;
}

/** Choose an archive and bring its nursery in; its managers' new passwords are shown once. */
export function BringIn({ first, word = "" }: { first: boolean; word?: string }) {
  const chosen = useRef<HTMLInputElement>(null);
  const bring = useMutation({
    mutationFn: (file: File): Promise<Schemas["BroughtInOut"]> => {
      const sent = { body: { file: "", word }, bodySerializer: () => formOf(file, word) };
      return first ? take(api.POST("/api/setup/archive", sent)) : take(api.POST("/api/archive", sent));
    },
    onSettled: () => {
      if (chosen.current) chosen.current.value = "";
    },
  });
  return (
    <div className="grid gap-2">
      <label className="flex flex-wrap items-center gap-2">
        <span>{first ? "Or bring your nursery in from an archive" : "Bring another nursery in beside this one"}</span>
        <input
          ref={chosen}
          type="file"
          accept=".zip"
          disabled={bring.isPending}
          onChange={(event) => {
            const file = event.target.files?.[0];
            if (file) bring.mutate(file);
          }}
        />
      </label>
      {bring.isPending ? <p>Reading it; nothing is saved until all of it is understood.</p> : null}
      {bring.error instanceof ApiError ? <Faults error={bring.error} /> : null}
      {bring.data ? (
        <div className="border-ink border-l-4 bg-paper px-3 py-2">
          <p>
            {bring.data.name} is here, {bring.data.rows.toLocaleString("en")} rows. Write these down: they are shown
            once.
          </p>
          <ul>
            {bring.data.managers.map((one) => (
              <li key={one.username}>
                Sign in as <b>{one.username}</b> with <code>{one.password}</code>
              </li>
            ))}
          </ul>
          {first ? <a href="/">Sign in</a> : null}
        </div>
      ) : null}
    </div>
  );
}
