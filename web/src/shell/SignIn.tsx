import { useMutation } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { ApiError, api, rememberCsrf, take } from "../api/client";
import { queryClient } from "../api/queries";
import { Faults, Field } from "../ui/parts";
import { DoorForm } from "./DoorForm";

/** The door. `again`: who was signed in when the session ended; their page waits behind it, and goes on. */
export function SignIn({ again = "" }: { again?: string }) {
  const [username, setUsername] = useState(again);
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const signIn = useMutation({
    mutationFn: () => take(api.POST("/api/session", { body: { username, password, code } })),
    onSuccess: async (session) => {
      rememberCsrf(session.csrf);
      if (again && session.username !== again) {
        sessionStorage.clear(); // what was begun is the other person's alone
        window.location.href = "/";
        return;
      }
      queryClient.setQueryData(["session"], session);
      await queryClient.invalidateQueries();
    },
  });
  const asksCode = code !== "" || (signIn.error instanceof ApiError && signIn.error.data.step === "code");
  const door = (
    <DoorForm submit={() => signIn.mutate()}>
      {again ? <Dialog.Title className="text-h1 font-bold">Aldrip</Dialog.Title> : <h1>Aldrip</h1>}
      <p className="text-ink2">
        {again ? "Your session has ended. Sign in, and go on where you were." : "From the promise to the delivery."}
      </p>
      <Field label="Name">
        <input
          className="input phone"
          autoComplete="username"
          value={username}
          onChange={(e) => setUsername(e.target.value)}
          required
        />
      </Field>
      <Field label="Password">
        <input
          className="input phone"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          required
        />
      </Field>
      {asksCode ? (
        <Field label="Six digits">
          <input
            className="input phone"
            inputMode="numeric"
            autoComplete="one-time-code"
            value={code}
            onChange={(e) => setCode(e.target.value)}
            ref={(field) => field?.focus()}
          />
        </Field>
      ) : null}
      <Faults error={signIn.error} />
      <button type="submit" className="btn phone" disabled={signIn.isPending}>
        Sign in
      </button>
    </DoorForm>
  );
  if (!again) return <main className="grid h-full place-items-start overflow-auto bg-frame">{door}</main>;
  return (
    <Dialog.Root open>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-50 bg-frame/90" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-0 z-50 grid place-items-start overflow-auto"
          onEscapeKeyDown={(event) => event.preventDefault()}
        >
          {door}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
