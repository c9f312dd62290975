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
  await dialog.getByRole("button", { name: "Bring both together" }).click();
  await saved(page, app, "hold-requests", '"gone"');
  await saved(page, app, "hold-requests", 'body.format == "audio"');
  await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
  await expect(cell(page, "by-home.digital", -1)).toContainText("audio");
  // Bringing together is one step, which can be undone like any other.
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByTestId("flow-status")).not.toContainText("not saved");
});
