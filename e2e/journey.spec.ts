import { against, expect } from "./app";

const test = against("serve");

test("a message is followed over four flows, and told beside one that came through", async ({ page, goto, app }) => {
  const put = async (name: string, document: object) => {
    const saved = await page.request.put(`${app.base}/api/v1/flows/${name}`, { data: { readyferry: "flow/1", name, ...document } });
    expect(saved.ok(), await saved.text()).toBe(true);
    const live = await page.request.post(`${app.base}/api/v1/flows/${name}/publish`, { data: {} });
    expect(live.ok(), await live.text()).toBe(true);
  };
  await put("shelf", { title: "Shelf", intake: { kind: "queue", queue: "shelf" }, steps: [{ id: "place", kind: "set", vars: { at: "body.shelf" } }] });
  await put("sorter", { title: "Sorter", intake: { kind: "topic", topic: "scans", subscription: "sorter" }, steps: [{ id: "to-shelf", kind: "deliver", to: { queue: "shelf" } }] });
  await put("scanner", { title: "Scanner", intake: { kind: "queue", queue: "scans" }, steps: [{ id: "tell", kind: "deliver", to: { topic: "scans" } }] });
  await put("desk", { title: "Desk", intake: { kind: "webhook", path: "/desk", reference: "body.ref" }, steps: [{ id: "on", kind: "deliver", to: { queue: "scans" } }] });
  await page.request.post(`${app.base}/in/desk`, { data: { ref: "HR-1", shelf: "F" } });
  await page.request.post(`${app.base}/in/desk`, { data: { ref: "HR-2" } });
  await goto("/dead-letters");
  await expect(page.getByText("body.shelf is missing").first()).toBeVisible();
  await page.getByRole("button", { name: "Why not like that one?" }).click();
  await expect(page.getByTestId("parting")).toContainText("They part at place");
  await expect(page.getByTestId("parting")).toContainText('body.shelf is nothing here and "F" there');
  await page.goBack();
  await page.getByRole("grid").focus();
  await page.keyboard.press("Enter");
  await page.getByRole("link", { name: "Its journey" }).click();
  await expect(page.getByRole("heading", { name: "Journey of HR-2" })).toBeVisible();
  const places = page.getByRole("grid", { name: "Where it went" });
  await expect(places.locator("[data-place]")).toHaveCount(4);
  expect(await places.locator("[data-place]").evaluateAll((l) => l.map((e) => e.getAttribute("data-place")))).toEqual(["desk", "scanner", "sorter", "shelf"]);
  await expect(page.getByTestId("sentence")).toContainText("went through Desk, Scanner, Sorter, Shelf; one is a dead letter");
  await expect(page.getByTestId("steps")).toContainText("place");
  // By keys, up to where it came in.
  await places.focus();
  for (let i = 0; i < 3; i++) await page.keyboard.press("ArrowUp");
  await expect(page.getByTestId("steps")).toContainText("on");
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/\/transactions\/[0-9a-f-]{36}$/);
  await expect(page.getByTestId("state")).toContainText("delivered");
});

test("a target is held for maintenance, and let go again", async ({ page, goto, app }) => {
  const printer = { readyferry: "connection/1", name: "printer", kind: "http", address: `${app.base}/healthz` };
  await page.request.put(`${app.base}/api/v1/connections/printer`, { data: printer });
  await page.request.put(`${app.base}/api/v1/flows/slips`, {
    data: { readyferry: "flow/1", name: "slips", intake: { kind: "webhook", path: "/slips" }, steps: [{ id: "d", kind: "deliver", to: "printer", method: "GET" }] },
  });
  await page.request.post(`${app.base}/api/v1/flows/slips/publish`, { data: {} });
  await goto("/connections?open=printer");
  const target = page.getByTestId("target");
  await target.getByRole("button", { name: "Hold for maintenance…" }).click();
  await page.getByRole("dialog").getByLabel("Why").fill("new toner");
  await page.getByRole("dialog").getByRole("button", { name: "Hold it" }).click();
  await expect(target).toContainText("new toner");
  await page.request.post(`${app.base}/in/slips`, { data: {} });
  await expect(target).toContainText("1 wait");
  await expect(target.getByRole("list", { name: "Who waits" })).toContainText("slips");
  await target.getByRole("button", { name: "Let them go again" }).click();
  await expect(target).toContainText("100 % of 1 tries of the last hour were delivered");
});
