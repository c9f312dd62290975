import AxeBuilder from "@axe-core/playwright";
import { against, expect } from "./app";

const test = against("demo", "--trickle", "0");
test.describe.configure({ mode: "default" });

const pages = [
  "/flows",
  "/flows/hold-requests",
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
];

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
      const axe = new AxeBuilder({ page }).setLegacyMode(); // no page of its own: there are no frames
      const found = await (colorScheme === "light" ? axe.withTags(["wcag2a", "wcag2aa"]) : axe.withRules(["color-contrast"])).analyze();
      expect(found.violations.map((v) => `${path} ${colorScheme}: ${v.id} ${v.nodes.map((n) => n.target.join(" ")).slice(0, 4).join(" | ")}`)).toEqual([]);
    }
  });
}
