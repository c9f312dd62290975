import { against, asText, cell, expect, retype, saved } from "./app";

const test = against("demo", "--trickle", "0");
test.describe.configure({ mode: "default" });

test("a click on a value fills the marked row, and undo takes it back", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "slip", 0).click();
  const request = page.getByRole("option").filter({ hasText: /^request/ });
  await expect(request).toContainText('"HR-20811"');
  await request.click();
  await page.getByTestId("before").getByRole("button", { name: '"31408-20931-7"' }).click();
  await expect(request).toContainText('"31408-20931-7"');
  await page.getByRole("button", { name: "as it is written" }).click();
  await expect(page.getByTestId("after")).toContainText('"request": "31408-20931-7"');
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByTestId("after")).toContainText('"request": "HR-20811"');
  await page.getByRole("button", { name: "Redo" }).click();
  await expect(page.getByTestId("after")).toContainText('"request": "31408-20931-7"');
  await page.keyboard.press("Control+z");
  await expect(page.getByTestId("after")).toContainText('"request": "HR-20811"');
});

test("paths of the sample complete an expression", async ({ page, goto, app }) => {
  await goto("/flows/hold-requests");
  await cell(page, "slip", 0).click();
  const request = page.getByRole("option").filter({ hasText: /^request/ });
  await request.dblclick();
  await retype(page, "Value of request", "");
  await page.keyboard.type("body.pat");
  await expect(page.locator(".cm-tooltip-autocomplete")).toContainText("body.patron.card");
  await page.keyboard.press("Escape");
  // However fast a person types, nothing is lost on the way to the server and back.
  const long = 'body.patron.card + " " + body.request + " " + body.item + " of " + string(size(body.item))';
  await retype(page, "Value of request", "");
  for (const c of long) await page.keyboard.insertText(c);
  await expect(page.getByRole("textbox", { name: "Value of request" })).toHaveText(long);
  await expect(request).toContainText("LC 4417 203 HR-20811 31408-20931-7 of 13");
  await retype(page, "Value of request", "body.request");
  await expect(request).toContainText('"HR-20811"');
  await saved(page, app, "hold-requests", "from: body.request");
});

test("a wrong expression shows its error in its row and on the desk, and is not published", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "open-only", 0).click();
  await asText(page);
  await retype(page, "Goes on when", "bdoy.status == 1");
  await expect(page.getByTestId("settings").getByRole("alert")).toContainText("did you mean body?");
  await expect(page.locator("[data-path=open-only]")).toContainText('there is no name or function "bdoy"');
  await expect(cell(page, "open-only", 0)).toContainText("there is no name");
  await page.getByRole("button", { name: "Publish a new version" }).click();
  await expect(page.getByTestId("checks")).toContainText('there is no name or function "bdoy"');
  await expect(page.getByTestId("checks")).toContainText("line");
  await expect(page.getByTestId("changes")).toContainText("bdoy.status == 1");
  await expect(page.getByRole("button", { name: /^Make it version/ })).toBeDisabled();
  await page.getByRole("link", { name: "Back to the sheet" }).click();
  await cell(page, "open-only", 0).click();
  await asText(page);
  await retype(page, "Goes on when", 'body.request != "HR-20811"');
  await expect(cell(page, "open-only", 0)).toHaveText("turned away");
  await expect(cell(page, "slip", 0)).toHaveText("·");
});

test("everything works from the keyboard", async ({ page, goto }) => {
  await goto("/flows/return-scans");
  await expect(cell(page, "scan", 0)).toHaveText("4 of 4 set");
  await page.getByRole("grid").focus();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("note");
  await page.keyboard.press("Enter");
  await expect(cell(page, "note", 0)).toHaveText("seen");
  await page.getByRole("grid").focus();
  await page.keyboard.press("Enter");
  await page.keyboard.press("Control+a");
  await page.keyboard.insertText("item ${body.item}");
  await expect(cell(page, "note", 0)).toContainText("item 31408-20931-7");
  await page.keyboard.type(" b"); // a letter makes the editor look for offers, which are not there yet
  await page.keyboard.press("Escape");
  await expect(page.getByRole("grid")).toBeFocused();
  await page.keyboard.press("Alt+ArrowUp");
  const paths = () => page.locator("[data-testid=sheet] [data-path]").evaluateAll((r) => r.map((x) => (x as HTMLElement).dataset.path));
  await expect.poll(paths).toEqual(["", "note", "valid", "scan", "tell"]);
  await page.keyboard.press("d");
  await expect.poll(paths).toEqual(["", "note", "note-2", "valid", "scan", "tell"]);
  await page.keyboard.press("x");
  await expect(page.locator("[data-path=note-2]")).toContainText("switched off");
  await page.keyboard.press("Delete");
  await expect.poll(paths).toEqual(["", "note", "valid", "scan", "tell"]);
  await page.keyboard.press("Control+z");
  await expect.poll(paths).toEqual(["", "note", "note-2", "valid", "scan", "tell"]);
  await page.keyboard.press("/");
  await page.getByPlaceholder(/A flow, a reference/).fill("hold");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Hold requests" })).toBeVisible();
});

test("the document is the same as YAML", async ({ page, goto, app }) => {
  await goto("/flows/interloan-asks");
  await page.getByRole("button", { name: "As YAML" }).click();
  const editor = page.getByRole("textbox", { name: "The flow as YAML" });
  await expect(editor).toContainText("readyferry: flow/1");
  await retype(page, "The flow as YAML", "readyferry: flow/1\nname: interloan-asks\nintake: {kind: queue, queue: interloan-asks}\nstpes: []\nsteps: []\n");
  await expect(page.locator("aside")).toContainText('the key "stpes" is not known here');
  await expect(page.locator("aside")).toContainText("did you mean steps?");
  await retype(page, "The flow as YAML", "readyferry: flow/1\nname: interloan-asks\nintake: {kind: queue, queue: interloan-asks} # a remark\nsteps:\n- {id: only, kind: note, text: hello}\n");
  await page.getByRole("button", { name: "As a sheet" }).click();
  await expect(cell(page, "only", 0)).toHaveText("hello");
  await expect(page.getByTestId("flow-status")).toContainText("edit");
  await saved(page, app, "interloan-asks", "id: only");
  await page.reload();
  await expect(cell(page, "only", 0)).toHaveText("hello");
  await page.getByRole("button", { name: "As YAML" }).click();
  await expect(editor).toContainText("# a remark");
});

test("a sample is added, pinned and seen to differ", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "open-only", 0).click();
  await asText(page);
  await retype(page, "Goes on when", "true");
  await page.getByRole("button", { name: "+ sample" }).click();
  await page.getByLabel("Name of the sample").fill("second copy");
  await retype(page, "Message", '{"request":"HR-9","patron":{"card":"LC 1111 222"},"item":"9","format":"ebook"}');
  await page.getByLabel("Headers", { exact: true }).fill("content-type: application/json\nrequest-id: s9");
  await page.getByRole("button", { name: "Keep", exact: true }).click();
  await expect(page.getByRole("button", { name: /second copy/ })).toBeVisible();
  await page.getByRole("button", { name: /second copy/ }).click();
  await page.getByRole("button", { name: "Expect this" }).click();
  await expect(page.getByText("All 1 as expected")).toBeVisible();
  await cell(page, "by-home.digital", -1).click();
  await asText(page);
  await retype(page, "Taken when", "false");
  await expect(page.getByText("1 not as expected")).toBeVisible();
});

test("a schema is taken in and changed, and an earlier version comes back", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "valid", 0).click();
  await page.getByRole("button", { name: "write it here instead" }).click();
  await expect(page.getByRole("textbox", { name: "JSON Schema" })).toContainText('"required"');
  await retype(page, "JSON Schema", '{"type": "objct"}');
  await expect(page.getByTestId("settings").getByRole("alert")).toContainText("the schema does not compile");
  await expect(page.getByTestId("flow-status")).toContainText("not saved");
  await retype(page, "JSON Schema", '{"type": "object", "required": ["nothing"]}');
  await expect(cell(page, "valid", 0)).toHaveText("422, /nothing");
  await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
  await expect(async () => { // the head says more as samples come back, and its buttons move
    await page.getByRole("button", { name: "Versions" }).click();
    await page.getByRole("button", { name: "take into the draft" }).last().click({ timeout: 5000 });
  }).toPass();
  await expect(cell(page, "valid", 0)).toHaveText("valid");
  await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
});

test("a flow is removed after saying what is lost", async ({ page, goto }) => {
  await goto("/flows");
  await page.getByRole("button", { name: "Start a flow" }).click();
  await page.getByLabel("Title", { exact: true }).fill("Passing idea");
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await page.getByRole("button", { name: "Versions" }).click();
  await page.getByRole("button", { name: "Remove this flow…" }).click();
  await expect(page.getByRole("dialog")).toContainText("all samples of passing-idea will be lost");
  await page.getByRole("button", { name: "Remove the flow" }).click();
  await expect(page.getByRole("link", { name: "Hold requests" })).toBeVisible();
  await expect(page.getByRole("link", { name: "Passing idea" })).toHaveCount(0);
});

test("connections are made, tested and kept without showing their secret", async ({ page, goto }) => {
  await goto("/connections");
  await page.getByRole("button", { name: "Connect a system" }).click();
  await page.getByRole("button", { name: /^HTTP/ }).click();
  await page.getByLabel("Name", { exact: true }).fill("notices");
  await page.getByLabel("Base address").fill("nowhere");
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("alert").first()).toContainText("is no address that can be called");
  await expect(page.getByLabel("Base address")).toHaveValue("nowhere");
  await page.getByLabel("Base address").fill("stand-in://digital-lender");
  await page.getByLabel("Sign-in").selectOption("bearer");
  await page.getByLabel("Secret").fill("a-token");
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByLabel("Secret")).toHaveValue("");
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByRole("status")).toContainText("it answers with 201");
  await page.getByRole("row", { name: /shelf-printer/ }).click();
  await page.getByRole("button", { name: "Remove" }).click();
  await expect(page.getByText(/still in use/)).toBeVisible();
});
