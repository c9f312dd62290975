import { against, expect } from "./app";

const headers = { "x-api-key": "larkfield-demo-key", "content-type": "application/json" };

const test = against("demo", "--trickle", "0");

test("an outage is played through, with another plan beside it", async ({ page, goto, app }) => {
  const sent = await page.request.post(`${app.base}/in/hold-requests/web`, {
    headers: { ...headers, "request-id": "drill-1" },
    data: { request: "HR-31", patron: { card: "LC 4417 203" }, item: "1", format: "book", copies: [{ branch: "MARL", shelf: "F" }] },
  });
  expect(sent.ok()).toBe(true);
  await goto("/flows/hold-requests");
  await page.getByRole("button", { name: "More", exact: true }).click();
  await page.getByRole("menuitem", { name: /Outage drill/ }).click();
  const drill = page.getByTestId("drill");
  await expect(page.getByText(/^Measured over/)).toBeVisible();
  await page.getByLabel("Messages an hour").fill("36000");
  await page.getByLabel("A try takes, ms").fill("50");
  await expect(drill.getByRole("row", { name: /^Dead letters/ })).toContainText(/[1-9]/);
  await page.getByLabel("another plan beside it").check();
  await page.getByLabel("Tries", { exact: true }).fill("40");
  await page.getByLabel("Breaker behind failures").fill("2");
  await page.getByLabel("Probe every, s").fill("5");
  await expect(drill.getByRole("row", { name: /^Dead letters/ }).getByRole("cell").nth(2)).toHaveText(/^\d{1,2}$/);
  await page.getByLabel("Messages an hour").fill("0");
  await expect(drill).toContainText("the rate must be more than 0");
});
