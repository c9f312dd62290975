import { against, expect, saved } from "./app";

const test = against("demo", "--trickle", "0");

test("a message is split, a part dies, and is repaired by itself", async ({ page, goto, app }) => {
  const document = `readyferry: flow/1
name: titles
title: Titles
intake: {kind: webhook, path: /titles, format: json, reference: body.request}
steps:
- {id: a, kind: answer, status: 201, text: taken}
`;
  const body = { request: "HR-9", card: "7", titles: [{ item: "a" }, { item: "b" }, { no: "c" }, { item: "d" }] };
  await page.request.put(`${app.base}/api/v1/flows/titles`, { data: document, headers: { "content-type": "application/yaml" } });
  await page.request.put(`${app.base}/api/v1/flows/titles/samples/four`, { data: { body: JSON.stringify(body), headers: { "content-type": "application/json" } } });
  await goto("/flows/titles");
  const sheet = page.getByTestId("sheet");
  await test.step("designed from the keyboard, shown part by part", async () => {
    await sheet.focus();
    await page.keyboard.press("a");
    await page.getByPlaceholder("What should it do?").fill("split");
    await page.keyboard.press("Enter");
    await page.getByTestId("settings").getByLabel("Over").click();
    await page.keyboard.press("ControlOrMeta+a");
    await page.keyboard.type("body.titles");
    await expect(sheet.locator("[data-path=split]")).toContainText("4 parts: 4 delivered");
    await sheet.locator("[data-path='split[]'] [role=gridcell]").first().click();
    await sheet.focus();
    await page.keyboard.press("a");
    await page.getByPlaceholder("What should it do?").fill("deliver");
    await page.keyboard.press("Enter");
    const settings = page.getByTestId("settings");
    await settings.getByLabel("Connection", { exact: true }).fill("shelf-printer");
    await settings.getByLabel("Path").click();
    await page.keyboard.press("ControlOrMeta+a");
    await page.keyboard.type("/MARL/${part.item}");
    await expect(sheet.locator("[data-path='split/deliver']")).toContainText("3 × 200, 1 × part.item is missing");
    await expect(sheet.locator("[data-path=split]")).toContainText("4 parts: 3 delivered, 1 dead letter");
    await sheet.locator("[data-path='split/deliver'] [role=gridcell]").nth(1).click();
    await expect(page.getByTestId("before").locator("[data-name=part]")).toContainText('"item": "a"');
    await page.getByLabel("The next part").click();
    await page.getByLabel("The next part").click();
    await expect(page.getByTestId("part")).toContainText("part 3");
    await expect(page.getByTestId("after")).toContainText("part.item is missing: part has no item; it has no");
  });
  await test.step("live, the whole shows its most troubled part", async () => {
    await saved(page, app, "titles", "/MARL/${part.item}");
    await page.request.post(`${app.base}/api/v1/flows/titles/publish`);
    expect((await page.request.post(`${app.base}/in/titles`, { data: body })).status()).toBe(201);
    await goto("/transactions");
    await page.locator("[data-reference=HR-9]").click();
    await expect(page).toHaveURL(/transactions\/[0-9a-f-]{36}/);
    await expect(page.getByTestId("state")).toContainText("dead letter");
    await expect(page.getByTestId("progress")).toContainText("4 parts");
    await expect(page.getByTestId("progress")).toContainText("3 delivered");
    await expect(page.getByTestId("sheet").locator("[data-path='split/deliver'] [data-reached=true]")).toHaveCount(4);
    await page.getByTestId("progress").getByRole("button", { name: "1 dead letter" }).click();
    await expect(page.getByTestId("sheet").getByRole("columnheader").filter({ hasText: "split 3" })).toBeVisible();
    await expect(page.getByTestId("sheet").getByRole("columnheader").filter({ hasText: "split 1" })).toHaveCount(0);
  });
  await test.step("its dead part is repaired", async () => {
    await page.getByRole("button", { name: "Repair" }).click();
    await expect(page.getByRole("heading", { name: /part.item is missing/ })).toBeVisible();
    const letter = new URL(page.url()).searchParams.get("letter");
    const res = await page.request.post(`${app.base}/api/v1/dead-letters/resend`, { data: { ids: [letter], patch: [{ op: "add", path: "/item", value: "c" }] } });
    expect(res.ok()).toBe(true);
    await goto("/transactions");
    await expect(page.locator("[data-reference=HR-9]")).toContainText("delivered");
  });
});

test("messages are gathered into groups, which are watched and closed", async ({ page, goto, app }) => {
  let n = 0;
  const scan = (home: string, item = `31408-${String(++n).padStart(5, "0")}-7`) =>
    page.request.post(`${app.base}/in/returns/STOW`, { headers: { "x-api-key": "larkfield-demo-key" }, data: { scan: `RS-${1000 + ++n}`, item, home } });
  for (let i = 0; i < 5; i++) await scan("MARL");
  await scan("HART");
  await goto("/queues");
  const marl = page.locator("[data-group=MARL]");
  await expect(marl.locator("td").nth(2)).toHaveText("5");
  await expect(marl).toContainText("1 more");
  await expect(marl).toContainText(/in (19 min|20 min)/);
  await test.step("its members are looked at", async () => {
    await marl.getByRole("button", { name: "look inside" }).click();
    const inside = page.getByRole("region", { name: "Members of the group" });
    await expect(inside.locator("details")).toHaveCount(5);
    await inside.locator("summary").first().press("Enter");
    await expect(inside).toContainText('"home": "MARL"');
  });
  await test.step("the sixth closes it", async () => {
    await scan("MARL");
    await expect(marl).toHaveCount(0);
    await goto("/transactions?flow=totes");
    await page.locator("[data-reference=MARL]").click();
    await expect(page.getByTestId("state")).toContainText("delivered");
    await expect(page.getByTestId("sheet").locator("[data-path=tote]")).toContainText("6 members, by count, 6");
    await expect(page.getByTestId("before")).toContainText('"count": 6');
  });
  await test.step("another is closed by hand, from the keyboard", async () => {
    await goto("/queues");
    await page.locator("[data-group=HART]").getByRole("button", { name: "close now" }).press("Enter");
    await page.getByRole("button", { name: "Show" }).click();
    await expect(page.getByText("by a person", { exact: true })).toBeVisible();
    await expect(page.getByTestId("state")).toContainText("delivered");
  });
  await test.step("rehearsed over several samples", async () => {
    await goto("/flows/totes");
    const sheet = page.getByTestId("sheet");
    await expect(sheet.locator("[data-path=tote]")).toContainText("member 6 of MARL, which closes by count, 6, 6 members, by count, 6");
    await expect(sheet.locator("[data-path='to-van'] [data-reached=true]")).toHaveCount(2);
    await sheet.locator("[data-path=tote] [role=gridcell]").first().click();
    await page.getByTestId("settings").getByLabel("By count").fill("2");
    await expect(sheet.locator("[data-path='to-van'] [data-reached=true]")).toHaveCount(5); // three of two, and two that time closes
    await page.keyboard.press("ControlOrMeta+z");
    await expect(sheet.locator("[data-path='to-van'] [data-reached=true]")).toHaveCount(2);
  });
});

test("partners are asked side by side, and a missing answer has its reason", async ({ page, goto, app }) => {
  const headers = { "x-api-key": "larkfield-demo-key" };
  for (const [name, behaviour] of [
    ["sandholm", { delay: 0 }],
    ["wickford", { refuse: -1 }],
    ["partner-libraries", { delay: 1 }],
  ] as const)
    await page.request.put(`${app.base}/api/v1/stand-ins/${name}/behaviour`, { data: behaviour });
  await page.request.post(`${app.base}/in/hold-requests/web`, {
    headers: { ...headers, "request-id": "scatter-1" },
    data: { request: "HR-701", patron: { card: "LC 4417 203" }, item: "31408-1-2", format: "audio", copies: [] },
  });
  await goto("/transactions?flow=interloan-asks");
  await page.locator("[data-reference=HR-701]").click();
  const sheet = page.getByTestId("sheet");
  await expect(sheet.locator("[data-path=offers]")).toContainText("2 of 3 answered"); // so far, unless its 6 seconds are over
  await expect(sheet.locator("[data-path='offers.northmoor/ask-northmoor']")).toContainText("200, 1st try");
  await expect(sheet.locator("[data-path=offers]")).toContainText("2 of 3 answered", { timeout: 20_000 });
  await expect(page.getByTestId("state")).toContainText("delivered", { timeout: 30_000 });
  await sheet.locator("[data-path='to-partners'] [role=gridcell]").first().click();
  await expect(page.getByTestId("before")).toContainText('"northmoor": 3');
  await expect(page.getByTestId("before")).toContainText(/"wickford": "(no answer within 6s|wickford answered 503)/);
  await test.step("the form says how answers are gathered, and the rehearsal follows", async () => {
    await goto("/flows/interloan-asks");
    await sheet.locator("[data-path=offers] [role=gridcell]").first().click();
    await page.getByLabel("Goes on with").selectOption("fits");
    await page.getByLabel("Fits when").click();
    await page.keyboard.press("ControlOrMeta+a");
    await page.keyboard.type("reply.body.days > 5");
    await expect(sheet.locator("[data-path=offers]")).toContainText("2 of 3 answered, sandholm fits");
    await page.getByLabel("Goes on with").selectOption("first");
    await expect(sheet.locator("[data-path=offers]")).toContainText("1 of 3 answered");
    await page.getByLabel("make a new body of the answers").check();
    await sheet.locator("[data-path=offers] [role=gridcell]").nth(1).click();
    await expect(page.getByTestId("after")).toContainText('"northmoor": {');
    for (let i = 0; i < 6; i++) await page.keyboard.press("ControlOrMeta+z");
  });
});
