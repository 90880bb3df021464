import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { Faults, Field } from "../ui/parts";
import { DoorForm } from "./DoorForm";

/** Whoever opens a manager's link sets a password of their own; nobody is signed in for it. */
export function SetPassword({ link }: { link: string }) {
  const [password, setPassword] = useState("");
  const set = useMutation({ mutationFn: () => take(api.POST("/api/password", { body: { link, password } })) });
  return (
    <main className="grid h-full place-items-start overflow-auto bg-frame">
      <DoorForm submit={() => set.mutate()}>
        <h1>A password of your own</h1>
        {set.data ? (
          <>
            <p role="status">{set.data.message}</p>
            <a className="btn phone text-center no-underline" href="/">
              Sign in
            </a>
          </>
        ) : (
          <>
            <Field label="Password" hint="At least ten characters, five of them different">
              <input
                className="input phone"
                type="password"
                autoComplete="new-password"
                value={password}
                onChange={(e) => setPassword(e.target.value)}
                required
              />
            </Field>
            <Faults error={set.error} />
            <button type="submit" className="btn phone" disabled={set.isPending}>
              Set it
            </button>
            <p className="note">
              The link opens once, and for a day. Nobody else, your manager included, sees what you type.
            </p>
          </>
        )}
      </DoorForm>
    </main>
  );
}
