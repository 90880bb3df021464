import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas, take } from "../api/client";
import { shortDay } from "./dates";
import { useMay, useSave } from "./hooks";
import { Faults, Field, Sheet } from "./parts";

/** The way back from something that was recorded: what goes with it is shown before it goes. */
export function TakeBack({ id, words = "take back" }: { id: number; words?: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="btn-link" onClick={() => setOpen(true)}>
        {words}
      </button>
      {open ? <TakeBackSheet id={id} onClose={() => setOpen(false)} /> : null}
    </>
  );
}

function TakeBackSheet({ id, onClose }: { id: number; onClose: () => void }) {
  const [reason, setReason] = useState("");
  const { data, error, refetch } = useQuery({
    queryKey: ["back", id],
    queryFn: () => take(api.GET("/api/acts/{event_id}/back", { params: { path: { event_id: id } } })),
    staleTime: 0,
    retry: false,
  });
  const going = [...(data?.events ?? []), ...(data?.rests ?? [])].map((one) => one.id);
  const save = useSave(
    () =>
      take(
        api.POST("/api/acts/{event_id}/take-back", {
          params: { path: { event_id: id } },
          body: { reason, known: going },
        }),
      ),
    onClose,
  );
  return (
    <Sheet open onClose={onClose} title="Take back what was recorded">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined, { onError: () => void refetch() });
        }}
      >
        <Faults error={error} />
        {data ? (
          <>
            <Acts acts={data.events} />
            {data.rests.length ? (
              <div>
                <p className="fault">
                  What was recorded since rests on it and goes with it. Enter it again afterwards where it still holds.
                </p>
                <Acts acts={data.rests} />
              </div>
            ) : null}
            {data.papers.length ? (
              <p className="border-ink border-l-4 pl-3">
                This left the gate: {data.papers.join(", ")} {data.papers.length === 1 ? "is" : "are"} out. The record
                keeps {data.papers.length === 1 ? "it" : "them"} as withdrawn; tell whoever holds the paper.
              </p>
            ) : null}
            <Field label="Why?" fault={reasonFault(save.error)}>
              <input className="input" value={reason} maxLength={300} onChange={(e) => setReason(e.target.value)} />
            </Field>
            <Faults error={save.error} fields={["reason"]} />
            <div className="flex items-center gap-4">
              <button type="submit" className="btn" disabled={save.isPending}>
                Take {going.length === 1 ? "it" : `these ${going.length}`} back
              </button>
              <span className="note">The record of it stays, with your name and your reason.</span>
            </div>
          </>
        ) : null}
      </form>
    </Sheet>
  );
}

function reasonFault(error: unknown): string | undefined {
  return error && typeof error === "object" && "of" in error
    ? (error as { of: (field: string) => string | undefined }).of("reason")
    : undefined;
}

function Acts({ acts }: { acts: Schemas["ActOut"][] }) {
  return (
    <ul>
      {acts.map((one) => (
        <li key={one.id} className="flex gap-3 border-hair border-b py-1">
          <span className="note w-20 flex-none">{shortDay(one.happened_at)}</span>
          <span className="flex-1">
            {one.sentence} <span className="note">{one.actor}</span>
          </span>
        </li>
      ))}
    </ul>
  );
}

/** An edit to a plan is undone at one press, as long as nothing came after it. */
export function Undo({ id }: { id: number }) {
  const undo = useSave(() => take(api.POST("/api/audit/{audit_id}/undo", { params: { path: { audit_id: id } } })));
  return (
    <>
      <button type="button" className="btn-link" disabled={undo.isPending} onClick={() => undo.mutate(undefined)}>
        undo
      </button>
      <Faults error={undo.error} />
    </>
  );
}

/** What was done to one thing, newest first, each with its way back. */
export function WhatWasDone({ of, empty = "Nothing yet." }: { of: string[]; empty?: string }) {
  const { data } = useQuery({
    queryKey: ["acts", ...of],
    queryFn: () => take(api.GET("/api/acts", { params: { query: { subject: of } } })),
  });
  return (
    <section className="mt-4">
      <h2 className="border-rule border-b pb-1">What was done</h2>
      <DoneRows rows={data ?? []} empty={empty} />
    </section>
  );
}

export function DoneRows({ rows, empty }: { rows: Schemas["AuditOut"][]; empty: string }) {
  const may = useMay();
  return (
    <ul>
      {rows.map((event, index) => (
        <li key={event.id} className="flex flex-wrap gap-3 border-hair border-b py-1">
          <span className="note w-20 flex-none">{shortDay(event.happened_at)}</span>
          <span className={`flex-1 ${event.taken_back ? "text-ink3 line-through" : ""}`}>
            {event.sentence} <span className="note">{event.actor}</span>
          </span>
          {event.taken_back ? <span className="note">{event.taken_back}</span> : null}
          {index === 0 && event.can_undo && may("batches.plan") ? (
            <Undo id={event.id} />
          ) : event.can_take_back ? (
            <TakeBack id={event.id} words={event.action === "act.taken_back" ? "let it stand again" : "take back"} />
          ) : null}
        </li>
      ))}
      {rows.length ? null : <li className="text-ink3">{empty}</li>}
    </ul>
  );
}
