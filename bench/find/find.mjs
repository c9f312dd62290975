// Measures how long the server takes to find transactions among a million: lists, filters, words, counts and pages far
// behind. Run it with
//
//	make build && node bench/find/find.mjs [how many [folder]]
//
// It fills a new folder with made-up transactions (some minutes), or takes one that was filled before, serves it, asks
// each forty times after a warm-up, and prints the 50th and the 95th percentile in milliseconds, of whole answers as a
// browser gets them. One message then goes through ten flows, and its journey is asked for as often.
import { spawn, spawnSync } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const program = join(dirname(fileURLToPath(import.meta.url)), "..", "..", "bin", "readyferry");
const many = Number(process.argv[2] ?? 1_000_000);
const was = process.argv[3];
const data = was ?? mkdtempSync(join(tmpdir(), "readyferry-find-"));
if (!was) {
  const filled = spawnSync(program, ["fill", "--data", data, "--transactions", String(many)], { stdio: ["ignore", "ignore", "inherit"] });
  if (filled.status !== 0) process.exit(filled.status ?? 1);
}
const app = spawn(program, ["serve", "--without-sign-in", "--data", data, "--listen", "127.0.0.1:0"]);
const base = await new Promise((resolve, reject) => {
  app.stdout.on("data", (d) => {
    const at = /at (http:\S+)/.exec(String(d))?.[1];
    if (at) resolve(at);
  });
  app.on("exit", (code) => reject(new Error(`the application ended with ${code}`)));
});

const list = "/api/v1/transactions?limit=100&count=true&";
const filter = (text) => `${list}filter=${encodeURIComponent(text)}`;
const some = await (await fetch(`${base}${list}`)).json();
const far = await (await fetch(`${base}/api/v1/transactions?limit=1&to=${encodeURIComponent(new Date(Date.now() - 15 * 864e5).toISOString())}`)).json();
const asks = {
  "the newest": list,
  "of a flow": `${list}flow=hold-requests`,
  "of a flow and a state": `${list}flow=hold-requests&state=dead%20letter`,
  "a page half way back": `${list}after=${far[0].id}`,
  "part of a reference": filter("reference:99999"),
  "one reference by its end": filter(`reference:${some.find((t) => t.reference).reference.slice(-6)}`),
  "words of a reason": filter("cancelled"),
  "a target": filter("target:shelf-printer"),
  "more than two tries": filter("tries:>2"),
  "longer than 200 ms": filter("took:>200ms"),
  "of a flow, dead, of three days": filter("flow:hold-requests state:dead-letter from:3d"),
  "a day last week": filter("from:8d to:7d"),
  "none there are": filter("state:waiting"),
  "not of a flow, four tries": filter("-flow:hold-requests tries:4"),
  "journeys": `${list}journeys=true`,
  "one journey": `/api/v1/transactions/${some[0].id}/journey`,
  "counts of a year": `/api/v1/counts?from=${encodeURIComponent(new Date(Date.now() - 365 * 864e5).toISOString())}`,
};

/** Sends a message through ten flows, each behind the queue of the one before, and gives its transaction. */
async function throughTen() {
  const put = async (path, method, body) => {
    const res = await fetch(base + path, { method, body, headers: { "Content-Type": "application/json" } });
    if (!res.ok) throw new Error(`${path}: ${res.status} ${await res.text()}`);
    return res;
  };
  for (let n = 10; n >= 1; n--) {
    const steps = n < 10 ? [{ id: "on", kind: "deliver", to: { queue: `ten-${n + 1}` } }] : [];
    const intake = n === 1 ? { kind: "webhook", path: "/ten-1" } : { kind: "queue", queue: `ten-${n}` };
    await put(`/api/v1/flows/ten-${n}`, "PUT", JSON.stringify({ readyferry: "flow/1", name: `ten-${n}`, intake, steps }));
    await put(`/api/v1/flows/ten-${n}/publish`, "POST", "{}").catch((e) => {
      if (!String(e).includes("no version")) throw e;
    });
  }
  const { transaction } = await (await put("/in/ten-1", "POST", "{}")).json();
  for (;;) {
    const journey = await (await fetch(`${base}/api/v1/transactions/${transaction}/journey`)).json();
    if (JSON.stringify(journey).includes("ten-10")) return transaction;
    await new Promise((r) => setTimeout(r, 50));
  }
}
asks["a journey through ten flows"] = `/api/v1/transactions/${await throughTen()}/journey`;
let worst = 0;
console.log(`${many} transactions`);
for (const [what, path] of Object.entries(asks)) {
  const took = [];
  for (let i = 0; i < 45; i++) {
    const began = performance.now();
    const res = await fetch(base + path);
    await res.arrayBuffer();
    if (!res.ok) throw new Error(`${path}: ${res.status}`);
    if (i >= 5) took.push(performance.now() - began);
  }
  took.sort((a, b) => a - b);
  const p95 = took[Math.floor(took.length * 0.95)];
  worst = Math.max(worst, p95);
  console.log(`${what.padEnd(34)} ${took[took.length >> 1].toFixed(1).padStart(7)} ms ${p95.toFixed(1).padStart(7)} ms`);
}
console.log(`the slowest 95th percentile: ${worst.toFixed(1)} ms`);
app.kill();
app.on("exit", () => was || rmSync(data, { recursive: true, force: true }));
