/** Entries of a count that have not reached the server: kept in the browser, one UUID each, sent until they are there. */
import { ApiError, api, type Schemas, take } from "../../api/client";

export type Entry = Schemas["EntryIn"] & { at: string };
export interface Waiting {
  inspection: number;
  entry: Entry;
  /** What a tap back takes away, for the figures here until the server has it. */
  undoes?: { plants: number; faults: Record<string, number> };
  /** Set when the server refused it for good: shown, kept, not sent again. */
  refused?: string;
}

const NAME = "aldrip-counts";
const STORE = "entries";
const SHEETS = "sheets";

function open(): Promise<IDBDatabase> {
  return new Promise((done, fail) => {
    const asked = indexedDB.open(NAME, 1);
    asked.onupgradeneeded = () => {
      asked.result.createObjectStore(STORE, { keyPath: "entry.client_uuid" });
      asked.result.createObjectStore(SHEETS, { keyPath: "id" });
    };
    asked.onsuccess = () => done(asked.result);
    asked.onerror = () => fail(asked.error);
  });
}

async function run<T>(
  store: string,
  mode: IDBTransactionMode,
  act: (store: IDBObjectStore) => IDBRequest<T>,
): Promise<T> {
  const base = await open();
  try {
    return await new Promise<T>((done, fail) => {
      const asked = act(base.transaction(store, mode).objectStore(store));
      asked.onsuccess = () => done(asked.result);
      asked.onerror = () => fail(asked.error);
    });
  } finally {
    base.close();
  }
}

/** Everything that waits for an inspection, in the order in which it was entered. */
export async function waiting(inspection: number): Promise<Waiting[]> {
  const all = (await run(STORE, "readonly", (store) => store.getAll())) as Waiting[];
  return all.filter((one) => one.inspection === inspection).sort((a, b) => a.entry.at.localeCompare(b.entry.at));
}

export async function keep(one: Waiting): Promise<void> {
  await run(STORE, "readwrite", (store) => store.put(one));
}

async function forget(uuid: string): Promise<void> {
  await run(STORE, "readwrite", (store) => store.delete(uuid));
}

/** The sheet as it last came from the server, for a start without a signal. */
export async function keepSheet(sheet: Schemas["InspectionOut"]): Promise<void> {
  await run(SHEETS, "readwrite", (store) => store.put(sheet));
}

export async function keptSheet(id: number): Promise<Schemas["InspectionOut"] | undefined> {
  return (await run(SHEETS, "readonly", (store) => store.get(id))) as Schemas["InspectionOut"] | undefined;
}

export type Sent =
  | { state: "sent"; sheet: Schemas["InspectionOut"] | null }
  | { state: "no signal" }
  | { state: "closed"; message: string }
  | { state: "sign in" };

const sending = new Map<number, Promise<Sent>>();
const MOST_AT_ONCE = 500; // as the server takes
const MOST_PHOTOS = 3_000_000; // characters of photos in one request

/** Send what waits. What arrives is forgotten here; what is refused stays, with the sentence that says why. */
export function send(inspection: number): Promise<Sent> {
  const running = sending.get(inspection) ?? attempt(inspection).finally(() => sending.delete(inspection));
  sending.set(inspection, running);
  return running;
}

/** As many as the server takes in one go, and no more photos than one request carries. */
function together(rows: Waiting[]): Waiting[] {
  let size = 0;
  const end = rows.findIndex(({ entry }, n) => {
    size += entry.photo?.length ?? 0;
    return n > 0 && (n >= MOST_AT_ONCE || size > MOST_PHOTOS);
  });
  return end < 0 ? rows : rows.slice(0, end);
}

async function attempt(inspection: number): Promise<Sent> {
  const rows = (await waiting(inspection)).filter((one) => !one.refused);
  if (!rows.length) return { state: "sent", sheet: null };
  const now = together(rows);
  try {
    const answer = await take(
      api.POST("/api/inspections/{inspection_id}/counts", {
        params: { path: { inspection_id: inspection } },
        body: {
          entries: now.map(({ entry: { at, ...entry } }) => ({ ...entry, counted_at: at })),
        },
      }),
    );
    for (const told of answer.entries) {
      if (told.kept) await forget(told.client_uuid);
      else {
        const row = rows.find((one) => one.entry.client_uuid === told.client_uuid);
        if (row) await keep({ ...row, refused: told.message });
      }
    }
    // Answers to taps leave the table out; it does not change while a count goes on.
    const sheet = {
      ...answer.inspection,
      table: answer.inspection.table ?? (await keptSheet(inspection))?.table ?? null,
    };
    await keepSheet(sheet);
    return rows.length > now.length ? attempt(inspection) : { state: "sent", sheet };
  } catch (error) {
    if (!(error instanceof ApiError)) throw error;
    if (error.status === 401 || error.status === 403) return { state: "sign in" };
    // What the server refuses it refuses again; only silence and its own trouble are worth waiting for.
    if (error.status === 0 || error.status >= 500) return { state: "no signal" };
    return { state: "closed", message: error.message };
  }
}
