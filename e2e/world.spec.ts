import { against, cell, expect, saved } from "./app";

const test = against("demo", "--trickle", "0");
const key = { "x-api-key": "larkfield-demo-key" };

test("a table is made from a file, edited with undo, looked up in, and shows its versions", async ({ page, goto, app }) => {
  await goto("/tables");
  await page.getByRole("button", { name: "New table" }).click();
  let come = () => {};
  const late = new Promise<void>((f) => {
    come = f;
  });
  await page.route("**/api/v1/tables/new/guess", (r) => late.then(() => r.continue()));
  await page.getByLabel("File", { exact: true }).setInputFiles({ name: "slots.csv", mimeType: "text/csv", buffer: Buffer.from("slot,day,van\n1,mon,Heron\n1,tue,Plover\n2,mon,Dunlin\n") });
  await expect(page.getByLabel("Name", { exact: true })).toHaveValue("slots");
  await expect(page.getByLabel("Key", { exact: true })).toBeDisabled(); // until it is known what the file says of it
  come();
  await page.getByLabel("Key", { exact: true }).fill("slot");
  await page.getByRole("button", { name: "Make it with 3 rows" }).click();
  await expect(page.getByRole("alert")).toContainText('line 3: the key slot "1" stands twice: in row 1, too');
  await page.getByLabel("Key", { exact: true }).fill("slot, day");
  await page.getByRole("button", { name: "Make it with 3 rows" }).click();
  await expect(page.getByLabel("van, row 3")).toHaveValue("Dunlin");
  await page.getByLabel("van, row 2").fill("Osprey");
  await page.keyboard.press("Enter");
  await expect(page.getByText("version 3")).toBeVisible();
  await page.getByLabel("day, row 2").fill("mon"); // clashes with the first
  await page.keyboard.press("Enter");
  await expect(page.getByText("clashes with")).toBeVisible();
  await page.getByRole("button", { name: "+ row" }).click();
  await page.getByLabel("slot, new row").fill("3");
  await page.getByLabel("day, new row").fill("wed");
  await page.getByLabel("van, new row").fill("Teal");
  await page.keyboard.press("Enter");
  await expect(page.getByLabel("van, row 4")).toHaveValue("Teal");
  await page.getByRole("button", { name: "Undo" }).click();
  await page.getByRole("button", { name: "Undo" }).click(); // at once: one behind the other
  await expect(page.getByLabel("van, row 4")).toHaveCount(0);
  await expect(page.getByLabel("van, row 2")).toHaveValue("Plover");
  await page.getByRole("button", { name: "Redo" }).click();
  await expect(page.getByLabel("van, row 2")).toHaveValue("Osprey");
  await page.getByLabel("Find rows").fill("dunlin");
  await expect(page.getByLabel("van, row 1")).toHaveValue("Dunlin");
  await expect(page.getByLabel("van, row 2")).toHaveCount(0);
  await page.getByRole("button", { name: "Load a file" }).click();
  await page.getByLabel("File", { exact: true }).setInputFiles({ name: "more.csv", mimeType: "text/csv", buffer: Buffer.from("slot,day,van\n2,mon,Dunlin\n9,fri,Gannet\n") });
  await expect(page.getByRole("status")).toContainText("2 rows: 1 new, 0 changed, 2 go, 1 are as they were.");
  await page.getByLabel("Rows whose key is not in the file").selectOption("merge");
  await expect(page.getByRole("status")).toContainText("2 rows: 1 new, 0 changed, 0 go, 1 are as they were.");
  await page.getByRole("button", { name: "Load", exact: true }).click();
  await expect(page.getByText(/4 rows, version/)).toBeVisible();
  await page.getByRole("button", { name: "Versions" }).click();
  await page.getByRole("button", { name: "show" }).first().click();
  await expect(page.getByRole("dialog")).toContainText('+ {"slot":"9","day":"fri","van":"Gannet"}');
  await page.keyboard.press("Escape");

  const document = `readyferry: flow/1
name: slotting
title: Slotting
intake: {kind: webhook, path: /slotting, format: json}
steps: []
`;
  await page.request.put(`${app.base}/api/v1/flows/slotting`, { data: document, headers: { "content-type": "application/yaml" } });
  await page.request.put(`${app.base}/api/v1/flows/slotting/samples/one`, { data: { body: '{"slot": "2", "day": "mon"}', headers: { "content-type": "application/json" } } });
  await goto("/flows/slotting");
  const sheet = page.getByTestId("sheet");
  await sheet.focus();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("lookup");
  await page.keyboard.press("Enter");
  const settings = page.getByTestId("settings");
  await settings.getByLabel("In the table").fill("slots");
  await expect(settings).toContainText("the key of the table \"slots\" has several columns");
  await settings.getByRole("button", { name: "a key by its columns" }).click();
  await settings.getByLabel("Column 1 of the key", { exact: true }).fill("slot");
  await settings.getByLabel("Value of column 1 of the key").click();
  await page.keyboard.press("ControlOrMeta+a");
  await page.keyboard.type("body.slot");
  await settings.getByRole("button", { name: "+ column" }).click();
  await settings.getByLabel("Column 2 of the key", { exact: true }).fill("day");
  await settings.getByLabel("Value of column 2 of the key").click();
  await page.keyboard.type("body.day");
  await expect(sheet.locator("[data-path=lookup]")).toContainText("found");
  await expect(page.getByTestId("looked")).toContainText('"van":"Dunlin"');
  await saved(page, app, "slotting", "day: body.day");
  await goto("/tables");
  await expect(page.locator("[data-table=slots]")).toContainText("slotting (draft)");
});

test("a thin notification becomes a record, and the second time an update", async ({ page, goto, app }) => {
  const post = () => page.request.post(`${app.base}/in/member-changes`, { data: { member: "M-7001" }, headers: key });
  expect((await post()).status()).toBe(202);
  const rows = async () => (await (await page.request.get(`${app.base}/api/v1/tables/patron-keys/rows?find=M-7001`)).json()).rows;
  await expect.poll(async () => (await rows()).length).toBe(1);
  const patron = (await rows())[0].value.patron;
  const calls = async (name: string) => (await (await page.request.get(`${app.base}/api/v1/stand-ins/${name}`)).json()).calls as { method: string; path: string; body: string }[];
  await expect.poll(async () => (await calls("member-desk")).filter((c) => c.method === "PUT").length).toBe(1);
  expect((await calls("member-desk"))[0]).toMatchObject({ path: "/members/M-7001/keys", body: `{"system":"patron-register","key":"${patron}"}` });
  expect((await post()).status()).toBe(202);
  await expect.poll(async () => (await calls("patron-register")).map((c) => `${c.method} ${c.path}`)).toEqual([`PUT /patrons/${patron}`, "POST /patrons"]);
  expect(JSON.parse((await calls("patron-register"))[0]?.body ?? "{}").cards).toHaveLength(2);
  expect(await rows()).toHaveLength(1);
  await goto("/transactions?reference=M-7001");
  await page.locator("[data-reference=M-7001]").first().click();
  await page.getByTestId("sheet").locator("[data-path=known] [role=gridcell]").first().click();
  await expect(page.getByTestId("looked")).toContainText(`"patron":"${patron}"`);
});

test("a table decides which flow goes on, and who is not in it is refused clearly", async ({ page, goto, app }) => {
  const post = (sender: string, kind: string) => page.request.post(`${app.base}/in/post-room`, { data: { ref: `E-${sender}-${kind}`, kind, branch: "MARL" }, headers: { ...key, "x-sender": sender } });
  expect((await post("friends", "booking")).status()).toBe(202);
  const refused = await post("circus", "booking");
  expect(refused.status()).toBe(403);
  expect((await refused.json()).detail).toContain("no flow takes booking from circus");
  await goto("/transactions?reference=E-friends-booking");
  await expect(page.locator("[data-reference=E-friends-booking]")).toHaveCount(2);
  await page.locator("[data-reference=E-friends-booking]").filter({ hasText: "Room bookings" }).click();
  await page.getByRole("link", { name: "step hand-on" }).click();
  await page.getByTestId("sheet").locator("[data-path=hand-on] [role=gridcell]").first().click();
  await expect(page.getByText("The flow post-bookings, delivered")).toBeVisible();
});

test("a kiosk asks and waits while the question goes by a queue and a database", async ({ page, app }) => {
  const answers = await Promise.all(
    ["LC4417203", "LC8821530", "LC0000000"].map(async (card) => {
      const r = await page.request.get(`${app.base}/in/patrons/${card}`, { headers: key });
      return [r.status(), await r.json()];
    }),
  );
  expect(answers).toEqual([
    [200, { card: "LC4417203", known: true, mayBorrow: true }],
    [200, { card: "LC8821530", known: true, mayBorrow: false }],
    [200, { card: "LC0000000", known: false, mayBorrow: false }],
  ]);
});

test("records are loaded in bulk after a dry count", async ({ page, goto, app }) => {
  await goto("/flows/member-load");
  await page.getByRole("button", { name: "Load in bulk" }).click();
  const lines = ["member,card,name", ...Array.from({ length: 30 }, (_, i) => `M-${9000 + i},LC 77${String(i).padStart(2, "0")} 001,"dray, osei"`), "M-9001,LC 7701 001,again"];
  await page.getByLabel("File", { exact: true }).setInputFiles({ name: "members.csv", mimeType: "text/csv", buffer: Buffer.from(lines.join("\r\n")) });
  await page.getByLabel("Only records for which").fill('record.member != "M-9002"');
  await page.getByRole("button", { name: "Count them" }).click();
  await expect(page.locator("[data-load=ready]")).toContainText("31 records, 30 of them would be loaded");
  await page.getByRole("button", { name: "load them" }).click();
  await expect(page.locator("[data-load=done]")).toContainText("31 of 31 read, 30 loaded, 1 left out");
  await expect.poll(async () => (await (await page.request.get(`${app.base}/api/v1/tables/patron-keys/rows?find=M-90&limit=100`)).json()).rows.length).toBe(29);
});

test("a schedule shows its next times, and runs when it is asked to", async ({ page, goto, app }) => {
  await goto("/flows/opening-hours");
  await expect(page.getByTestId("times")).toContainText("07:30:00");
  await expect(page.getByTestId("clock")).toContainText("0 messages so far");
  await page.getByLabel("Cron").fill("61 * * * *");
  await expect(page.getByTestId("settings")).toContainText("is no cron expression");
  await page.getByRole("button", { name: "Undo" }).click();
  await page.getByRole("button", { name: "run it now" }).click();
  await expect.poll(async () => (await (await page.request.get(`${app.base}/api/v1/transactions?flow=opening-hours`)).json()).length).toBe(1);
});

test("what a step cannot do goes another way, and a dead letter opens a ticket", async ({ page, goto, app }) => {
  await goto("/flows/hold-requests");
  const sheet = page.getByTestId("sheet");
  await expect(sheet.locator("[data-path='on-dead-letter/open-ticket']")).toContainText("200");
  await sheet.locator("[data-path=open-only] [role=gridcell]").first().click();
  await page.getByTestId("settings").getByLabel("A message that does not pass").selectOption("steps");
  await expect(sheet.locator("[data-path='open-only.else/open-only-failed']")).toBeVisible();
  await expect(sheet.locator("[data-path='open-only.else']")).toContainText("taken");
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(sheet.locator("[data-path='open-only.else']")).toHaveCount(0);
  const body = { request: "HR-88", patron: { card: "LC 4417 203", name: "dray, osei" }, item: "31408-20931-7", format: "book", copies: [{ branch: "MARL" }] };
  await page.request.post(`${app.base}/in/hold-requests/web`, { data: body, headers: { ...key, "request-id": "e2e-88" } });
  await expect.poll(async () => (await (await page.request.get(`${app.base}/api/v1/stand-ins/service-desk`)).json()).calls.length).toBe(1);
  const desk = await (await page.request.get(`${app.base}/api/v1/stand-ins/service-desk`)).json();
  expect(JSON.parse(desk.calls[0].body)).toMatchObject({ reference: "HR-88", step: "slip", who: "catalogue team" });
});

test("a database is connected, and code is stopped when it does not end", async ({ page, goto }) => {
  await goto("/connections?open=circulation-db");
  await page.getByRole("button", { name: "Test" }).click();
  await expect(page.getByRole("status")).toContainText("it answers with 200");
  await goto("/flows/member-load");
  const sheet = page.getByTestId("sheet");
  await expect(sheet.locator("[data-path=digit]")).toContainText("number under digit");
  await sheet.locator("[data-path=digit] [role=gridcell]").first().click();
  await page.getByTestId("settings").getByLabel("Script").click();
  await page.keyboard.press("ControlOrMeta+a");
  await page.keyboard.type("while (true) {}");
  await expect(page.getByTestId("after")).toContainText("the script was stopped: it took longer than 2s");
  await page.keyboard.press("ControlOrMeta+a");
  await page.keyboard.type("return fetch('http://127.0.0.1')");
  await expect(page.getByTestId("after")).toContainText("fetch is not defined");
});

test("a statement shows its bound values and the rows that it changed", async ({ page, goto, app }) => {
  const yaml = { "content-type": "application/yaml" };
  await page.request.put(`${app.base}/api/v1/connections/desk-db`, { headers: yaml, data: "readyferry: connection/1\nname: desk-db\nkind: sql\ndriver: sqlite\naddress: stand-in://circulation.db\nwrite: true\n" });
  const flow = 'readyferry: flow/1\nname: hours-changed\nintake: {kind: webhook, path: /hours-changed}\nsteps:\n- {id: u, kind: ask, of: desk-db, sql: "UPDATE hours SET opens = :opens WHERE weekday = :day", params: {opens: body.opens, day: body.day}}\n';
  await page.request.put(`${app.base}/api/v1/flows/hours-changed`, { headers: yaml, data: flow });
  await page.request.post(`${app.base}/api/v1/flows/hours-changed/publish`);
  const { transaction } = await (await page.request.post(`${app.base}/in/hours-changed`, { data: { opens: "08:30", day: 77 } })).json();
  await goto(`/transactions/${transaction}`);
  await expect(cell(page, "u", 0)).toHaveText("0 rows affected, 1st try");
  await cell(page, "u", 0).click();
  await expect(page.getByTestId("statement").getByLabel("bound values")).toHaveText(/:opens"08:30":day77/);
  await expect(page.getByRole("heading", { name: /Last answer/ })).toContainText("0 rows affected");
});
