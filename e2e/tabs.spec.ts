import { against, cell, expect } from "./app";

const test = against("demo", "--trickle", "0");

test("ten tabs share one stream of events, and none waits for another", async ({ context, app }) => {
  const tabs = [];
  for (let i = 0; i < 10; i++) {
    const tab = await context.newPage();
    tabs.push(tab);
    await tab.goto(`${app.base}/flows`);
    await expect(tab.getByRole("link", { name: "Hold requests" })).toBeVisible({ timeout: 10_000 });
  }
  // What changes at the server is seen in all of them, though nobody looks at most.
  const paused = await context.request.post(`${app.base}/api/v1/flows/hold-requests/pause`);
  expect(paused.ok()).toBe(true);
  for (const tab of tabs) await expect(tab.getByRole("row", { name: /Hold requests/ })).toContainText("paused");
  for (const tab of tabs.slice(0, 9)) await tab.close();
  const last = tabs[9];
  if (!last) throw new Error("there is no tab");
  await context.request.post(`${app.base}/api/v1/flows/hold-requests/resume`);
  await expect(last.getByRole("row", { name: /Hold requests/ })).not.toContainText("paused");
  await last.getByRole("link", { name: "Hold requests" }).click();
  await expect(cell(last, "slip", 0)).toBeVisible();
});
