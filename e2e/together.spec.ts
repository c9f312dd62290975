import { against, asText, cell, expect, retype, saved } from "./app";

const test = against("demo", "--trickle", "0");

test("two people edit one draft: what each did is kept, and where both did the same they choose", async ({ page, context, goto, app }) => {
  const other = await context.newPage();
  await page.addInitScript(() => localStorage.setItem("who", "Ines"));
  await goto("/flows/hold-requests");
  await other.goto(`${app.base}/flows/hold-requests`);
  await expect(other.getByTestId("others")).toContainText("Ines");
  await expect(page.getByTestId("others")).toBeVisible();
  // The other one changes a way and a filter, and that is saved.
  await cell(other, "by-home.digital", 0).click();
  await asText(other);
  await retype(other, "Taken when", 'body.format == "ebook" || body.format == "audio"');
  await cell(other, "open-only", 0).click();
  await asText(other);
  await retype(other, "Goes on when", 'body.?status.orValue("open") != "shut"');
  await saved(other, app, "hold-requests", '"shut"');
  // Here a note is added, and the same filter is changed.
  await cell(page, "open-only", 0).click();
  await asText(page);
  await retype(page, "Goes on when", 'body.?status.orValue("open") != "gone"');
  const dialog = page.getByRole("dialog", { name: "Somebody else has changed this draft" });
  await expect(dialog).toContainText("They changed 2 steps, you one step");
  await expect(dialog.getByTestId("clashes").getByRole("row")).toHaveCount(2);
  await expect(dialog.getByTestId("clashes")).toContainText('"shut"');
  await dialog.getByRole("radio").first().check();
  // What is saved while they choose is not written over: it is asked again.
  const flow = `${app.base}/api/v1/flows/hold-requests`;
  const now = await page.request.get(flow);
  const third = await page.request.put(flow, {
    headers: { "If-Match": now.headers()["etag"] ?? "" },
    data: { ...(await now.json()).document, note: "by a third one" },
  });
  expect(third.ok()).toBe(true);
  await dialog.getByRole("button", { name: "Bring both together" }).click();
  await expect(dialog).toContainText("No two changes touch the same setting");
  await dialog.getByRole("button", { name: "Bring both together" }).click();
  await saved(page, app, "hold-requests", "by a third one");
  await saved(page, app, "hold-requests", '"gone"');
  await saved(page, app, "hold-requests", 'body.format == "audio"');
  await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
  await expect(cell(page, "by-home.digital", -1)).toContainText("audio");
  // Undo takes back what was done here, and nothing of what the others did.
  await page.getByRole("button", { name: "Undo" }).click();
  await saved(page, app, "hold-requests", '"shut"');
  await expect(cell(page, "by-home.digital", -1)).toContainText("audio");
  await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
  const draft = await (await page.request.get(flow)).json();
  expect(draft.document.note).toBe("by a third one");
});

test("who leaves the page while two drafts are to be brought together finds both when coming back", async ({ page, goto, app }) => {
  await goto("/flows/return-scans");
  await expect(cell(page, "scan", 0)).toHaveText("4 of 4 set");
  const flow = `${app.base}/api/v1/flows/return-scans`;
  const now = await page.request.get(flow);
  const other = await page.request.put(flow, {
    headers: { "If-Match": now.headers()["etag"] ?? "" },
    data: { ...(await now.json()).document, note: "by the other one" },
  });
  expect(other.ok()).toBe(true);
  await page.getByRole("grid").focus();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("note");
  await page.keyboard.press("Enter");
  const dialog = page.getByRole("dialog", { name: "Somebody else has changed this draft" });
  await expect(dialog).toContainText("you one step");
  await page.reload();
  await expect(dialog).toContainText("you one step");
  await dialog.getByRole("button", { name: "Bring both together" }).click();
  await saved(page, app, "return-scans", "kind: note");
  await saved(page, app, "return-scans", "by the other one");
  await page.reload();
  await expect(cell(page, "note", 0)).toHaveText("seen");
  await expect(dialog).toHaveCount(0);
});

test("steps and ways are copied as YAML, from flow to flow", async ({ page, context, goto }) => {
  await context.grantPermissions(["clipboard-read", "clipboard-write"]);
  await goto("/flows/hold-requests");
  await cell(page, "by-home.shelf", 0).click();
  await page.getByRole("grid").focus();
  await page.keyboard.press("Control+c");
  expect(await page.evaluate(() => navigator.clipboard.readText())).toMatch(/^- name: shelf\n {2}when: has\(body.branch\)/);
  await page.keyboard.press("Control+v");
  await expect(cell(page, "by-home.shelf-2", -1)).toContainText("has(body.branch)");
  await page.keyboard.press("Control+x");
  await expect(page.getByTestId("sheet").locator('[data-path="by-home.shelf-2"]')).toHaveCount(0);
  await cell(page, "slip", 0).click();
  await page.getByRole("grid").focus();
  await page.keyboard.press("Control+c");
  await goto("/flows/return-scans");
  await cell(page, "", 0).click();
  await page.getByRole("grid").focus();
  await page.keyboard.press("Control+v");
  await page.keyboard.press("Control+v");
  await expect(cell(page, "slip", -1)).toContainText("Map");
  await expect(cell(page, "slip-2", -1)).toContainText("Map");
  await page.evaluate(() => navigator.clipboard.writeText("only words"));
  await page.keyboard.press("Control+v");
  await expect(page.getByRole("dialog")).toContainText("only words"); // it is taken for a message
  await page.keyboard.press("Escape");
  for (let i = 0; i < 2; i++) await page.keyboard.press("Control+z");
  await expect(page.getByTestId("sheet").locator("[data-path=slip]")).toHaveCount(0);
});
