import { against, cell, expect } from "./app";
import { begin, order, pick } from "./hands";

const test = against("serve");

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
