import type { Page } from "@playwright/test";
import { linesBetween } from "../web/src/model/described";
import { patterns } from "../web/src/model/patterns";
import { against, cell, expect } from "./app";

const test = against("serve");

/** Counts what a person does: each click, choice and text is one action. */
function hands(page: Page) {
  let n = 0;
  const by = (name: string | RegExp, role: "button" | "radio" = "button") => page.getByRole(role, { name });
  return {
    click: async (name: string | RegExp, role?: "button" | "radio") => {
      n++;
      await by(name, role).first().click();
    },
    fill: async (label: string, text: string) => {
      n++;
      await page.getByLabel(label, { exact: true }).fill(text);
    },
    count: () => n,
  };
}

for (const pattern of patterns)
  test(`from nothing to a green rehearsal: ${pattern.title}`, async ({ page, goto, app }) => {
    await goto("/flows");
    const hand = hands(page);
    await hand.click("Start a flow");
    await hand.click(pattern.title, "radio");
    await hand.click("Start");
    const sheet = page.getByTestId("sheet");
    for (const s of pattern.samples) await expect(sheet.getByRole("button", { name: s.name, exact: true })).toBeVisible();
    await expect(cell(page, pattern.steps[0]!.id, 0)).toHaveAttribute("data-reached", "true");
    const heads = sheet.getByRole("columnheader");
    await expect(heads.filter({ hasText: pattern.samples[0]!.name })).toContainText(/delivered|turned away/);
    await expect(page.getByText(/\d errors?$/)).toBeHidden();
    expect(hand.count()).toBeLessThanOrEqual(8);
    const name = new URL(page.url()).pathname.split("/").pop();
    const draft = await (await page.request.get(`${app.base}/api/v1/flows/${name}`)).json();
    expect(draft.findings.filter((f: { level: string }) => f.level === "error")).toEqual([]);
  });

test("a flow starts from what the partner sends and the target wants", async ({ page, goto }) => {
  expect(linesBetween('{"id": 7, "patron": {"card": "LC 1"}, "when": "x"}', '{"card": "", "request_id": 0, "when": "y"}')).toEqual([
    { to: "/card", from: "body.patron.card" },
    { to: "/request_id", from: "body.id" },
    { to: "/when", from: "body.when" },
  ]);
  await goto("/flows");
  const hand = hands(page);
  await hand.click("Start a flow");
  await hand.fill("Title", "Card changes");
  await page.getByText("From what the partner sends, and what the target wants").click();
  await hand.fill("A message as it comes", '{"patron": {"card": "LC 1", "name": "maud"}}');
  await hand.fill("A message as the target wants it", '{"card": "", "name": ""}');
  await hand.click("Start");
  await expect(cell(page, "target", 0)).toHaveText("2 of 2 set");
  expect(hand.count() + 1).toBeLessThanOrEqual(8);
});
