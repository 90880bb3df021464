import { useSyncExternalStore } from "react";
import { away, onLine } from "../api/once";

const at = (moment: number) => new Date(moment).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });

/** One line while the server does not answer: since when, and what that means for what is seen and typed. */
export function Signal() {
  const since = useSyncExternalStore(onLine, away);
  if (!since) return null;
  return (
    <p role="status" className="noprint flex-none border-decide border-l-4 bg-paper px-3 py-1">
      No answer from the server since {at(since)}. What you see is from before; what you type stays, and counts on an
      inspection sheet wait here until it answers.
    </p>
  );
}
