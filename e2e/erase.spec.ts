import { against, expect } from "./app";

const test = against("demo", "--trickle", "0");

test("a reader's card is erased from what the patron desk was asked, and is nowhere any more", async ({ page, app, goto }) => {
  const asked = await page.request.get(`${app.base}/in/patrons/LC4417203`, { headers: { "x-api-key": "larkfield-demo-key" } });
  expect(await asked.json()).toMatchObject({ card: "LC4417203", known: true });
  await goto("/transactions?flow=patron-desk");
  await expect(page.getByText("LC4417203").first()).toBeVisible();
  await goto("/settings");
  await page.getByLabel("Flow that masks it").selectOption("patron-desk");
  await page.getByLabel("Value in that field").fill("LC4");
  await page.getByRole("button", { name: "Count first" }).click();
  await expect(page.getByRole("alert")).toContainText("at least 4 letters");
  await page.getByLabel("Value in that field").fill("LC4417203");
  await expect(page.getByRole("button", { name: "Erase it" })).toBeDisabled();
  await page.getByRole("button", { name: "Count first" }).click();
  await expect(page.getByTestId("erasure")).toContainText("would be blanked");
  await page.getByRole("button", { name: "Erase it" }).focus();
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("erasure")).toContainText("are blanked");
  for (const flow of ["patron-desk", "patron-lookup"]) {
    await goto(`/transactions?flow=${flow}`);
    await expect(page.getByText("•••").first()).toBeVisible();
    await expect(page.getByText("LC4417203")).toHaveCount(0);
  }
  const line = await page.request.get(`${app.base}/api/v1/audit-export`);
  expect(await line.text()).not.toContain("LC4417203");
});
