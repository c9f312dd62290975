import { against, expect } from "./app";

const test = against("demo", "--trickle", "0");
test.describe.configure({ mode: "default" });

const headers = { "x-api-key": "larkfield-demo-key", "content-type": "application/json" };

test("how long and how much a flow keeps is set on its first row", async ({ page, goto, app }) => {
  await goto("/flows/kiosk-payments");
  await page.getByText("Kept, and how much is taken").click();
  await page.getByLabel("Kept for").selectOption("90");
  await page.getByLabel("Kept at most").fill("2GiB");
  await page.getByLabel("Messages a second").fill("40");
  await page.getByLabel("Weight").fill("3");
  const draft = async () => (await (await page.request.get(`${app.base}/api/v1/flows/kiosk-payments`)).json()).document;
  await expect.poll(async () => (await draft()).retain).toEqual({ days: 90, bytes: "2GiB" });
  await expect.poll(async () => (await draft()).limits).toEqual({ "per-second": 40 });
  await expect.poll(async () => (await draft()).weight).toBe(3);
  await page.getByLabel("Kept at most").fill("much");
  await expect(page.getByText('"much" is no size; write it as 512KiB, 10GiB or 1048576').first()).toBeVisible();
  await page.getByLabel("Kept at most").fill("");
  await page.getByLabel("Kept for").selectOption("");
  await expect.poll(async () => (await draft()).retain).toBeUndefined();
});

test("without room nothing is taken in, and Flows says so", async ({ page, goto, app }) => {
  await goto("/flows");
  await page.getByTestId("room").click();
  const dialog = page.getByRole("dialog", { name: "Room for messages" });
  await dialog.getByLabel("The journal may have").fill("lots");
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(dialog.getByText("write a size such as 500 MiB or 2 GiB")).toBeVisible();
  await dialog.getByLabel("The journal may have").fill("1 KiB");
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(page.getByTestId("no-room")).toContainText("Nothing is taken in");
  const refused = await page.request.post(`${app.base}/in/hold-requests/web`, { headers, data: {} });
  expect(refused.status()).toBe(429);
  expect(Number(refused.headers()["retry-after"])).toBeGreaterThan(0);
  await page.getByTestId("room").click();
  await dialog.getByLabel("The journal may have").fill("");
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("no-room")).toHaveCount(0);
});
