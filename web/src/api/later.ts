/** What was done while nothing answered: kept on this device under its key, sent in its order when something answers, once. */
import { ApiError, csrfToken } from "./client";
import { away, entryId, onLine, send } from "./once";

export interface Later {
  key: string;
  at: number;
  /** In a few words, for whoever looks what waits. */
  words: string;
  path: string;
  body: unknown;
  /** Why the server did not take it; then it waits for a person. */
  refused?: string;
}

const KEPT = "aldrip.later";
const AGAIN_MS = 15_000;
const MOST = 500;

let rows: Later[] = read();
const hear = new Set<() => void>();

function read(): Later[] {
  try {
    return JSON.parse(localStorage.getItem(KEPT) ?? "[]") as Later[];
  } catch {
    return [];
  }
}

function write(next: Later[]) {
  rows = next;
  localStorage.setItem(KEPT, JSON.stringify(rows));
  for (const listener of hear) listener();
}

export const waits = (): Later[] => rows;

export function onLater(listener: () => void) {
  hear.add(listener);
  return () => hear.delete(listener);
}

/** Keep an act for later. The same key is kept once; a later act on the same thing stands behind the earlier one. */
export function keepForLater(one: Omit<Later, "at">): boolean {
  if (rows.length >= MOST) return false;
  if (!rows.some((row) => row.key === one.key)) write([...rows, { ...one, at: Date.now() }]);
  return true;
}

/** Do it now; where nothing answers it waits on this device, and that is as good as done for whoever did it. */
export async function orLater(call: (key: string) => Promise<unknown>, one: Omit<Later, "at" | "key">): Promise<void> {
  const key = entryId();
  try {
    await call(key);
  } catch (error) {
    if (!(error instanceof ApiError && error.status === 0) || !keepForLater({ ...one, key })) throw error;
  }
}

export function forget(key: string) {
  write(rows.filter((row) => row.key !== key));
}

let sending: Promise<void> | null = null;
let arrived: () => void = () => undefined;

/** What is done when something arrived: whatever is seen is fetched anew. */
export function onArrival(act: () => void) {
  arrived = act;
}

/** Send what waits, in its order, until one is not answered. */
export function sendLater(): Promise<void> {
  sending ??= inTurn().finally(() => {
    sending = null;
  });
  return sending;
}

async function inTurn(): Promise<void> {
  let some = false;
  for (const row of [...rows]) {
    if (row.refused) continue;
    let answer: Response;
    try {
      answer = await send(
        new Request(row.path, {
          method: "POST",
          headers: {
            "Content-Type": "application/json",
            "X-CSRFToken": csrfToken(),
            "Idempotency-Key": row.key,
          },
          body: JSON.stringify(row.body),
        }),
      );
    } catch {
      break; // still nothing answers
    }
    if (answer.ok) {
      forget(row.key);
      some = true;
    } else if (answer.status === 401 || answer.status === 403 || answer.status >= 500) break;
    else {
      const told = (await answer.json().catch(() => ({}))) as { title?: string; errors?: { message: string }[] };
      const words = told.errors?.[0]?.message ?? told.title ?? `the server answered ${answer.status}`;
      write(rows.map((one) => (one.key === row.key ? { ...one, refused: words } : one)));
    }
  }
  if (some) arrived();
}

if (typeof window !== "undefined" && typeof document !== "undefined") {
  const go = () => {
    if (rows.some((row) => !row.refused)) void sendLater();
  };
  onLine(() => {
    if (!away()) go();
  });
  window.addEventListener("online", go);
  window.addEventListener("storage", (event) => {
    if (event.key === KEPT) {
      rows = read();
      for (const listener of hear) listener();
    }
  });
  window.setInterval(go, AGAIN_MS);
  window.setTimeout(go, 2000);
}
