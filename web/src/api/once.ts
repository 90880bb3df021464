/** Sends a change so that it is made once: under a key, again by itself when no answer comes, and again under the same key. */

const HEADER = "Idempotency-Key";
const WAITING = "aldrip.unanswered";
const KEPT_MS = 12 * 3_600_000;
export const PAUSES_MS = [700, 2000];
/** What stands between us and the server answers so when the server did not; the server itself says when to come again. */
const comesAgain = (answer: Response) =>
  [502, 503, 504].includes(answer.status) && (!answer.headers.has("X-Request-Id") || answer.headers.has("Retry-After"));

/** Nothing left this device. */
export class NotSent extends Error {}

/** A fresh id for one entry; `randomUUID` is missing on plain HTTP. */
export function entryId(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = ((bytes[6] ?? 0) & 0x0f) | 0x40;
  bytes[8] = ((bytes[8] ?? 0) & 0x3f) | 0x80;
  const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}

/** Keys of what was sent and not answered, by a short print of it; what was typed is not kept here. */
function waiting(): Record<string, [key: string, at: number]> {
  try {
    const all = JSON.parse(sessionStorage.getItem(WAITING) ?? "{}") as Record<string, [string, number]>;
    return Object.fromEntries(Object.entries(all).filter(([, [, at]]) => Date.now() - at < KEPT_MS));
  } catch {
    return {};
  }
}

function keep(all: ReturnType<typeof waiting>) {
  try {
    sessionStorage.setItem(WAITING, JSON.stringify(all));
  } catch {
    // A full or forbidden store: the key lasts for the tries of one press.
  }
}

/** FNV-1a over the text, twice with other beginnings. */
export function printOf(text: string): string {
  return [0x811c9dc5, 0x1000193]
    .map((start) => {
      let hash = start;
      for (let at = 0; at < text.length; at++) hash = Math.imul(hash ^ text.charCodeAt(at), 0x01000193);
      return (hash >>> 0).toString(36);
    })
    .join("");
}

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

let since = 0;
const hear = new Set<() => void>();

/** Since when nothing answers; 0 while it does. */
export const away = () => since;

/** Hear when the server falls silent, and when it answers again. */
export function onLine(listener: () => void) {
  hear.add(listener);
  return () => hear.delete(listener);
}

function tell(answers: boolean) {
  const now = answers ? 0 : since || Date.now();
  if (now === since) return;
  since = now;
  for (const listener of hear) listener();
}

/** One try; whoever watches hears whether anything answered. */
async function tried(request: Request): Promise<Response> {
  try {
    const answer = await fetch(request);
    tell(!comesAgain(answer) && !answer.headers.has("X-Kept")); // kept on this device: the server is silent
    return answer;
  } catch (error) {
    if (!request.signal.aborted) tell(false);
    throw error;
  }
}

/** `fetch`, for reads as it is, for changes once and only once. */
export async function send(request: Request): Promise<Response> {
  if (request.method === "GET") return tried(request);
  const form = (request.headers.get("Content-Type") ?? "").startsWith("multipart/");
  // A file is no text to know it by: each press of it is its own.
  const body = form ? entryId() : await request.clone().text();
  const print = printOf(`${request.method} ${request.url} ${body}`);
  const key = request.headers.get(HEADER) ?? waiting()[print]?.[0] ?? entryId();
  request.headers.set(HEADER, key);
  keep({ ...waiting(), [print]: [key, Date.now()] });
  const offline = !navigator.onLine;
  for (let attempt = 0; ; attempt++) {
    const wait = PAUSES_MS[attempt];
    try {
      const answer = await tried(request.clone());
      if (!comesAgain(answer) || wait === undefined) {
        if (!comesAgain(answer)) {
          const { [print]: _, ...rest } = waiting();
          keep(rest);
        }
        return answer;
      }
    } catch (error) {
      if (offline && !navigator.onLine && attempt === 0) throw new NotSent();
      if (wait === undefined || request.signal.aborted) throw error;
    }
    await pause(wait);
  }
}
