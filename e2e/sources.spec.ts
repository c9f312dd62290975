import { against, cell, expect } from "./app";
import { begin, Hands, line, order, pick, report, shaped, written } from "./hands";

const test = against("serve");

test("a value is carried to its line, and a first click makes a line of its own", async ({ page, goto, app }) => {
  await begin(app, page, goto, "dragged", { format: "json" }, order, "application/json");
  const hands = new Hands(page);
  await hands.click(page.getByRole("button", { name: "add below" }));
  await hands.click(page.getByRole("dialog").getByText("Map", { exact: true }));
  await hands.click(pick(page, "body.card").last());
  await hands.click(pick(page, "body.family").last());
  await expect.poll(() => written(app, page, "dragged")).toBe(`{"card":"LC4417203","family":"O'Neil"}`);
  const shown = page.getByTestId("before").locator("div.flex").filter({ has: page.locator("[data-pick='body.family']") });
  await expect(shown).toHaveText(/^\d+"family": "O'Neil",$/);
  await pick(page, "body.given").last().dragTo(line(page, /^family/));
  await expect.poll(() => written(app, page, "dragged")).toBe(`{"card":"LC4417203","family":"Maud"}`);
  // Its lines go into the map of another flow, by mouse, and out of there by keyboard.
  await page.getByRole("button", { name: "copy all lines" }).click();
  await expect(page.getByRole("status").filter({ hasText: "2 lines copied" })).toBeVisible();
  await begin(app, page, goto, "second", { format: "json" }, order, "application/json");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Map", { exact: true }).click();
  await pick(page, "body.family").last().click();
  await page.getByRole("button", { name: "put in what was copied (2)" }).click();
  await expect.poll(() => written(app, page, "second")).toBe(`{"family":"Maud","card":"LC4417203"}`);
  await expect(page.getByRole("status").filter({ hasText: "1 of them in place of" })).toBeVisible();
  const lines = page.getByRole("listbox", { name: "Lines of the target" });
  await lines.focus();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Control+c");
  await page.keyboard.press("Delete");
  await expect.poll(() => written(app, page, "second")).toBe(`{"card":"LC4417203"}`);
  await lines.focus();
  await page.keyboard.press("Control+v");
  await expect.poll(() => written(app, page, "second")).toBe(`{"card":"LC4417203","family":"Maud"}`);
});

test("an earlier message is one click away, and a table of the Tables page gives a value", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/tables/wards`, { data: { readyferry: "table/1", name: "wards", keys: [["code"]] } });
  await page.request.post(`${app.base}/api/v1/tables/wards/import?format=csv`, { data: "code,title\r\nLC4417203,Sluice ward\r\n", headers: { "content-type": "text/csv" } });
  await begin(app, page, goto, "earlier", { format: "hl7" }, report, "application/hl7-v2");
  const hands = new Hands(page);
  await shaped(page, hands, '{"family":"x"}');
  await hands.click(line(page, /^family/));
  await hands.click(pick(page, 'hl7(body, "PID-5.1")').first());
  await expect(cell(page, "map", 0)).toHaveText("1 of 1 set");
  await shaped(page, hands, '{"ward":"1","card":"2"}');
  await page.getByRole("group", { name: "Which message" }).getByRole("button", { name: "as it came in" }).click();
  await line(page, /^card/).click();
  await pick(page, 'hl7(bodies.intake, "PID-3.1")').first().click();
  await line(page, /^ward/).click();
  await pick(page, 'hl7(bodies.intake, "PID-3.1")').first().click();
  await expect.poll(() => written(app, page, "earlier")).toBe('{"ward":"LC4417203","card":"LC4417203"}');
  await page.getByRole("button", { name: "What becomes of ward" }).click();
  await page.getByRole("button", { name: /wards.*title.*Sluice ward/ }).first().click();
  await expect.poll(() => written(app, page, "earlier")).toBe('{"ward":"Sluice ward","card":"LC4417203"}');
  await expect(line(page, /^ward/)).toContainText("PID-3.1 as it came in through the table “wards”, its column “title”");
});

test("in a past transaction a value shows where it came from, and where it went, in loops as well", async ({ page, goto, app }) => {
  const fields = [
    { to: "/card", from: 'hl7(body, "PID-3.1")' },
    { to: "/results", each: 'hl7Groups(body, "OBX")', sort: 'hl7(item, "OBX-3.1")', descending: true, fields: [{ to: "/value", from: 'hl7(item, "OBX-5")' }] },
  ];
  await page.request.put(`${app.base}/api/v1/flows/past`, {
    data: { readyferry: "flow/1", name: "past", intake: { kind: "webhook", path: "/past", format: "hl7" }, steps: [{ id: "m", kind: "map", fields }] },
  });
  expect((await page.request.post(`${app.base}/api/v1/flows/past/publish`)).ok()).toBe(true);
  const sent = await page.request.post(`${app.base}/in/past`, { data: report, headers: { "content-type": "application/hl7-v2" } });
  const { transaction } = (await sent.json()) as { transaction: string };
  await goto(`/transactions/${transaction}`);
  await page.getByTestId("sheet").locator("[data-path=m] [role=gridcell]").first().click();
  const [before, after] = [page.getByTestId("before"), page.getByTestId("after")];
  await after.getByText('"140"').hover(); // the first of them, and the second segment
  await expect(before.locator("div.\\!bg-mark")).toHaveCount(1);
  await expect(before.locator("div.\\!bg-mark")).toContainText("OBX|2|NM|NA");
  await before.getByText("5.4", { exact: true }).hover();
  await expect(after.locator("div.\\!bg-mark")).toHaveCount(1);
  await expect(after.locator("div.\\!bg-mark")).toContainText('"value": "5.4"');
  await before.getByText("LC4417203", { exact: true }).hover();
  await expect(after.locator("div.\\!bg-mark")).toContainText('"card"');
});

test("a contract gives the lines of the target, those that must be there first", async ({ page, goto, app }) => {
  await begin(app, page, goto, "by-contract", { format: "json" }, order, "application/json");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Map", { exact: true }).click();
  await page.getByRole("button", { name: "What it looks like…" }).click();
  await page.getByRole("tab", { name: "A contract" }).click();
  const contract = {
    openapi: "3.0.3",
    info: { title: "Desk", version: "1" },
    paths: { "/readers": { post: { operationId: "newReader", requestBody: { content: { "application/json": { schema: { $ref: "#/components/schemas/Reader" } } } }, responses: { "201": { description: "made" } } } } },
    components: { schemas: { Reader: { type: "object", required: ["number"], properties: { nick: { type: "string" }, number: { type: "string" }, family: { type: "string" } } } } },
  };
  await page.getByRole("textbox", { name: "Contract" }).fill(JSON.stringify(contract));
  await page.getByRole("button", { name: "Read it" }).click();
  await expect(page.getByTestId("made")).toContainText("number");
  await page.getByRole("button", { name: "Show its lines" }).click();
  const lines = page.getByRole("listbox", { name: "Lines of the target" }).getByRole("option");
  await expect(lines).toHaveCount(3);
  await expect(lines.first()).toContainText("number required");
  await lines.first().click();
  await pick(page, "body.card").last().click();
  await line(page, /^family/).click();
  await pick(page, "body.family").last().click();
  await expect.poll(() => written(app, page, "by-contract")).toBe(`{"number":"LC4417203","family":"O'Neil"}`);
});
