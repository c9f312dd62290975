import { against, cell, expect, retype } from "./app";

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
  await page.getByRole("button", { name: "Publish version 1" }).click();
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
  const body = JSON.stringify({ room: "R", hours: 1 });
  for (let n = 0; n < 10_000; n += 100) {
    await Promise.all(Array.from({ length: 100 }, () => fetch(`${app.base}/in/room-bookings`, { method: "POST", body, headers: { "Content-Type": "application/json" } }).then((r) => r.arrayBuffer())));
  }
  await goto("/transactions");
  const grid = page.getByRole("grid", { name: "Transactions" });
  await expect(grid.getByRole("row").first()).toBeVisible();
  for (let n = 0; n < 12; n++) {
    await grid.evaluate((g) => g.scrollTo(0, g.scrollHeight));
    await page.waitForTimeout(150);
  }
  expect(await grid.getByRole("row").count()).toBeLessThan(120);
  expect(await grid.evaluate((g) => g.scrollHeight)).toBeGreaterThan(31 * 500);
  // News does not move what is being read.
  const before = await grid.evaluate((g) => g.scrollTop);
  await fetch(`${app.base}/in/room-bookings`, { method: "POST", body, headers: { "Content-Type": "application/json" } });
  await expect(page.getByRole("button", { name: /newer, show/ })).toBeVisible();
  expect(await grid.evaluate((g) => g.scrollTop)).toBe(before);
});
