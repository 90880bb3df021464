import { useEffect, useSyncExternalStore } from "react";
import { forget, onArrival, onLater, sendLater, waits } from "../api/later";
import { away, onLine } from "../api/once";
import { queryClient } from "../api/queries";
import { few } from "../ui/format";

const at = (moment: number) => new Date(moment).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });

/** One line while the server does not answer: since when, what waits here, and what that means for what is seen and typed. */
export function Signal() {
  const since = useSyncExternalStore(onLine, away);
  const later = useSyncExternalStore(onLater, waits);
  useEffect(() => onArrival(() => void queryClient.invalidateQueries()), []);
  const refused = later.filter((one) => one.refused);
  const waiting = later.length - refused.length;
  if (!since && !later.length) return null;
  return (
    <div role="status" className="noprint flex-none border-decide border-l-4 bg-paper px-3 py-1">
      {since ? (
        <p>
          No answer from the server since {at(since)}. What you see is from before.{" "}
          {waiting ? `${few(waiting, "record")} ${waiting === 1 ? "waits" : "wait"} here until it answers.` : ""}
        </p>
      ) : waiting ? (
        <p>
          {few(waiting, "record")} {waiting === 1 ? "is" : "are"} on the way.{" "}
          <button type="button" className="btn-link" onClick={() => void sendLater()}>
            Send now
          </button>
        </p>
      ) : null}
      {refused.map((one) => (
        <p key={one.key} className="fault">
          {one.words}, {at(one.at)}: not taken. {one.refused}{" "}
          <button type="button" className="btn-link" onClick={() => forget(one.key)}>
            Do not record it
          </button>
        </p>
      ))}
    </div>
  );
}
