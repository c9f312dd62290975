import AxeBuilder from "@axe-core/playwright";
import type { Page } from "@playwright/test";
import { against, cell, expect } from "./app";

const test = against("demo", "--trickle", "0");
test.describe.configure({ mode: "default" });

const pages = [
  "/alarms", "/alarms?show=rules", "/alarms?show=calendars", "/log",
  "/flows",
  "/flows/hold-requests",
  "/flows/hold-requests/publish",
  "/flows/hold-requests/callers",
  "/flows/hold-requests/paper",
  "/flows/loan-changes",
  "/transactions",
  "/dead-letters",
  "/queues",
  "/queues?topic=returns",
  "/connections?open=shelf-printer",
  "/connections?open=circulation-db",
  "/tables",
  "/tables?open=runs",
  "/stand-ins",
  "/help",
  "/help/step/route",
  "/help/system/http",
];

const violations = async (page: Page, where: string, colour = false) => {
  const axe = new AxeBuilder({ page }).setLegacyMode(); // no page of its own: there are no frames
  const found = await (colour ? axe.withRules(["color-contrast"]) : axe.withTags(["wcag2a", "wcag2aa"])).analyze();
  return found.violations.map((v) => `${where}: ${v.id} ${v.nodes.map((n) => n.target.join(" ")).slice(0, 4).join(" | ")}`);
};

test("what opens over the sheet is accessible, too", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await expect(cell(page, "slip", 0)).toHaveText("8 of 8 set");
  const look = async (where: string) => {
    await page.evaluate(() => Promise.allSettled(document.getAnimations().map((a) => a.finished)));
    expect(await violations(page, where)).toEqual([]);
  };
  await page.getByTestId("sheet").locator('[data-path="valid"] [role=rowheader]').click();
  await page.keyboard.press("Shift+ArrowDown");
  await look("several steps");
  await page.keyboard.press("Escape");
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("wait 5 minutes");
  await look("add a step");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "shelf copy", exact: true }).click();
  await page.getByRole("button", { name: "as a tree" }).click();
  await look("a sample");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Versions" }).click();
  await look("versions");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "More", exact: true }).click();
  await look("more");
  await page.keyboard.press("Escape");
  await goto("/flows");
  await page.getByRole("button", { name: "Start a flow" }).first().click();
  await look("start a flow");
});

// One test for each page, so that each has its own time on a slow machine. What a
// page is made of is the same in both themes; its colours are not.
for (const path of pages) {
  test(`${path} is accessible and reads well in both themes`, async ({ page, goto, app }) => {
    if (path.includes("topic"))
      await page.request.post(`${app.base}/in/returns/STOW`, { headers: { "x-api-key": "larkfield-demo-key" }, data: { scan: "RS-77", item: "1", home: "MARL" } });
    await goto(path);
    await expect(page.getByRole("heading").first()).toBeVisible();
    await expect(page.getByText("Loading…")).toHaveCount(0);
    for (const colorScheme of ["light", "dark"] as const) {
      await page.emulateMedia({ colorScheme });
      await page.evaluate(() => Promise.allSettled(document.getAnimations().map((a) => a.finished)));
      expect(await violations(page, `${path} ${colorScheme}`, colorScheme === "dark")).toEqual([]);
    }
  });
}
