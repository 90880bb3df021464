// Calls the front end's own functions for the tests: a JSON line in, a JSON line out.
import { createRequire } from "node:module";
import { fileURLToPath, pathToFileURL } from "node:url";
import path from "node:path";
import readline from "node:readline";

import "./browser_stub.mjs";

const here = path.dirname(fileURLToPath(import.meta.url));
const web = path.resolve(here, "../../web");
const { createServer } = await import(pathToFileURL(createRequire(path.join(web, "package.json")).resolve("vite")).href);
const server = await createServer({
  root: web,
  logLevel: "silent",
  server: { middlewareMode: true, hmr: false, ws: false, watch: null, fs: { strict: false } },
  optimizeDeps: { noDiscovery: true },
});
const calls = await server.ssrLoadModule(path.join(here, "calls.ts"));
process.stdout.write(`${JSON.stringify({ ready: Object.keys(calls) })}\n`);
for await (const line of readline.createInterface({ input: process.stdin })) {
  const { name, args } = JSON.parse(line);
  let answer;
  try {
    answer = { value: (await calls[name](...args)) ?? null };
  } catch (error) {
    answer = { error: String(error.message ?? error) };
  }
  process.stdout.write(`${JSON.stringify(answer)}\n`);
}
await server.close();
