import { against, cell, expect, publish, retype } from "./app";

const test = against("demo", "--trickle", "0");

test("XML is shown as itself, mapped, and leaves as CSV", async ({ page, goto, app }) => {
  await goto("/flows/delivery-notes");
  await expect(cell(page, "list", 0)).toHaveText("16 of 16 set");
  await cell(page, "list", 0).click();
  const before = page.getByTestId("before");
  await expect(before.getByTestId("laid")).toContainText('<note id="DN-701" from="OWL">');
  await expect(before.getByTestId("laid")).toContainText("<!-- the second one is a reprint -->");
  await page.getByRole("button", { name: "as it is written" }).click();
  const grid = page.getByTestId("after").getByTestId("grid");
  await expect(grid.getByRole("row").nth(1)).toContainText("O'Neil, Maud");
  await expect(grid.getByRole("row").nth(2)).toContainText('The "Quiet" Shelf');
  await before.getByRole("button", { name: "as a tree" }).click();
  await expect(before).toContainText('"@isbn": "978-0-00-000001-7"');
  await before.getByRole("button", { name: "as XML" }).click();

  await test.step("a click on a value takes its path", async () => {
    await page.getByRole("button", { name: "line by line" }).click();
    const line = page.getByRole("option").filter({ hasText: /^note/ });
    await line.click();
    await before.getByRole("button", { name: "19/03/2026" }).click();
    await expect(line).toContainText("note.due");
    await expect(line).toContainText("19/03/2026");
    await page.getByRole("button", { name: "Undo" }).click();
    await page.getByRole("button", { name: "as it is written" }).click();
    await expect(grid.getByRole("row").nth(1)).toContainText("DN-701");
  });

  await test.step("a real one is delivered as CSV", async () => {
    const note = '<note id="DN-900" from="TERN"><due>01/04/2026</due><item isbn="1-2"><author>dray, osei</author><title>A, "B"\n&amp; C</title><price>3</price></item></note>';
    const answer = await page.request.post(`${app.base}/in/delivery-notes`, { data: note, headers: { "Content-Type": "application/xml", "X-Api-Key": "larkfield-demo-key" } });
    expect(answer.status()).toBe(202);
    await expect(async () => {
      const got = await (await page.request.get(`${app.base}/api/v1/stand-ins/stock-room`)).json();
      expect(got.calls[0].body).toBe('note,isbn,author,title,copies,price,supplier,due\r\nDN-900,12,"Dray, Osei","A, ""B""\n& C",1,3.00,Tern & Daughters,2026-04-01\r\n');
      expect(got.calls[0].headers["Content-Type"]).toBe("text/csv; charset=utf-8");
    }).toPass({ timeout: 10_000 });
    await goto("/transactions?flow=delivery-notes");
    await page.locator("[data-reference=DN-900]").click();
    await expect(page.getByTestId("before").getByTestId("grid").or(page.getByTestId("before").locator("pre"))).toBeVisible();
  });
});

test("HL7 is shown by segments, and its places are taken by a click", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/flows/adt`, { data: { readyferry: "flow/1", name: "adt", intake: { kind: "webhook", path: "/adt", format: "hl7" }, steps: [{ id: "m", kind: "map", fields: [{ to: "/name", from: '"x"' }] }, { id: "ack", kind: "answer", text: '${hl7Ack(body, "AA")}', headers: { "content-type": "application/hl7-v2" } }] } });
  await page.request.put(`${app.base}/api/v1/flows/adt/samples/one`, { data: { body: "MSH|^~\\&|A|B|C|D|2026||ADT^A01|M1|P|2.5\rPID|1||7^x~8||Jones^Ann&van\r", headers: { "content-type": "application/hl7-v2" } } });
  await goto("/flows/adt");
  await cell(page, "m", 0).click();
  await expect(page.getByTestId("named")).toContainText("Patient Identification");
  await page.getByRole("button", { name: "as HL7" }).click();
  const laid = page.getByTestId("before").getByTestId("laid");
  await expect(laid.getByRole("button", { name: "Jones" })).toHaveAttribute("title", "PID-5.1 · Patient Name, family name");
  await expect(laid.getByRole("button", { name: "van" })).toHaveAttribute("title", /^PID-5.2.2/);
  await expect(laid.getByRole("button", { name: "8", exact: true })).toHaveAttribute("title", /^PID-3\[2\]/);
  const line = page.getByRole("option").filter({ hasText: /^name/ });
  await line.click();
  await laid.getByRole("button", { name: "Jones" }).click();
  await expect(line).toContainText("PID-5.1");
  await expect(line).toContainText('"Jones"');
  await expect(laid.getByRole("button", { name: "Jones" })).toHaveClass(/underline/);
});

test("a flow is started from a contract, and a schema is inferred from samples", async ({ page, goto }) => {
  await goto("/flows");
  await page.getByRole("button", { name: "Start a flow" }).click();
  await page.getByLabel("Title", { exact: true }).fill("Kiosk scans");
  await page.getByText("From a contract").click();
  await page.getByLabel("Contract", { exact: true }).fill("openapi: 3.1.0\npaths:\n  /scans:\n    post:\n      requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/Scan'}}}}\ncomponents: {schemas: {Scan: {type: object, required: [item], properties: {item: {type: string, pattern: '^[0-9]{5}$'}}}}}\n");
  await page.getByRole("button", { name: "Read it" }).click();
  await expect(page.getByLabel("What comes in")).toHaveValue("POST /scans");
  await expect(page.getByTestId("made")).toContainText('{"item":"11111"}');
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await expect(page.getByRole("heading", { name: "Kiosk scans" })).toBeVisible();
  await expect(cell(page, "valid", 0)).toHaveText("valid");
  await cell(page, "valid", 0).click();
  await page.getByRole("button", { name: "infer it from the samples" }).click();
  await expect(page.getByRole("textbox", { name: "JSON Schema" })).toContainText('"type": "object"');
  await expect(page.getByRole("textbox", { name: "JSON Schema" })).not.toContainText("pattern");
  await expect(cell(page, "valid", 0)).toHaveText("valid");
});

test("a table is a file of the flow, and a step looks up in it", async ({ page, goto }) => {
  await page.setViewportSize({ width: 1280, height: 800 });
  await goto("/flows/delivery-notes");
  await expect(cell(page, "list", 1)).toHaveText("8 of 8 set");
  await cell(page, "list", 1).click();
  await page.getByRole("button", { name: "as it is written" }).click();
  const grid = page.getByTestId("after").getByTestId("grid");
  await expect(grid).toContainText("Quayside Library Supply");
  await page.getByRole("button", { name: "Files", exact: true }).click();
  const dialog = page.getByRole("dialog", { name: "Files of this flow" });
  await expect(dialog).toContainText("read by list");
  const text = dialog.getByRole("textbox", { name: "Text of the file" });

  await test.step("a wrong table is refused beside its text, and nothing is lost", async () => {
    await retype(page, "Text of the file", "code,name\nQUAY,One\nQUAY,Two\n");
    await dialog.getByRole("button", { name: "Save the file" }).click();
    await expect(dialog.getByRole("alert")).toContainText('line 3: the key "QUAY" stands twice');
    await expect(text).toContainText("QUAY,Two");
  });

  await test.step("a saved one is looked up in at once", async () => {
    await retype(page, "Text of the file", "code,name\nQUAY,Harbour Books\n");
    await dialog.getByRole("button", { name: "Save the file" }).click();
    await expect(page.getByText("tables/suppliers.csv is saved with the draft")).toBeVisible();
    await page.keyboard.press("Escape");
    await expect(grid).toContainText("Harbour Books");
  });

  await test.step("removed, it is missed where it is named, and can be brought back", async () => {
    await page.getByRole("button", { name: "Files", exact: true }).click();
    await dialog.getByRole("button", { name: "Remove" }).click();
    await expect(dialog).toContainText("No files yet");
    await dialog.getByRole("button", { name: "Bring it back" }).click();
    await expect(dialog).toContainText("read by list");
  });

  await test.step("another one comes from this computer", async () => {
    await dialog.getByLabel("File from this computer").setInputFiles({ name: "vans.csv", mimeType: "text/csv", buffer: Buffer.from("van,driver\n1,Ilse\n") });
    await expect(dialog.getByRole("textbox", { name: "Name of the file" })).toHaveValue("tables/vans.csv");
    await dialog.getByRole("button", { name: "Save the file" }).click();
    await expect(dialog).toContainText("no step names it");
    await page.keyboard.press("Escape");
  });

  await test.step("the draft goes on being saved after its files", async () => {
    await page.getByRole("button", { name: "line by line" }).click();
    await page.getByRole("option").filter({ hasText: /^supplier/ }).dblclick();
    await retype(page, "Value of supplier", 'lookup("vens", "1").driver');
    await expect(page.getByText('there is no table "vens"').first()).toBeVisible();
    await retype(page, "Value of supplier", 'lookup("vans", "1").driver');
    await page.getByRole("button", { name: "as it is written" }).click();
    await expect(grid).toContainText("Ilse");
    await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
  });
});

test("a wrong contract is told by name", async ({ page, goto }) => {
  await goto("/flows?start=flow");
  await page.getByText("From a contract").click();
  await page.getByLabel("Contract", { exact: true }).fill('{"swagger": "2.0"}');
  await page.getByRole("button", { name: "Read it" }).click();
  await expect(page.getByRole("alert")).toContainText("OpenAPI 2.0 is not read here");
});

test("a text is written and converted, and examples of functions are run", async ({ page, goto }) => {
  await goto("/flows/interloan-asks");
  await cell(page, "ask", 0).click();
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByPlaceholder("What should it do?").fill("write");
  await page.keyboard.press("Enter");
  await retype(page, "Text", '<ask for="${body.ask}">${body.item} & more</ask>');
  await expect(cell(page, "write", 0)).toContainText("what was written is no document of its format");
  await retype(page, "Text", '<ask for="${body.ask}">${body.item}</ask>');
  await expect(cell(page, "write", 0)).toHaveText("as xml");
  await expect(page.getByTestId("after").getByTestId("laid")).toContainText("<ask for=");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByPlaceholder("What should it do?").fill("convert");
  await page.keyboard.press("Enter");
  await page.getByLabel("New format").selectOption("json");
  await expect(cell(page, "convert", 0)).toHaveText("xml to json");
  await expect(page.getByTestId("after")).toContainText('"#text"');

  await goto("/help");
  const shown = page.locator("#expressions article", { hasText: "padStart(x, length, fill)" });
  await shown.getByRole("button", { name: "try it" }).first().click();
  await shown.getByLabel("Expression").fill('padStart("41", 6, "*")');
  await shown.getByRole("button", { name: "Evaluate" }).click();
  await expect(shown.getByRole("status")).toHaveText('"****41"');
  await shown.getByLabel("Expression").fill("padStart(");
  await shown.getByRole("button", { name: "Evaluate" }).click();
  await expect(shown.getByRole("status")).toContainText("ends before it is complete");
});

const openapi = `openapi: 3.1.0
info: {title: Rooms, version: '1'}
servers: [{url: 'https://rooms.example/v2'}]
paths:
  /rooms/{room}/bookings:
    post:
      summary: Book a room
      requestBody: {content: {application/json: {schema: {type: object, required: [hours], properties: {hours: {type: integer}}}}}}
  /rooms: {get: {summary: List rooms}}
`;

test("a connection has the operations of its partner's contract, and a delivery is offered them", async ({ page, goto, app }) => {
  await goto("/connections?open=%2Bhttp");
  await page.getByLabel("Name", { exact: true }).fill("rooms");
  await page.getByText("From the partner's contract").click();
  await page.getByLabel("Contract", { exact: true }).fill("{");
  await page.getByRole("button", { name: "Read it" }).click();
  await expect(page.getByText(/cannot be read/)).toBeVisible();
  await page.getByLabel("Contract", { exact: true }).fill(openapi);
  await page.getByRole("button", { name: "Read it" }).click();
  await expect(page.getByText("2 operations of the partner's contract")).toBeVisible();
  await expect(page.getByLabel("Base address")).toHaveValue("https://rooms.example/v2");
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByText("rooms is saved")).toBeVisible();
  await page.request.put(`${app.base}/api/v1/flows/booking`, {
    headers: { "content-type": "application/yaml" },
    data: "readyferry: flow/1\nname: booking\nintake: {kind: webhook, path: /booking}\nsteps: [{id: d, kind: deliver, to: rooms}]\n",
  });
  await goto("/flows/booking");
  await cell(page, "d", -1).click();
  await page.getByLabel("Operation").selectOption("POST /rooms/{room}/bookings");
  await expect(page.getByTestId("sheet").locator("[data-path=d]")).toContainText("/rooms/${body.room}/bookings");
  await page.getByText("What it takes, made up").click();
  await expect(page.getByText('{"hours":1}')).toBeVisible();
});

test("a flow that a WSDL describes answers envelopes, and refuses with faults", async ({ page, goto, app }) => {
  const wsdl = `<definitions targetNamespace="urn:desk" xmlns:tns="urn:desk" xmlns="http://schemas.xmlsoap.org/wsdl/"><types>
   <x:schema xmlns:x="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:desk" elementFormDefault="qualified">
   <x:element name="Lend"><x:complexType><x:sequence><x:element name="days" type="x:int"/></x:sequence></x:complexType></x:element>
   <x:element name="Lent" type="x:string"/></x:schema></types>
   <message name="In"><part name="p" element="tns:Lend"/></message><message name="Out"><part name="p" element="tns:Lent"/></message>
   <portType name="T"><operation name="Lend"><input message="tns:In"/><output message="tns:Out"/></operation></portType></definitions>`;
  await goto("/flows");
  await page.getByRole("button", { name: "Start a flow" }).click();
  await page.getByLabel("Title").fill("Lending");
  await page.getByText("From a contract: a schema and a sample come with it").click();
  await page.getByLabel("Contract", { exact: true }).fill(wsdl);
  await page.getByRole("button", { name: "Read it" }).click();
  await expect(page.getByTestId("made")).toContainText("<soap:Envelope");
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await expect(cell(page, "valid", 0)).toHaveText("valid");
  await publish(page);
  await expect(page.getByText("Version 1 is live", { exact: true })).toBeVisible();
  const say = (days: string) =>
    page.request.post(`${app.base}/in/lending`, {
      headers: { "content-type": "text/xml" },
      data: `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><d:Lend xmlns:d="urn:desk"><d:days>${days}</d:days></d:Lend></e:Body></e:Envelope>`,
    });
  expect(await (await say("3")).text()).toContain("Lent");
  const refused = await say("soon");
  expect(refused.status()).toBe(500);
  expect(await refused.text()).toContain("<faultcode>soap:Client</faultcode>");
});
