import { against, cell, expect, saved } from "./app";

const test = against("demo", "--trickle", "0");

test("samples are dropped, pasted, made up, caught, edited as a tree and kept in groups", async ({ page, goto, app }) => {
  const flow = `${app.base}/api/v1/flows/hold-requests`;
  await goto("/flows/hold-requests");
  const sheet = page.getByTestId("sheet");
  await expect(cell(page, "slip", 0)).toHaveText("8 of 8 set");
  // Files that are dropped become samples under their names.
  await page.evaluate(() => {
    const files = new DataTransfer();
    files.items.add(new File(['{"request": "HR-1"}'], "first one.json"));
    files.items.add(new File([new Uint8Array([0xff, 0xfe, 0x00])], "bytes.bin"));
    for (const type of ["dragover", "drop"]) document.body.dispatchEvent(new DragEvent(type, { bubbles: true, cancelable: true, dataTransfer: files }));
  });
  await expect(page.getByText("Kept as samples first one, bytes")).toBeVisible();
  await expect(sheet.getByRole("button", { name: "first one", exact: true })).toBeVisible();
  const kept = await (await page.request.get(`${flow}/samples/bytes`)).json();
  expect(kept.base64).toBe("//4A");
  // A text that is no steps is a message.
  await sheet.focus();
  await page.evaluate(() => {
    const text = new DataTransfer();
    text.setData("text/plain", '{"request": "HR-2", "patron": {"card": "LC 1"}}');
    document.body.dispatchEvent(new ClipboardEvent("paste", { clipboardData: text, bubbles: true, cancelable: true }));
  });
  const dialog = page.getByRole("dialog");
  await expect(dialog).toContainText("Add a sample");
  await dialog.getByRole("button", { name: "as a tree" }).click();
  const tree = dialog.getByTestId("tree-editor");
  await tree.getByLabel("message.patron.card", { exact: true }).fill("LC 4417");
  await tree.getByLabel("New member of message", { exact: true }).fill("copies");
  await tree.getByLabel("Kind of what is new in message", { exact: true }).selectOption("list");
  await tree.getByRole("button", { name: "add" }).last().click();
  await tree.getByRole("button", { name: "Remove message.request" }).click();
  await dialog.getByRole("button", { name: "as its text" }).click();
  await expect(dialog.getByLabel("Message", { exact: true })).toContainText('"copies": []');
  await dialog.getByLabel("Name of the sample").fill("by hand");
  await dialog.getByLabel("Group of the sample").fill("odd ones");
  // Made up of a schema of the flow, and of a type of HL7.
  await dialog.getByText("Make one up").click();
  await dialog.getByRole("button", { name: "of hold-request.schema.json" }).click();
  await expect(dialog.getByLabel("Message", { exact: true })).toContainText('"patron"');
  await dialog.getByRole("button", { name: "of this type" }).click();
  await expect(dialog.getByLabel("Message", { exact: true })).toContainText("ADT^A01");
  await dialog.getByLabel("Type of HL7 message").fill("XYZ^Q99");
  await dialog.getByRole("button", { name: "of this type" }).click();
  await expect(dialog).toContainText('has no message "XYZ^Q99"');
  await dialog.getByRole("button", { name: "of hold-request.schema.json" }).click();
  await dialog.getByRole("button", { name: "Keep" }).click();
  // A group is shown alone.
  await page.getByRole("button", { name: "More about samples" }).click();
  await page.getByRole("menuitemradio", { name: "odd ones" }).click();
  await expect(sheet.getByRole("button", { name: "by hand", exact: true })).toBeVisible();
  await expect(sheet.getByRole("button", { name: "shelf copy", exact: true })).toBeHidden();
  await page.getByRole("button", { name: "More about samples" }).click();
  await page.getByRole("menuitemradio", { name: "All samples" }).click();
  // The next message that comes, with what it was answered.
  await page.getByRole("button", { name: "More about samples" }).click();
  await page.getByRole("menuitem", { name: "Catch the next message" }).click();
  await expect(page.getByText("waits for a message")).toBeVisible();
  expect((await page.request.post(`${flow}/samples/ebook/send`, { data: {} })).ok()).toBe(true);
  await expect(page.getByText("A message came, and is the sample caught")).toBeVisible();
  await expect(sheet.getByRole("button", { name: "caught", exact: true })).toBeVisible();
});

test("stand-ins answer by form, and what is harmless is asked for real", async ({ page, goto, app }) => {
  await goto("/flows/hold-requests");
  const sheet = page.getByTestId("sheet");
  await cell(page, "open-only", 0).click();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("ask shelf-printer GET /state");
  await page.keyboard.press("Enter");
  const desk = page.getByLabel("Desk");
  await desk.getByLabel(/asking changes nothing there/).check();
  await saved(page, app, "hold-requests", "harmless: true");
  await sheet.getByRole("button", { name: "shelf copy", exact: true }).click();
  const answers = page.getByTestId("stand-in-answers");
  await answers.getByLabel("Status that to-shelf gets").fill("503");
  await answers.getByRole("button", { name: "try for real" }).click();
  await expect(answers.getByLabel("Status that ask gets")).not.toHaveValue("");
  await page.getByRole("button", { name: "Keep" }).click();
  await expect(cell(page, "by-home.shelf/to-shelf", 0)).toContainText("503");
  const sample = await (await page.request.get(`${app.base}/api/v1/flows/hold-requests/samples/shelf copy`)).json();
  expect(sample.replies["to-shelf"].status).toBe(503);
  expect(Object.keys(sample.replies)).toContain("ask");
  const refused = await page.request.post(`${app.base}/api/v1/flows/hold-requests/try`, {
    data: { sample, path: "by-home.shelf/to-shelf" },
  });
  expect(refused.status()).toBe(422);
});

test("a connection and a table that are not there are made without leaving the sheet", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "open-only", 0).click();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("deliver");
  await page.keyboard.press("Enter");
  const desk = page.getByLabel("Desk");
  await desk.getByLabel("Connection", { exact: true }).fill("new-desk");
  await desk.getByRole("button", { name: "make the connection new-desk here" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByRole("button", { name: /^HTTP/ }).first().click();
  await expect(dialog.getByLabel("Name", { exact: true })).toHaveValue("new-desk");
  await dialog.getByLabel("Address").fill("https://desk.larkfield.example");
  await dialog.getByRole("button", { name: /^Save|^Connect|^Make/ }).click();
  await expect(dialog).toBeHidden();
  await expect(desk.getByRole("button", { name: "make the connection new-desk here" })).toBeHidden();
});

test("a schema that a step is written by is made in the step", async ({ page, goto, app }) => {
  await goto("/flows/hold-requests");
  await cell(page, "slip", 0).click();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("convert");
  await page.keyboard.press("Enter");
  const desk = page.getByLabel("Desk");
  await desk.getByLabel("New format").selectOption("avro");
  await desk.getByText("Make a schema here").click();
  await desk.getByLabel("Name of the schema").fill("slip");
  await desk.getByRole("button", { name: "Make it" }).click();
  await expect(desk.getByLabel("Schema", { exact: true })).toHaveValue("schemas/slip.avsc");
  await saved(page, app, "hold-requests", "schemas/slip.avsc");
  const files = await (await page.request.get(`${app.base}/api/v1/flows/hold-requests/files`)).json();
  expect(files["schemas/slip.avsc"]).toContain('"name": "Message"');
});
