import type { Locator, Page } from "@playwright/test";
import { against, type App, cell, expect, retype } from "./app";

const test = against("serve");
test.describe.configure({ mode: "default" });

/** Counts what a person does: a click, a drag, a key, a text that is pasted. Nothing is typed as an expression. */
class Hands {
  n = 0;
  constructor(private page: Page) {}
  async click(l: Locator) {
    this.n++;
    await l.click();
  }
  async paste(l: Locator, text: string) {
    this.n++;
    await l.fill(text);
  }
  async type(text: string) {
    this.n++;
    await this.page.keyboard.type(text);
  }
  async key(k: string) {
    this.n++;
    await this.page.keyboard.press(k);
  }
}

const report = [
  "MSH|^~\\&|LAB|NORTH|VAN|LARKFIELD|20260317094100||ORU^R01^ORU_R01|M-1|P|2.5.1",
  "PID|1||LC4417203^^^LARK||O'NEIL^MAUD||19610412|F|||4 Sluice Lane^^Elmsby",
  "OBR|1|||GLU^Glucose",
  "OBX|1|NM|GLU^Glucose||5.4|mmol/L|||||F",
  "OBX|2|NM|NA^Sodium||140|mmol/L|||||F",
  "",
].join("\r");

const order = JSON.stringify({
  card: "LC4417203",
  family: "O'Neil",
  given: "Maud",
  born: "19610412",
  results: [
    { code: "GLU", title: "Glucose", value: 5.4, unit: "mmol/L", state: "F" },
    { code: "NA", title: "Sodium", value: 140, unit: "mmol/L", state: "P" },
  ],
});

async function begin(app: App, page: Page, goto: (path: string) => Promise<void>, name: string, intake: object, body: string, type: string) {
  await page.request.put(`${app.base}/api/v1/flows/${name}`, {
    data: { readyferry: "flow/1", name, intake: { kind: "webhook", path: `/${name}`, ...intake }, steps: [] },
  });
  await page.request.put(`${app.base}/api/v1/flows/${name}/samples/one`, { data: { name: "one", body, headers: { "content-type": type } } });
  await goto(`/flows/${name}`);
  await expect(cell(page, "", 0)).toHaveText("accepted");
}

const pick = (page: Page, expression: string) => page.getByTestId("before").locator(`[data-pick='${expression}']`);
const line = (page: Page, name: string | RegExp) => page.getByRole("option").filter({ hasText: name }).first();
const written = async (app: App, page: Page, name: string) => {
  const r = await page.request.post(`${app.base}/api/v1/flows/${name}/rehearse`, { data: {} });
  return ((await r.json()) as { trace: { after: { text: string } }[] }[])[0]?.trace.at(-1)?.after.text;
};

/** From no map at all to the lines of an example. */
async function shaped(page: Page, hands: Hands, example: string) {
  await hands.click(page.getByRole("button", { name: "add below" }));
  await hands.click(page.getByRole("dialog").getByText("Map", { exact: true }));
  await hands.paste(page.getByRole("textbox", { name: "An example of the target" }), example);
}

test("HL7 to JSON, five fields and a loop, by pointing alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "in-json", { format: "hl7" }, report, "application/hl7-v2");
  const hands = new Hands(page);
  await shaped(page, hands, '{"card":"1","family":"x","given":"y","born":"z","street":"s","results":[{"code":"c","value":"1"}]}');
  await hands.click(line(page, /^card/));
  for (const place of ["PID-3.1", "PID-5.1", "PID-5.2", "PID-7", "PID-11.1"]) await hands.click(pick(page, `hl7(body, "${place}")`).first());
  await hands.click(pick(page, 'hl7Groups(body, "OBX")').first());
  await hands.click(pick(page, 'hl7(body, "OBX-3.1")').first());
  await hands.click(pick(page, 'hl7(body, "OBX[2]-5")').first());
  await expect
    .poll(() => written(app, page, "in-json"))
    .toBe(
      `{"card":"LC4417203","family":"O'NEIL","given":"MAUD","born":"19610412","street":"4 Sluice Lane","results":[{"code":"GLU","value":"5.4"},{"code":"NA","value":"140"}]}`,
    );
  expect(hands.n).toBeLessThanOrEqual(18);
  // What becomes of a value is chosen by its result, and reads back in words.
  await page.getByRole("button", { name: "What becomes of born" }).click();
  await page.getByRole("button", { name: /“%Y%m%d” as “%Y-%m-%d”/ }).click();
  await expect(line(page, /^born/)).toContainText('"1961-04-12"');
  await expect(line(page, /^born/)).toContainText("PID-7 a date, “%Y%m%d” as “%Y-%m-%d”");
});

test("JSON to HL7, four fields and a loop of five, by pointing alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "out-hl7", { format: "json" }, order, "application/json");
  const hands = new Hands(page);
  await shaped(
    page,
    hands,
    "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\nPID|1||X^^^LARK||FAM^GIV||19000101\nOBR|1\nOBX|1|NM|C^T||0|u|||||F\nOBX|2\n",
  );
  await hands.click(line(page, /^PID-3\.1/));
  await hands.click(pick(page, "body.card").last());
  await hands.click(line(page, /^PID-5\.1/));
  for (const name of ["family", "given", "born"]) await hands.click(pick(page, `body.${name}`).last());
  await hands.click(line(page, /^OBX/));
  await hands.click(pick(page, "body.results").first());
  await hands.click(line(page, /^OBX-3\.1/));
  for (const name of ["code", "title", "value", "unit", "state"]) await hands.click(pick(page, `body.results[0].${name}`).last());
  await expect
    .poll(() => written(app, page, "out-hl7"))
    .toBe(
      "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||LC4417203^^^LARK||O'Neil^Maud||19610412\rOBR|1\r" +
        "OBX|1|NM|GLU^Glucose||5.4|mmol/L|||||F\rOBX|2|NM|NA^Sodium||140|mmol/L|||||P\r",
    );
  expect(hands.n).toBeLessThanOrEqual(18);
});

test("CSV with five fields, by pointing at the rows", async ({ page, goto, app }) => {
  await begin(app, page, goto, "from-csv", { format: "csv", header: true }, "card,name,born,town,state\r\nLC1,Maud,1961,Elmsby,x\r\nLC2,Tom,1970,Ford,y\r\n", "text/csv");
  const hands = new Hands(page);
  await shaped(page, hands, '{"members":[{"card":"1","name":"x","born":"y","town":"z","state":"s"}]}');
  await hands.click(line(page, /^members/));
  await hands.click(pick(page, "body"));
  await expect
    .poll(() => written(app, page, "from-csv"))
    .toBe(
      '{"members":[{"card":"LC1","name":"Maud","born":"1961","town":"Elmsby","state":"x"},{"card":"LC2","name":"Tom","born":"1970","town":"Ford","state":"y"}]}',
    );
  expect(hands.n).toBeLessThanOrEqual(18);
  // Arrows go through the lines, and Delete takes one away.
  await page.getByRole("listbox", { name: "Lines of the target" }).focus();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Delete");
  await expect.poll(() => written(app, page, "from-csv")).not.toContain('"card"');
});

/** From the sheet to the lines of an example, without the mouse. */
async function shapedByKeys(page: Page, hands: Hands, example: string) {
  await page.getByRole("grid").focus();
  await hands.key("a");
  await hands.type("map");
  await hands.key("Enter");
  await expect(page.getByRole("dialog")).toHaveCount(0);
  await hands.key("Enter");
  await hands.paste(page.getByRole("textbox", { name: "An example of the target" }), example);
  await expect(page.getByRole("listbox", { name: "Lines of the target" })).toBeFocused();
  await expect(page.getByRole("listbox", { name: "Lines of the target" }).getByRole("option").first()).toBeVisible();
  await expect(page.getByTestId("before").locator("[data-pick]").first()).toBeVisible(); // the sample has come to the new step
}

/** A value by its name or by what it is, for the line that is next. */
async function named(page: Page, hands: Hands, text: string) {
  await hands.type(text);
  await hands.key("Enter");
  await expect(page.getByRole("listbox", { name: "Lines of the target" })).toBeFocused();
}

test("HL7 to JSON by keyboard alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "keys-json", { format: "hl7" }, report, "application/hl7-v2");
  const hands = new Hands(page);
  await shapedByKeys(page, hands, '{"card":"1","family":"x","given":"y","born":"z","street":"s","results":[{"code":"c","value":"1"}]}');
  await named(page, hands, "LC44");
  await hands.key("Space"); // the family name, which is most like it
  await hands.key("Space");
  await named(page, hands, "1961");
  await hands.key("Space");
  await named(page, hands, "OBX");
  await named(page, hands, "GLU");
  await hands.key("Space");
  await expect
    .poll(() => written(app, page, "keys-json"))
    .toBe(
      `{"card":"LC4417203","family":"O'NEIL","given":"MAUD","born":"19610412","street":"4 Sluice Lane","results":[{"code":"GLU","value":"5.4"},{"code":"NA","value":"140"}]}`,
    );
  expect(hands.n).toBeLessThanOrEqual(18);
});

test("CSV with five fields by keyboard alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "keys-csv", { format: "csv", header: true }, "card,name,born,town,state\r\nLC1,Maud,1961,Elmsby,x\r\nLC2,Tom,1970,Ford,y\r\n", "text/csv");
  const hands = new Hands(page);
  await shapedByKeys(page, hands, '{"members":[{"card":"1","name":"x","since":"y","town":"z","state":"s"}]}');
  await named(page, hands, "rows"); // four of the five have like names
  await named(page, hands, "1961");
  await expect
    .poll(() => written(app, page, "keys-csv"))
    .toBe(
      '{"members":[{"card":"LC1","name":"Maud","since":"1961","town":"Elmsby","state":"x"},{"card":"LC2","name":"Tom","since":"1970","town":"Ford","state":"y"}]}',
    );
  expect(hands.n).toBeLessThanOrEqual(18);
});

test("JSON to HL7 by keyboard alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "keys-hl7", { format: "json" }, order, "application/json");
  const hands = new Hands(page);
  await shapedByKeys(
    page,
    hands,
    "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\nPID|1||X^^^LARK||FAM^GIV||19000101\nOBR|1\nOBX|1|NM|C^T||0|u|||||F\nOBX|2\n",
  );
  const jump = async (place: string) => {
    await hands.key("Control+f");
    await hands.type(place);
    await hands.key("Enter");
  };
  await jump("PID-3.1");
  await named(page, hands, "card");
  await jump("PID-5.1");
  await hands.key("Space"); // the family name, which is most like it
  await hands.key("Space");
  await named(page, hands, "born");
  await jump("OBX");
  await named(page, hands, "results");
  await jump("OBX-3.1");
  await named(page, hands, "code");
  await named(page, hands, "title");
  await hands.key("Space");
  await hands.key("Space");
  await named(page, hands, "state");
  await expect
    .poll(() => written(app, page, "keys-hl7"))
    .toBe(
      "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||LC4417203^^^LARK||O'Neil^Maud||19610412\rOBR|1\r" +
        "OBX|1|NM|GLU^Glucose||5.4|mmol/L|||||F\rOBX|2|NM|NA^Sodium||140|mmol/L|||||P\r",
    );
  expect(hands.n).toBeLessThanOrEqual(33); // three of them for each of four ways to a line far off
});

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

test("Avro comes in and Protocol Buffers go out, by schemas among the flow's files", async ({ page, goto, app }) => {
  const schema = { type: "record", name: "Loan", fields: [{ name: "card", type: "string" }, { name: "due", type: { type: "int", logicalType: "date" } }] };
  await page.request.put(`${app.base}/api/v1/flows/binary`, {
    data: { readyferry: "flow/1", name: "binary", intake: { kind: "webhook", path: "/binary" }, steps: [] },
  });
  await page.request.put(`${app.base}/api/v1/flows/binary/files/schemas/loan.avsc`, { data: JSON.stringify(schema), headers: { "content-type": "text/plain" } });
  await page.request.put(`${app.base}/api/v1/flows/binary/samples/one`, { data: { name: "one", base64: "BkxDMeTXAg==", headers: { "content-type": "avro/binary" } } });
  await goto("/flows/binary");
  await cell(page, "", 0).click();
  const settings = page.getByTestId("settings");
  await settings.getByLabel("Format", { exact: true }).selectOption("avro");
  await settings.getByLabel("Schema", { exact: true }).fill("schemas/loan.avsc");
  await expect(cell(page, "", 0)).toHaveText("accepted");
  await expect(page.getByTestId("before")).toContainText('"2030-03-29"');
  await page.getByTestId("before").getByRole("button", { name: "as bytes" }).click();
  await expect(page.getByTestId("hex")).toContainText("06 4c 43 31");
  // The other schema is written under Files, and its lines are those of the map.
  await page.getByRole("button", { name: "Files", exact: true }).click();
  await page.getByRole("button", { name: "+ schema" }).click();
  await page.getByLabel("Name of the file").fill("schemas/slip.proto");
  await retype(page, "Text of the file", 'syntax = "proto3"; message Slip { string reader = 1; string until = 2; }');
  await page.getByRole("button", { name: "Save the file" }).click();
  await expect(page.getByText("schemas/slip.proto is saved with the draft")).toBeVisible();
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Map", { exact: true }).click();
  await page.getByLabel("Format", { exact: true }).selectOption("protobuf");
  await page.getByLabel("Schema", { exact: true }).selectOption("schemas/slip.proto");
  await line(page, /^reader/).click();
  await pick(page, "body.card").last().click();
  await pick(page, "body.due").last().click();
  await expect(cell(page, "map", 0)).toHaveText("2 of 2 set");
  const trace = async () => (await (await page.request.post(`${app.base}/api/v1/flows/binary/rehearse`, { data: {} })).json())[0].trace.at(-1)?.after;
  await expect.poll(trace).toMatchObject({ format: "protobuf", tree: '{"reader":"LC1","until":"2030-03-29"}', base64: "CgNMQzESCjIwMzAtMDMtMjk=" });
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

test("a dead letter that came as Avro is repaired by its tree", async ({ page, goto, app }) => {
  const base = `${app.base}/api/v1/flows/avro-dead`;
  const flow = (schema: object) => ({
    data: {
      readyferry: "flow/1",
      name: "avro-dead",
      intake: { kind: "webhook", path: "/avro-dead", format: "avro", ...schema },
      steps: [{ id: "v", kind: "map", fields: [{ to: "/x", from: 'body.card.startsWith("LC") ? body.card : body.no' }] }],
    },
  });
  await page.request.put(base, flow({}));
  const schema = { type: "record", name: "Loan", fields: [{ name: "card", type: "string" }, { name: "n", type: "long" }] };
  await page.request.put(`${base}/files/schemas/loan.avsc`, { data: JSON.stringify(schema), headers: { "content-type": "text/plain" } });
  await page.request.put(base, { ...flow({ schema: "schemas/loan.avsc" }), headers: { "if-match": "*" } });
  expect((await page.request.post(`${base}/publish`)).ok()).toBe(true);
  await page.request.post(`${app.base}/in/avro-dead`, { data: Buffer.from("065858310e", "hex"), headers: { "content-type": "avro/binary" } });
  await goto("/dead-letters");
  await page.getByText("body.no is missing").first().click();
  const editor = page.getByRole("textbox", { name: "Message", exact: true });
  await expect(editor).toContainText('"card": "XX1"');
  await retype(page, "Message", '{"card": "LC1", "n": 12345678901234567}');
  await expect(page.getByTestId("preview")).toContainText("delivered");
  await page.getByRole("button", { name: "Resend repaired" }).click();
  await expect(page.getByText("No dead letters")).toBeVisible();
});

test("a condition is put together, drawn again, and stays a text where it is more than that", async ({ page, goto, app }) => {
  await begin(app, page, goto, "asked", { format: "json" }, order, "application/json");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Filter", { exact: true }).click();
  const settings = page.getByTestId("settings");
  // What is read back late takes nothing away that was put together meanwhile.
  let release = () => {};
  const begun = new Promise<void>((then) => {
    release = then;
  });
  await page.route("**/api/v1/words", (route) => begun.then(() => route.continue()));
  await pick(page, "body.born").last().click();
  await settings.getByLabel("Goes on when, comparison").selectOption("begins with");
  await settings.getByLabel("Goes on when, compared with").fill("1961");
  await settings.getByRole("button", { name: "or…" }).click();
  const late = page.waitForResponse("**/api/v1/words");
  release();
  await (await late).finished();
  await pick(page, "body.card").last().click();
  await settings.getByLabel("Goes on when, compared with").last().fill("x");
  const keep = async () => ((await (await page.request.get(`${app.base}/api/v1/flows/asked`)).json()) as { document: { steps: { keep: string }[] } }).document.steps[0]?.keep;
  await expect.poll(keep).toBe('body.born.startsWith("1961") || body.card == "x"');
  await page.reload();
  await cell(page, "filter", 0).click();
  await expect(settings.getByLabel("Goes on when, compared with").first()).toHaveValue("1961");
  await expect(settings.getByLabel("Of these")).toHaveValue("or");
  await settings.getByRole("button", { name: "write it as an expression" }).click();
  await settings.getByRole("textbox", { name: "Goes on when", exact: true }).click();
  await page.keyboard.press("Control+a");
  await page.keyboard.insertText("body.results.exists(r, r.value > 100)");
  await expect(settings).toContainText("It is more than comparisons");
  await expect(cell(page, "filter", 0)).toHaveText("goes on");
});

test("what is pointed at goes to the cursor, and a name keeps its value while another is typed", async ({ page, goto, app }) => {
  await begin(app, page, goto, "typed", { format: "json" }, order, "application/json");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Note", { exact: true }).click();
  const text = page.getByTestId("settings").getByRole("textbox", { name: "Text" });
  await text.click();
  await page.keyboard.press("Control+a");
  await page.keyboard.insertText("for ");
  await pick(page, "body.card").last().click();
  await page.keyboard.insertText(" and ${}");
  await page.keyboard.press("ArrowLeft");
  await pick(page, "body.given").last().click();
  await expect(text).toHaveText("for ${body.card} and ${body.given}");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Set", { exact: true }).click();
  const settings = page.getByTestId("settings");
  for (const [i, name] of ["abc", "ab"].entries()) {
    await settings.getByRole("button", { name: /^\+/ }).first().click();
    await settings.getByLabel(new RegExp(`name ${i + 1}$`)).first().fill("");
    await settings.getByLabel(new RegExp(`name ${i + 1}$`)).first().pressSequentially(name);
  }
  await settings.getByLabel(/name 2$/).first().press("End");
  await settings.getByLabel(/name 2$/).first().pressSequentially("c");
  await expect(settings.getByRole("alert").filter({ hasText: "There is a abc already" })).toBeVisible();
  await settings.getByLabel(/name 2$/).first().pressSequentially("d");
  await expect(settings.getByLabel(/name 1$/).first()).toHaveValue("abc");
  await expect(settings.getByLabel(/name 2$/).first()).toHaveValue("abcd");
});
