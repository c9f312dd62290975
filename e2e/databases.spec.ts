import { against, cell, expect, saved } from "./app";

// Changes of rows and written queries, with the demo that sends nothing by itself.
const test = against("demo", "--trickle", "0");

test("a row is changed by its columns, which the table offers", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/flows/cards`, {
    headers: { "content-type": "application/yaml" },
    data: "readyferry: flow/1\nname: cards\nintake: {kind: webhook, path: /cards, reference: body.card}\nsteps:\n- {id: keep, kind: deliver, to: circulation-write}\n",
  });
  await page.request.put(`${app.base}/api/v1/flows/cards/samples/one`, {
    data: { body: '{"card": "LC7", "name": "wren, ada", "branch": "ELMB"}', headers: { "content-type": "application/json" } },
  });
  await goto("/flows/cards");
  await cell(page, "keep", 0).click();
  const settings = page.getByTestId("settings");
  await settings.getByLabel("Table", { exact: true }).fill("patrons");
  await settings.getByLabel("Change", { exact: true }).selectOption("upsert");
  await settings.getByRole("button", { name: "its primary key: card" }).click();
  await settings.getByRole("button", { name: "add all 4 columns" }).click();
  await expect(settings.getByLabel("Columns, value of branch")).toContainText("body.branch");
  await settings.getByRole("button", { name: "Remove blocked" }).click();
  await expect(settings.getByRole("button", { name: /blocked integer/ })).toBeVisible();
  await settings.getByLabel("Must concern").selectOption("one");
  await saved(page, app, "cards", "expect: one");
  await page.request.post(`${app.base}/api/v1/flows/cards/publish`);
  await page.request.post(`${app.base}/in/cards`, { data: { card: "LC7", name: "wren, ada", branch: "ELMB" } });
  await goto("/transactions?flow=cards");
  await expect(page.getByRole("row", { name: /LC7/ })).toContainText("delivered");
});

test("a statement is written for who chooses tables and columns", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/flows/reads`, {
    headers: { "content-type": "application/yaml" },
    data: "readyferry: flow/1\nname: reads\nintake: {kind: webhook, path: /reads}\nsteps:\n- {id: row, kind: ask, of: circulation-db, sql: SELECT 1 AS one}\n",
  });
  await page.request.put(`${app.base}/api/v1/flows/reads/samples/one`, {
    data: { body: '{"state": "out"}', headers: { "content-type": "application/json" } },
  });
  await goto("/flows/reads");
  await cell(page, "row", 0).click();
  const settings = page.getByTestId("settings");
  await settings.getByRole("button", { name: "choose tables and columns" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("From").selectOption("loans");
  const loans = dialog.getByRole("group", { name: "loans" });
  await loans.getByRole("checkbox", { name: /^loan / }).check();
  await loans.getByRole("button", { name: "+ patrons over card" }).click();
  await dialog.getByRole("group", { name: "patrons" }).getByRole("checkbox", { name: /^name / }).check();
  await loans.getByRole("button", { name: "Where state" }).click();
  await loans.getByRole("button", { name: "Order by loan", exact: true }).click();
  await dialog.getByLabel("Most rows").fill("5");
  await dialog.getByRole("button", { name: "Write the statement" }).click();
  await expect(settings.getByLabel("Statement")).toContainText("JOIN `patrons` AS `patrons` ON `patrons`.`card` = `loans`.`card`");
  await expect(settings.getByLabel("Parameters, value of state")).toContainText("body.state");
  await saved(page, app, "reads", "LIMIT 5");
  await page.request.post(`${app.base}/api/v1/flows/reads/publish`);
  await page.request.post(`${app.base}/in/reads`, { data: { state: "overdue" } });
  await goto("/transactions?flow=reads");
  await expect(page.getByRole("row", { name: /delivered/ })).toBeVisible();
});
