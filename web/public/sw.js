// Keeps the page and what was last seen on this device, so that Aldrip opens and the sheets work without a signal.
// Nothing is changed through here: what is done without a signal waits in the page and is sent by it.
const SHELL = "aldrip-shell";
const DATA = "aldrip-data";
const PATIENCE_MS = 6000;
const MOST_ROWS = 400;
const MOST_BYTES = 6_000_000;
const PAPER = /\.pdf$|\/export$|\/archive|\/backups\/|\/csv$/;

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

/** The network, unless it is silent for too long. */
function soon(request) {
  return new Promise((done, fail) => {
    const late = setTimeout(() => fail(new Error("silent")), PATIENCE_MS);
    fetch(request).then(
      (answer) => [clearTimeout(late), done(answer)],
      (error) => [clearTimeout(late), fail(error)],
    );
  });
}

/** An answer as it was kept, with the hour at which it was. */
async function kept(cache, key) {
  const found = await cache.match(key, { ignoreVary: true });
  if (!found) return undefined;
  const headers = new Headers(found.headers);
  headers.set("X-Kept", found.headers.get("Date") ?? "1");
  return new Response(found.body, { status: found.status, statusText: found.statusText, headers });
}

async function page(request) {
  const cache = await caches.open(SHELL);
  try {
    const answer = await soon(request);
    if (answer.ok) await cache.put("/", answer.clone());
    return answer.status >= 502 ? ((await cache.match("/")) ?? answer) : answer;
  } catch (error) {
    const found = await cache.match("/");
    if (found) return found;
    throw error;
  }
}

/** Hashed files never change: the first copy is good for ever; old ones go when there are many. */
async function file(request) {
  const cache = await caches.open(SHELL);
  const found = await cache.match(request);
  if (found) return found;
  const answer = await fetch(request);
  if (answer.ok) {
    await cache.put(request, answer.clone());
    const keys = await cache.keys();
    if (keys.length > MOST_ROWS) await cache.delete(keys.find((one) => new URL(one.url).pathname !== "/"));
  }
  return answer;
}

async function data(request) {
  const cache = await caches.open(DATA);
  try {
    const answer = await soon(request);
    if (answer.status >= 502) return (await kept(cache, request.url)) ?? answer;
    const short = Number(answer.headers.get("Content-Length") ?? 0) < MOST_BYTES;
    if (answer.ok && short && (answer.headers.get("Content-Type") ?? "").includes("json")) {
      await cache.put(request.url, answer.clone());
      const keys = await cache.keys();
      if (keys.length > MOST_ROWS) await cache.delete(keys[0]);
    }
    return answer;
  } catch (error) {
    const found = await kept(cache, request.url);
    if (found) return found;
    throw error;
  }
}

self.addEventListener("fetch", (event) => {
  const { request } = event;
  const url = new URL(request.url);
  if (request.method !== "GET" || url.origin !== self.location.origin) return;
  if (request.mode === "navigate") {
    if (!url.pathname.startsWith("/api/")) event.respondWith(page(request));
  } else if (url.pathname.startsWith("/assets/")) event.respondWith(file(request));
  else if (url.pathname.startsWith("/api/") && !PAPER.test(url.pathname)) event.respondWith(data(request));
});
