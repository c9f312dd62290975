import { against, expect } from "./app";

const test = against("demo", "--trickle", "0");

test("an outage is played through, with another plan beside it", async ({ page, goto, app }) => {
  await page.request.post(`${app.base}/in/hold-requests/web`, {
    headers: { "x-portal-key": "kiosk-key-for-the-demo", "request-id": "drill-1", "content-type": "application/json" },
    data: { request: "HR-31", patron: { card: "LC 1" }, item: "31408", format: "book", copies: [{ branch: "MARL", shelf: "F" }] },
  });
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
  await expect(drill.getByRole("row", { name: /^Dead letters/ }).getByRole("cell").nth(2)).toHaveText("0");
  await page.getByLabel("Messages an hour").fill("0");
  await expect(drill).toContainText("the rate must be more than 0");
});
