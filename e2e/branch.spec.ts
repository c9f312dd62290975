import { against, expect } from "./app";

// The branch Stowmere of the demo is reached by a runner alone, whose line a visitor may cut.
const test = against("demo", "--trickle", "0");

test("slips for the branch wait while its line is cut, and are printed once when it is back", async ({ page, app, goto }) => {
  const headers = { "x-api-key": "larkfield-demo-key" };
  const slip = (n: number) =>
    page.request.post(`${app.base}/in/branch-slips`, { headers, data: { slip: `SL-${n}`, shelf: "LOC 3", title: "Salt Roads" } });
  const states = async () => {
    const all = await page.request.get(`${app.base}/api/v1/transactions?flow=branch-slips`);
    return ((await all.json()) as { reference: string; state: string; tries: number }[]).map((t) => `${t.reference} ${t.state} ${t.tries}`).sort();
  };
  await goto("/connections");
  const row = page.getByRole("row").filter({ hasText: "cut its line" });
  await expect(row).toContainText("there for");
  await slip(1);
  await expect.poll(states).toEqual(["SL-1 delivered 1"]);
  await row.getByRole("button", { name: "cut its line for two minutes" }).focus();
  await page.keyboard.press("Enter");
  const away = page.getByRole("row").filter({ hasText: "away for" }).last();
  await expect(away).toContainText("stowmere");
  await slip(2);
  await expect(away.getByRole("cell").nth(3)).toHaveText("1");
  expect(await states()).toEqual(["SL-1 delivered 1", "SL-2 under way 0"]);
  const waiting = await (await page.request.get(`${app.base}/api/v1/transactions?flow=branch-slips&reference=SL-2`)).json();
  await goto(`/transactions/${waiting[0].id}`);
  await expect(page.getByTestId("state")).toContainText("waits for the runner stowmere, which is away for");
  await goto("/connections");
  // Nobody waits for two minutes in a test: it is cut anew, for a second.
  const again = await page.request.post(`${app.base}/api/v1/demo/cut`, { data: { runner: "stowmere", seconds: 1 } });
  expect(again.ok()).toBe(true);
  await expect(row).toContainText("there for");
  await expect.poll(states).toEqual(["SL-1 delivered 1", "SL-2 delivered 1"]);
});

test("a flow at the branch decides with data that do not leave it", async ({ page, app, goto }) => {
  const headers = { "x-api-key": "larkfield-demo-key" };
  await page.request.post(`${app.base}/in/stowmere-loans`, { headers, data: { request: "SR-1", card: "ST0071", shelf: "LOC 3", title: "Salt Roads" } });
  const rows = async () => (await (await page.request.get(`${app.base}/api/v1/transactions?flow=stowmere-loans`)).json()) as { id: string; state: string }[];
  await expect.poll(async () => (await rows()).map((t) => t.state)).toEqual(["delivered"]);
  // The whole of what is kept here has the answer, and nothing of the borrower.
  const kept = await (await page.request.get(`${app.base}/api/v1/transactions/${(await rows())[0]?.id}`)).text();
  expect(kept).toContain("mayBorrow");
  expect(kept).not.toContain("Imre Quill");
  await goto(`/transactions/${(await rows())[0]?.id}`);
  await expect(page.getByText("at the runner").first()).toBeVisible();
  await goto("/connections");
  const row = page.getByRole("row").filter({ hasText: "cut its line" });
  await expect(row).toContainText("runs stowmere-card");
  // In the form of the step, by the keyboard: a runner whose connections are elsewhere cannot run the flow.
  await goto("/flows/stowmere-loans");
  await page.getByText("at the runner").first().click();
  const at = page.getByLabel("At the runner");
  await expect(at).toHaveValue("stowmere");
  await at.fill("depot");
  await expect(page.getByText(/cannot run at depot: its connection stowmere-cards is not at that runner/).first()).toBeVisible();
});
