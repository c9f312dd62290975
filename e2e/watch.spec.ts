import { against, expect, publish } from "./app";

const test = against("demo", "--trickle", "0");
test.describe.configure({ mode: "default" });

const headers = { "x-api-key": "larkfield-demo-key", "content-type": "application/json" };
let n = 0;
const hold = (request: string, more: object = {}) => ({
  data: { request, patron: { card: "LC 4417 203" }, item: "1", format: "book", copies: [{ branch: "MARL", shelf: "F" }], ...more },
  headers: { ...headers, "request-id": `watch-${n++}` },
});

test("a transaction is found by its reference and shown step by step", async ({ page, goto, app }) => {
  await page.request.post(`${app.base}/in/hold-requests/web`, hold("HR-501", { format: "ebook" }));
  await goto("/flows");
  await expect(page.getByRole("heading", { name: "Flows", exact: true })).toBeVisible();
  await page.keyboard.press("/");
  await page.getByPlaceholder(/A flow, a reference/).fill("HR-501");
  await page.getByText("transaction of hold-requests").click();
  await expect(page.getByTestId("state")).toContainText("delivered");
  const sheet = page.getByTestId("sheet");
  await expect(sheet.locator('[data-path="by-home.digital/lend"]')).toContainText("201, 1st try");
  await expect(sheet.locator('[data-path="by-home.digital/lent"]')).toContainText("lent as DL-");
  await sheet.locator("[data-path=slip] [role=gridcell]").nth(1).click();
  await expect(page.getByTestId("before")).toContainText('"card": "LC 4417 203"');
  await expect(page.getByTestId("after")).toContainText('"card": "LC4417203"');
  await page.getByRole("button", { name: "Keep as sample" }).click();
  await expect(page.getByText("HR-501 is a sample of hold-requests now")).toBeVisible();
});

test("the list is filtered, and the filter stands in the address", async ({ page, goto, app }) => {
  await page.request.post(`${app.base}/in/hold-requests/web`, hold("HR-502", { status: "cancelled" }));
  await goto("/transactions");
  await expect(page.locator("[data-reference=HR-502]")).toContainText("was cancelled by the patron");
  await page.getByLabel("State").selectOption("turned away");
  await expect(page).toHaveURL(/state=turned\+away/);
  await expect(page.locator("[data-reference=HR-501]")).toHaveCount(0);
  await page.reload();
  await expect(page.locator("[data-reference=HR-502]")).toBeVisible();
  await page.getByLabel("State").selectOption("");
  await page.getByLabel("Filter", { exact: true }).fill("reference:HR-501");
  await expect(page.locator("[data-reference=HR-501]")).toBeVisible();
  await expect(page.locator("[data-reference=HR-502]")).toHaveCount(0);
  await page.getByLabel("Filter", { exact: true }).fill("");
  await page.getByRole("grid", { name: "Transactions" }).focus();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/transactions\/[0-9a-f-]{36}/);
});

test("a span of time is dragged out", async ({ page, goto }) => {
  await goto("/transactions");
  const strip = page.getByLabel("When they came");
  const box = await strip.boundingBox();
  if (!box) throw new Error("no strip");
  await page.mouse.move(box.x + 200, box.y + 30);
  await page.mouse.down();
  for (let x = 200; x <= 500; x += 50) await page.mouse.move(box.x + x, box.y + 30);
  await page.mouse.up();
  await expect(page).toHaveURL(/from=.*to=/);
  await expect(page.getByText("No transaction fits")).toBeVisible();
  await page.getByRole("button", { name: /to .* ×/ }).click();
  await expect(page.locator("[data-reference=HR-501]")).toBeVisible();
});

test("a queue is looked into without taking anything", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/stand-ins/partner-libraries/behaviour`, { data: { refuse: -1 } });
  for (let i = 0; i < 6; i++) await page.request.post(`${app.base}/in/hold-requests/desk`, hold(`HR-60${i}`, { copies: [] }));
  await goto("/queues");
  const row = page.locator("[data-queue=interloan-asks]");
  await expect(row.locator("td").nth(3)).toHaveText("1");
  await expect(row.locator("td").nth(2)).toHaveText("5");
  await row.getByRole("button", { name: "look inside" }).click();
  const inside = page.getByRole("region", { name: "Messages of interloan-asks" });
  await expect(inside.locator("details")).toHaveCount(6);
  await expect(inside).toContainText("in flight");
  await page.request.put(`${app.base}/api/v1/stand-ins/partner-libraries/behaviour`, { data: { delay: 1 } });
  await expect(inside).toContainText("The queue is empty", { timeout: 60_000 });
});

test("a queue is paused, and its messages are purged with a named loss", async ({ page, goto, app }) => {
  await goto("/queues");
  const row = page.locator("[data-queue=interloan-asks]");
  await row.getByRole("button", { name: "pause" }).press("Enter");
  await expect(row).toContainText("paused since");
  for (let i = 0; i < 3; i++) await page.request.post(`${app.base}/in/hold-requests/desk`, hold(`HR-61${i}`, { copies: [] }));
  await expect(row.locator("td").nth(2)).toHaveText("3");
  await row.getByRole("button", { name: "look inside" }).press("Enter");
  const inside = page.getByRole("region", { name: "Messages of interloan-asks" });
  await inside.getByRole("checkbox").nth(1).check();
  await inside.getByRole("button", { name: "Purge 1 chosen" }).press("Enter");
  const dialog = page.getByRole("dialog", { name: "Purge 1 message" });
  await expect(dialog).toContainText("This message will not be worked on: HR-611.");
  await dialog.getByLabel("Why").fill("asked twice");
  await dialog.getByRole("button", { name: "Purge" }).press("Enter");
  await expect(page.getByText("1 message purged")).toBeVisible();
  await expect(row.locator("td").nth(2)).toHaveText("2");

  await test.step("the others are moved to another queue, whose flow takes them", async () => {
    const other = { readyferry: "flow/1", name: "by-hand", intake: { kind: "queue", queue: "by-hand" }, steps: [{ id: "n", kind: "note", text: "by hand" }] };
    await page.request.put(`${app.base}/api/v1/flows/by-hand`, { data: other });
    await page.request.post(`${app.base}/api/v1/flows/by-hand/publish`);
    await page.reload();
    await inside.getByRole("button", { name: "Move all 2" }).click();
    await page.getByRole("dialog").getByLabel("To the queue").selectOption("by-hand");
    await page.getByRole("dialog").getByRole("button", { name: "Move" }).click();
    await expect(page.getByText("2 messages moved to by-hand")).toBeVisible();
    await expect(inside).toContainText("The queue is empty");
  });
  await row.getByRole("button", { name: "resume" }).click();
  await expect(row).not.toContainText("paused");
  await goto("/transactions?reference=HR-611&state=turned+away");
  await expect(page.getByText("purged from the queue interloan-asks: asked twice").first()).toBeVisible();
});

test("a waiting delivery is tried at once when a person asks", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/stand-ins/digital-lender/behaviour`, { data: { outUntil: new Date(Date.now() + 60_000).toISOString() } });
  await page.request.post(`${app.base}/in/hold-requests/web`, hold("HR-503", { format: "ebook" }));
  await goto("/transactions");
  await page.locator("[data-reference=HR-503]", { hasText: "waiting" }).click();
  await expect(page.getByTestId("tries")).toContainText("as Retry-After asks");
  await page.request.put(`${app.base}/api/v1/stand-ins/digital-lender/behaviour`, { data: {} });
  await page.getByRole("button", { name: "Try now" }).click();
  await expect(page.getByTestId("state")).toContainText("delivered");
});

test("dead letters are discarded with a named loss", async ({ page, goto, app }) => {
  for (const r of ["HR-701", "HR-702"]) await page.request.post(`${app.base}/in/hold-requests/web`, hold(r, { copies: [{ branch: "STOW" }] }));
  await goto("/dead-letters");
  await expect(page.getByText("body.copies[0].shelf is missing").first()).toBeVisible();
  await expect(page.getByRole("grid")).toContainText("HR-702");
  await page.getByRole("button", { name: /^Discard all 2/ }).click();
  await expect(page.getByRole("dialog")).toContainText("HR-701, HR-702");
  await page.getByRole("dialog").getByLabel("Why").fill("asked again at the desk");
  await page.getByRole("dialog").getByRole("button", { name: "Discard" }).click();
  await expect(page.getByTestId("report")).toContainText("2 discarded");
  await goto("/transactions?reference=HR-701");
  await expect(page.locator("[data-reference=HR-701]").filter({ hasText: "turned away" })).toContainText("discarded: ");
});

test("what the help says is there", async ({ page, goto }) => {
  await goto("/help");
  for (const kind of ["Validate", "Set", "Map", "Filter", "Route", "Deliver", "Answer", "Note"]) {
    await expect(page.getByRole("heading", { name: kind, exact: true })).toBeVisible();
  }
  await expect(page.getByText("parseJson(string) → any")).toBeVisible();
  for (const part of ["Contracts of partners, and SOAP", "Databases", "Mail mail", "TCP and MLLP tcp", "Object storage objects"]) {
    await expect(page.getByRole("heading", { name: part, exact: true })).toBeVisible();
  }
  await page.getByRole("link", { name: "Flows", exact: true }).click();
  await page.keyboard.press("?");
  await expect(page.getByRole("dialog")).toContainText("find a flow");
});

test("anything is found from the keyboard: flows, references, commands", async ({ page, goto }) => {
  await goto("/help");
  await expect(page.getByRole("heading", { name: "Help" })).toBeVisible(); // keys are heard from here on
  await page.keyboard.press("/");
  await page.keyboard.type("interloan");
  await expect(page.getByRole("option", { name: "Interloan asks" })).toHaveAttribute("aria-selected", "true");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Interloan asks" })).toBeVisible();
  await page.keyboard.press("/");
  await page.keyboard.type("start a flow");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("dialog")).toContainText("Messages come in by");
  await page.getByRole("button", { name: "Not now" }).click();
  await expect(page).toHaveURL(/\/flows$/);
});

test("a topic is looked into, kept and rewound, and a new reader begins where it says", async ({ page, goto, app }) => {
  const scan = (n: number) =>
    page.request.post(`${app.base}/in/returns/STOW`, {
      headers: { "x-api-key": "larkfield-demo-key" },
      data: { scan: `RS-${n}`, item: "31408-20931-7", home: "MARL" },
    });
  for (const n of [1, 2, 3]) expect((await scan(n)).status()).toBe(202);
  await goto("/queues");
  const vans = page.locator("[data-subscription='returns/vans']");
  await expect(vans).toContainText("at offset 3 of 3");
  await expect(vans.locator("td").nth(2)).toHaveText("0");
  await test.step("a paused reader falls behind, and its lag is shown", async () => {
    await page.request.post(`${app.base}/api/v1/flows/totes/pause`);
    await vans.getByRole("button", { name: "rewind" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("To").selectOption("offset");
    await dialog.getByLabel("Offset").fill("9");
    await dialog.getByLabel("Offset").press("Enter");
    await expect(dialog.getByRole("alert")).toContainText("holds the offsets from 0 to 2");
    await dialog.getByLabel("Offset").fill("1");
    await dialog.getByLabel("Offset").press("Enter");
    await expect(vans).toContainText("at offset 1 of 3");
    await expect(vans.locator("td").nth(2)).toHaveText("2");
  });
  await test.step("its log says who has read what", async () => {
    await page.locator("[data-topic=returns]").getByRole("button", { name: "look inside" }).click();
    const inside = page.getByRole("region", { name: "Messages of returns" });
    await expect(inside.getByText("circulation: read, pickups: read, vans: not yet").first()).toBeVisible();
    await inside.getByText("RS-3", { exact: true }).click();
    await expect(inside).toContainText('"at": "STOW"');
  });
  await test.step("what is kept is set, and what is not read stays", async () => {
    await page.locator("[data-topic=returns]").getByRole("button", { name: "keep" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Up to so many MiB").fill("0.0001");
    await dialog.getByLabel("drop even what").check();
    await expect(dialog).toContainText("vans would lose what they have not read");
    await dialog.getByLabel("drop even what").uncheck();
    await dialog.getByRole("button", { name: "Keep so" }).click();
    await expect(page.locator("[data-topic=returns]")).toContainText("2 messages");
  });
  await test.step("resumed, it reads on", async () => {
    await page.request.post(`${app.base}/api/v1/flows/totes/resume`);
    await expect(vans).toContainText("at offset 3 of 3");
  });
  await test.step("a flow that begins at the end gets only what comes", async () => {
    await goto("/flows");
    await page.getByRole("button", { name: "Start a flow" }).first().click();
    await page.getByLabel("Title", { exact: true }).fill("Return counts");
    await page.getByLabel("Messages come in by").selectOption("topic");
    await page.getByLabel("Topic", { exact: true }).fill("returns");
    await page.getByRole("button", { name: "Start", exact: true }).click();
    await page.getByLabel("A new subscription begins").selectOption("latest");
    await expect(page.getByLabel("A new subscription begins")).toHaveValue("latest");
    await page.waitForResponse((r) => r.request().method() === "PUT" && r.url().includes("/flows/return-counts"));
    await publish(page);
    await expect(page.getByText("live: version 1")).toBeVisible();
    await goto("/queues");
    await expect(page.locator("[data-subscription='returns/return-counts']")).toContainText("at offset 3 of 3");
  });
});
