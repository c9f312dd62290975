// Counts the frames that take longer than 50 ms while a sheet of 100 steps and 50 samples is scrolled and walked
// through, beside a sheet of one step and one sample. Run it with
//
//	make build && node bench/frames/frames.mjs
//
// It starts bin/readyferry over an empty folder, drives it in headless Chromium as the browser tests do, and prints a
// line for each sheet and way of moving: frames, those over 50 ms, the longest.
import { spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { createRequire } from "node:module";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const root = join(dirname(fileURLToPath(import.meta.url)), "..", "..");
const { chromium } = createRequire(join(root, "e2e", "package.json"))("@playwright/test");
const data = mkdtempSync(join(tmpdir(), "readyferry-frames-"));
const app = spawn(join(root, "bin", "readyferry"), ["serve", "--without-sign-in", "--data", data, "--listen", "127.0.0.1:0"]);
const base = await new Promise((resolve, reject) => {
  app.stdout.on("data", (d) => {
    const at = /at (http:\S+)/.exec(String(d))?.[1];
    if (at) resolve(at);
  });
  app.on("exit", (code) => reject(new Error(`the application ended with ${code}`)));
});

/** Makes a flow with so many steps, and so many samples of about 2 KB. */
async function make(steps, samples) {
  const name = `sheet-${steps}-${samples}`;
  const list = [{ id: "said", kind: "note", text: "of ${body.id}" }];
  for (let i = 1; i < steps; i++)
    list.push(
      i % 2
        ? { id: `m${i}`, kind: "set", vars: { [`v${i}`]: `body.id + "${i}"` } }
        : { id: `f${i}`, kind: "filter", keep: `body.id != "${i}" && size(body.lines) > 0` },
    );
  const put = (path, body) =>
    fetch(base + path, { method: "PUT", headers: { "content-type": "application/json" }, body: JSON.stringify(body) });
  await put(`/api/v1/flows/${name}`, {
    readyferry: "flow/1",
    name,
    intake: { kind: "webhook", path: `/${name}` },
    steps: list,
  });
  for (let i = 0; i < samples; i++) {
    const lines = Array.from({ length: 24 }, (_, n) => ({ item: `31408-${n}-${i}`, title: `The ${n}th of many`, copies: n }));
    await put(`/api/v1/flows/${name}/samples/s${i}`, {
      body: JSON.stringify({ id: `S-${i}`, lines }),
      headers: { "content-type": "application/json" },
      params: {},
      query: {},
    });
  }
  return name;
}

/** Counts frames from now until it is told to stop. */
const begin = () => {
  const w = window;
  w.frames = [];
  let last = performance.now();
  const next = (now) => {
    w.frames.push(now - last);
    last = now;
    w.counting = requestAnimationFrame(next);
  };
  w.counting = requestAnimationFrame(next);
};
const end = () => {
  cancelAnimationFrame(window.counting);
  return window.frames.slice(1);
};

const browser = await chromium.launch({ executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium", args: ["--no-sandbox"] });
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
let over = 0;
for (const [steps, samples] of [
  [1, 1],
  [100, 50],
]) {
  await page.goto(`${base}/flows/${await make(steps, samples)}`);
  const sheet = page.getByTestId("sheet");
  await sheet.getByText("of S-0").first().waitFor();
  await page.waitForTimeout(1500); // what is loaded behind the first look is there
  const box = await sheet.boundingBox();
  await page.mouse.move(box.x + 700, box.y + 150);
  const moves = {
    "the wheel, down and up": async () => {
      for (let i = 0; i < 40; i++) {
        await page.mouse.wheel(0, i < 20 ? 160 : -160);
        await page.waitForTimeout(30);
      }
    },
    "the wheel, to the side": async () => {
      for (let i = 0; i < 40; i++) {
        await page.mouse.wheel(i < 20 ? 240 : -240, 0);
        await page.waitForTimeout(30);
      }
    },
    "the arrows": async () => {
      await sheet.focus();
      for (let i = 0; i < 60; i++) await page.keyboard.press(i < 30 ? "ArrowDown" : "ArrowUp", { delay: 20 });
    },
  };
  for (const [how, move] of Object.entries(moves)) {
    await page.evaluate(begin);
    await move();
    await page.waitForTimeout(200);
    const frames = await page.evaluate(end);
    const slow = frames.filter((f) => f > 51); // three frames of a screen are 50.0 ms
    if (steps > 1) over += slow.length;
    console.log(
      `${steps} steps × ${samples} samples, ${how}: ${frames.length} frames, ${slow.length} over 50 ms, the longest ${Math.max(...frames).toFixed(0)} ms`,
    );
  }
}
await browser.close();
app.kill("SIGTERM");
await new Promise((r) => app.once("exit", r));
rmSync(data, { recursive: true, force: true });
console.log(`${over} frames over 50 ms on the large sheet`);
