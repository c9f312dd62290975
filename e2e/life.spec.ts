import { against, expect } from "./app";

const test = against("demo");

test("every page of the demo has life within ten seconds", async ({ page, goto }) => {
  await goto("/transactions");
  await expect(page.getByRole("grid").getByRole("row").nth(4)).toBeVisible({ timeout: 10_000 });
  await goto("/queues");
  await expect(page.locator("[data-queue=interloan-asks] td").nth(3)).toHaveText("1");
  await goto("/dead-letters");
  await expect(page.getByRole("heading", { name: /^\d+ dead letters?, \d+ causes?/ })).toBeVisible();
  await goto("/flows");
  await expect(page.getByRole("img", { name: /in the last hour/ }).first()).toBeVisible();
  await goto("/stand-ins?open=shelf-printer");
  await expect(page.getByTestId("calls").locator("details").first()).toBeVisible();
});
