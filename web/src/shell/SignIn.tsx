import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, rememberCsrf, take } from "../api/client";
import { queryClient } from "../api/queries";
import { Faults, Field } from "../ui/parts";

export function SignIn() {
  const [username, setUsername] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({
    mutationFn: () => take(api.POST("/api/session", { body: { username, password } })),
    onSuccess: async (session) => {
      rememberCsrf(session.csrf);
      queryClient.setQueryData(["session"], session);
      await queryClient.invalidateQueries();
    },
  });
  return (
    <main className="grid h-full place-items-start bg-frame">
      <form
        className="ml-[12%] mt-[14vh] grid w-80 gap-3 border-ink border-l-4 bg-paper p-6"
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate();
        }}
      >
        <h1>Aldrip</h1>
        <p className="text-ink2">From the promise to the delivery.</p>
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
        <Faults error={signIn.error} />
        <button type="submit" className="btn phone" disabled={signIn.isPending}>
          Sign in
        </button>
      </form>
    </main>
  );
}
