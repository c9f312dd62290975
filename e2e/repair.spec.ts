import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import type { APIRequestContext } from "@playwright/test";
import { type App, against, expect } from "./app";

const test = against("serve");

/** A target that counts what comes to it, by path. */
function counting(): Promise<{ server: Server; address: string; times: Map<string, number>; bodies: Map<string, string> }> {
  const times = new Map<string, number>();
  const bodies = new Map<string, string>();
  const server = createServer((req, res) => {
    let body = "";
    req.on("data", (d) => {
      body += d;
    });
    req.on("end", () => {
      const key = `${req.url} ${req.headers["idempotency-key"]}`;
      if (!bodies.has(key)) times.set(req.url ?? "", (times.get(req.url ?? "") ?? 0) + 1); // it tells repeats by their key
      bodies.set(key, body);
      res.end("{}");
    });
  });
  return new Promise((resolve) =>
    server.listen(0, "127.0.0.1", () =>
      resolve({ server, address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, times, bodies }),
    ),
  );
}

const flow = (path: string) => ({
  readyferry: "flow/1",
  name: "slips",
  title: "Slips",
  intake: { kind: "webhook", path: "/slips", reference: "body.ref" },
  steps: [
    { id: "first", kind: "deliver", to: "printer", path: "/first/${body.ref}" },
    { id: "shape", kind: "set", vars: { shelf: path } },
    { id: "second", kind: "deliver", to: "printer", path: "/second/${body.ref}" },
  ],
});

/** Messages that die under version 1, and a version 2 that does not let them. */
async function die(request: APIRequestContext, app: App, address: string, n: number) {
  const ok = async (r: Promise<{ ok(): boolean; text(): Promise<string> }>) => {
    const res = await r;
    expect(res.ok(), await res.text()).toBe(true);
  };
  await ok(request.put(`${app.base}/api/v1/connections/printer`, { data: { readyferry: "connection/1", name: "printer", kind: "http", address } }));
  await ok(request.put(`${app.base}/api/v1/flows/slips`, { data: flow("body.self") }));
  await ok(request.post(`${app.base}/api/v1/flows/slips/publish`, { data: {} }));
  for (let i = 0; i < n; i += 20)
    await Promise.all(
      Array.from({ length: Math.min(20, n - i) }, (_, k) => ok(request.post(`${app.base}/in/slips`, { data: { ref: `S-${i + k}`, shelf: `F KEL ${i + k}` } }))),
    );
  await ok(request.put(`${app.base}/api/v1/flows/slips`, { data: flow("body.shelf") }));
  await ok(request.post(`${app.base}/api/v1/flows/slips/publish`, { data: {} }));
}

test("300 letters are repaired with one change, and the application is killed in the middle", async ({ page, goto, app }) => {
  const target = await counting();
  await die(page.request, app, target.address, 300);
  await expect.poll(async () => (await (await page.request.get(`${app.base}/api/v1/dead-letters/causes`)).json())[0]?.count).toBe(300);
  await goto("/dead-letters");
  await expect(page.getByTestId("evidence")).toContainText("no message has come through under version 1");
  await expect(page.getByText("1 of 300 letters of slips")).toBeVisible();
  const all = page.getByRole("region", { name: "Repair all" });
  const preview = page.getByTestId("preview-all");
  await expect(preview).toContainText("300 of 300 come through under the live version, 0 under their own");
  await expect(preview).toContainText("300 deliveries were made before and are not made again");
  await expect(all.getByRole("button", { name: "Resend all 300 under version 2" })).toBeEnabled();
  // Every letter is reachable, by keys too.
  await page.getByRole("grid").focus();
  for (let i = 0; i < 12; i++) await page.keyboard.press("ArrowRight");
  await expect(page.getByText("13 of 300 letters of slips")).toBeVisible();
  // One change in all of them.
  await all.getByLabel("How they are changed").selectOption("find and replace");
  await all.getByLabel("Find", { exact: true }).fill("F KEL");
  await all.getByLabel("Put in its place").fill("F LAR");
  await all.getByLabel("So many a second").fill("100");
  await all.getByLabel("Why").fill("the shelf was renamed");
  await all.getByRole("button", { name: "Resend all 300 under version 2" }).click();
  await expect(page).toHaveURL(/\/dead-letters\/repairs\/[0-9a-f-]{36}$/);
  const path = new URL(page.url()).pathname;
  await expect(page.getByTestId("report")).toContainText("running");
  await expect.poll(() => [...target.times.keys()].filter((k) => k.startsWith("/second/")).length).toBeGreaterThan(20);
  await app.kill();
  const before = [...target.times.keys()].filter((k) => k.startsWith("/second/")).length;
  expect(before).toBeLessThan(300);
  await app.start("serve");
  await goto(path);
  await expect(page.getByTestId("report")).toContainText("done, 300 of 300 gone through");
  await expect(page.getByTestId("report")).toContainText("300 delivered");
  expect(target.times.size).toBe(600);
  expect([...target.times.values()].every((n) => n === 1)).toBe(true);
  expect([...target.bodies].filter(([k]) => k.startsWith("/second/")).every(([, b]) => b.includes("F LAR"))).toBe(true);
  await goto("/dead-letters");
  await expect(page.getByText("No dead letters")).toBeVisible();
  target.server.close();
});

test("what is written into a letter stays, says what changes, and a discard is taken back", async ({ page, goto, app }) => {
  const target = await counting();
  await die(page.request, app, target.address, 3);
  await goto("/dead-letters");
  await page.getByRole("button", { name: "This one" }).click();
  const editor = page.getByRole("textbox", { name: "Message", exact: true });
  await expect(editor).toContainText('"ref"');
  // Tab leaves the editor, and marks nothing as repaired.
  await editor.click();
  await page.keyboard.press("Tab");
  await expect(editor).not.toBeFocused();
  await expect(page.getByRole("region", { name: "Repair" })).toContainText("edit it to repair it");
  await editor.click();
  await page.keyboard.press("Control+a");
  await page.keyboard.insertText('{"ref": "S-0", "shelf": "F ELM", "self": "F ELM"}');
  await expect(page.getByTestId("difference")).toContainText("F ELM");
  await expect(page.getByTestId("preview")).toContainText("delivered, if the targets take it");
  await page.getByRole("grid").focus();
  await page.keyboard.press("ArrowRight");
  await expect(editor).not.toContainText("F ELM");
  await page.keyboard.press("ArrowLeft");
  await expect(editor).toContainText("F ELM");
  await page.getByRole("form", { name: "Note" }).getByRole("textbox").fill("@ Ines");
  await page.getByRole("form", { name: "Note" }).getByRole("button", { name: "Keep" }).click();
  await expect(page.getByTestId("history")).toContainText("given to Ines");
  await page.getByRole("button", { name: "Discard…" }).first().click();
  await page.getByLabel("Why").fill("asked again at the desk");
  await page.getByRole("dialog").getByRole("button", { name: "Discard" }).click();
  await expect(page.getByText(/of 2 letters of slips/)).toBeVisible();
  await page.getByRole("link", { name: "Closed letters" }).click();
  await page.getByRole("button", { name: "Take back" }).click();
  await expect(page.getByText("Nothing was discarded")).toBeVisible();
  await goto("/dead-letters");
  await expect(page.getByText(/of 3 letters of slips/)).toBeVisible();
  target.server.close();
});

test("whoever has gone on to another page is not taken back by what the page before still writes", async ({ page, goto, app }) => {
  const target = await counting();
  await die(page.request, app, target.address, 3);
  let give = () => {};
  const given = new Promise<void>((is) => {
    give = is;
  });
  // The next page comes late, and the letters stand there until then.
  await page.route(/\/queues[^/]*\.js$/, async (route) => {
    await given;
    await route.continue();
  });
  await goto("/dead-letters");
  await page.getByRole("grid").focus();
  await page.keyboard.press("ArrowRight");
  await page.getByRole("link", { name: "Queues" }).click();
  await expect(page).toHaveURL(/\/queues$/);
  // The letter's place is written into the address 300 ms after the arrow: this timer of the same page ends later.
  await page.evaluate(() => new Promise((is) => setTimeout(is, 500)));
  await expect(page).toHaveURL(/\/queues$/);
  give();
  await expect(page.getByRole("grid")).toHaveCount(0);
  await expect(page).toHaveURL(/\/queues$/);
  target.server.close();
});
