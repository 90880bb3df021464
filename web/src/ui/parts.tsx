import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { type ReactNode, useEffect } from "react";
import { ApiError } from "../api/client";
import { LATELY } from "../api/queries";
import { useBack } from "./hooks";

/** Something waits for a decision: filled when it is this week's, outlined later. `low`: no higher than the season line has room for. */
export function Pennant({
  children,
  later = false,
  low = false,
}: {
  children: ReactNode;
  later?: boolean;
  low?: boolean;
}) {
  return (
    <span className={`pennant ${low ? "!leading-[24px]" : ""}`} data-later={later}>
      {children}
    </span>
  );
}

export function BatchCode({ code }: { code: string }) {
  return <span className="batchcode">{code}</span>;
}

export function LotCode({ code }: { code: string }) {
  return <span className="lotcode">{code}</span>;
}

const ORIGINS: Record<string, [string, string]> = {
  records: ["■", "own records"],
  library: ["□", "library"],
  entered: ["✎", "typed"],
  computed: ["=", "computed"],
};

/** Where a value came from: a shape, and always the word. */
export function OriginMark({ origin, source }: { origin: string; source?: string | null }) {
  const [mark, word] =
    origin === "records" && source?.startsWith("lot ") ? ["◆", "lot test"] : (ORIGINS[origin] ?? ["", origin]);
  return (
    <span className="note">
      <span aria-hidden="true">{mark}</span> {word}
    </span>
  );
}

export function Field({
  label,
  fault,
  hint,
  quiet = false,
  children,
}: {
  label: string;
  /** In a table, whose heading says it to those who see; on a phone there is none. */
  quiet?: boolean | undefined;
  fault?: string | undefined;
  hint?: string | undefined;
  children: ReactNode;
}) {
  return (
    <label className="field">
      <span className={quiet ? "sm:sr-only" : undefined}>{label}</span>
      {children}
      {hint && !fault ? <small className="note">{hint}</small> : null}
      {fault ? (
        <small className="fault" role="alert">
          {fault}
        </small>
      ) : null}
    </label>
  );
}

/** What went wrong, in sentences; fields show their own. */
export function Faults({ error, fields = [] }: { error: unknown; fields?: string[] }) {
  if (!error) return null;
  const said =
    error instanceof ApiError ? error.rest(fields) : ["Something failed here. Nothing was saved; try again."];
  if (!said.length) return null;
  return (
    <div role="alert" className="border-l-4 border-ink bg-panel px-3 py-1">
      {said.map((sentence) => (
        <p key={sentence} className="fault">
          {sentence}
        </p>
      ))}
    </div>
  );
}

export function Sheet({
  open,
  onClose,
  title,
  children,
  wide = false,
  ready = true,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
  /** False while the lists of its fields are read: a field that changed its kind under the fingers would lose them. */
  ready?: boolean;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-fold/70" />
        <Dialog.Content
          key={String(ready)}
          aria-describedby={undefined}
          onOpenAutoFocus={(event) => {
            // What is to be typed comes first, not the way out.
            const first = (event.target as HTMLElement).querySelector<HTMLElement>(
              "input:not([type=checkbox]), select, textarea",
            );
            if (first) {
              event.preventDefault();
              first.focus();
            }
          }}
          className={`fixed inset-y-0 right-0 z-50 flex w-full flex-col overflow-y-auto border-l-2 border-ink bg-panel p-4 ${wide ? "max-w-5xl" : "max-w-md"}`}
        >
          <div className="mb-3 flex items-baseline justify-between gap-4">
            <Dialog.Title className="text-h1 font-bold">{title}</Dialog.Title>
            <Dialog.Close className="btn-link">Close</Dialog.Close>
          </div>
          {ready ? children : <p role="status">Reading the list of crops …</p>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** An empty room says what belongs there and offers the first step. */
/** What is there against what is wanted: a bar that should reach its tick, and the figure bold where it does not. */
export function Against({ wanted, there, children }: { wanted: number; there: number; children: ReactNode }) {
  const most = Math.max(wanted * 1.25, there, 1e-9);
  const WIDTH = 56;
  return (
    <span className="inline-flex items-center justify-end gap-2">
      <svg width={WIDTH} height={10} aria-hidden="true" className="flex-none">
        <rect x={0} y={2} width={(there / most) * WIDTH} height={6} className="fill-stand" />
        <rect x={(wanted / most) * WIDTH - 1.5} y={0} width={3} height={10} className="fill-ink" />
      </svg>
      <span className={`min-w-16 text-right ${there < wanted * (1 - 1e-6) ? "font-bold" : ""}`}>{children}</span>
    </span>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="max-w-xl py-8">
      <h2>{title}</h2>
      <div className="mt-2 grid justify-items-start gap-3 text-ink2">{children}</div>
    </div>
  );
}

/** Lets a list reach further back than the few weeks for which it shows what is over. */
export function Back({ children }: { children: string }) {
  const navigate = useNavigate();
  const older = useBack() > LATELY;
  const set = (on: boolean) =>
    void navigate({ to: ".", search: (old) => ({ ...old, older: on ? "1" : undefined }), replace: true });
  return (
    <label className="note flex items-center gap-1">
      <input type="checkbox" checked={older} onChange={(event) => set(event.target.checked)} />
      {children}
    </label>
  );
}

export function RoomHead({ title, note, children }: { title: string; note?: ReactNode; children?: ReactNode }) {
  useEffect(() => {
    document.title = `${title} · Aldrip`;
  }, [title]);
  return (
    <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1 py-2">
      <h1>{title}</h1>
      {note ? <div className="min-w-0 flex-1 basis-48 text-ink3">{note}</div> : <div className="flex-1" />}
      {children}
    </div>
  );
}
