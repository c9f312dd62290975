import { against, cell, expect, publish, retype } from "./app";

const test = against("serve");
test.describe.configure({ mode: "serial" });

test("an empty application says what to do first", async ({ page, goto }) => {
  await goto("/");
  await expect(page.getByRole("heading", { name: "Nothing is here yet" })).toBeVisible();
  for (const [name, text] of [
    ["Transactions", "No transaction fits"],
    ["Dead letters", "No dead letters"],
    ["Queues", "No queue and no topic yet"],
    ["Connections", "No connection yet"],
    ["Stand-ins", "No stand-in yet"],
  ] as const) {
    await page.getByRole("link", { name, exact: true }).click();
    await expect(page.getByText(text)).toBeVisible();
  }
});

test("a flow is started, keeps what comes in as samples, and goes live", async ({ page, goto, app }) => {
  await goto("/flows");
  await page.getByRole("button", { name: "Start a flow" }).first().click();
  await page.getByLabel("Title", { exact: true }).fill("Room bookings");
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await expect(page.getByRole("heading", { name: "Room bookings" })).toBeVisible();
  const posted = await page.request.post(`${app.base}/in/room-bookings`, { data: { room: "R1", hours: 2 } });
  expect(posted.status()).toBe(202);
  await expect(page.getByRole("button", { name: /received/ })).toBeVisible();
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByPlaceholder("What should it do?").fill("answer");
  await page.keyboard.press("Enter");
  await retype(page, "Text", '{"booked": "${body.room}", "until": ${body.hours + 9}}');
  await expect(cell(page, "answer", 0)).toHaveText("200");
  await publish(page);
  await expect(page.getByText("Version 1 is live")).toBeVisible();
  const answer = await page.request.post(`${app.base}/in/room-bookings`, { data: { room: 'say "hi"', hours: 3 } });
  expect(answer.status()).toBe(200);
  expect(await answer.json()).toEqual({ booked: 'say "hi"', until: 12 });
});

test("the demo is loaded with one click", async ({ page, goto }) => {
  await goto("/stand-ins");
  await page.getByRole("button", { name: "Load the demo" }).click();
  await expect(page.getByRole("button", { name: /^Shelf printers/ })).toBeVisible({ timeout: 30_000 });
  await goto("/flows");
  await expect(page.getByRole("link", { name: "Interloan asks" })).toBeVisible();
});

test("ten thousand transactions are a list like any other", async ({ page, goto, app }) => {
  const flow = "readyferry: flow/1\nname: many\nintake: {kind: load, format: json}\nsteps: [{id: n, kind: note, text: seen}]\n";
  await page.request.put(`${app.base}/api/v1/flows/many`, { headers: { "content-type": "application/yaml" }, data: flow });
  await page.request.post(`${app.base}/api/v1/flows/many/publish`);
  const lines = '{"room": "R", "hours": 1}\n'.repeat(10_000);
  const added = await page.request.post(`${app.base}/api/v1/loads?flow=many&format=jsonl`, { headers: { "content-type": "application/x-ndjson" }, data: lines });
  const load = `${app.base}/api/v1/loads/${(await added.json()).id}`;
  const state = async () => (await (await page.request.get(load)).json()).state;
  await expect.poll(state).toBe("ready");
  await page.request.post(`${load}/start`);
  await expect.poll(state, { timeout: 80_000 }).toBe("done");
  await goto("/transactions");
  const grid = page.getByRole("grid", { name: "Transactions" });
  await expect(grid.getByRole("row").first()).toBeVisible();
  for (let n = 0; n < 12; n++) {
    const height = await grid.evaluate((g) => {
      g.scrollTo(0, g.scrollHeight);
      return g.scrollHeight;
    });
    await expect.poll(() => grid.evaluate((g) => g.scrollHeight), { intervals: [20] }).toBeGreaterThan(height);
  }
  await expect.poll(() => grid.getByRole("row").count()).toBeLessThan(120);
  await expect.poll(() => grid.evaluate((g) => g.scrollHeight)).toBeGreaterThan(31 * 500);
  // News does not move what is being read.
  const before = await grid.evaluate((g) => g.scrollTop);
  await page.request.post(`${app.base}/in/room-bookings`, { data: { room: "R", hours: 1 } });
  await expect(page.getByRole("button", { name: /newer, show/ })).toBeVisible();
  expect(await grid.evaluate((g) => g.scrollTop)).toBe(before);
});
