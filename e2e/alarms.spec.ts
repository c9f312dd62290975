import { against, expect } from "./app";

const headers = { "x-api-key": "larkfield-demo-key", "content-type": "application/json" };

const test = against("demo", "--trickle", "0");

test("a rule is tried on the past, rings, tells, and is taken in hand", async ({ page, goto, app }) => {
  for (const n of [1, 2, 3]) {
    const sent = await page.request.post(`${app.base}/in/hold-requests/web`, {
      headers: { ...headers, "request-id": `alarm-${n}` },
      data: { request: `HR-9${n}`, patron: { card: "LC 4417 203" }, item: "1", format: "book", copies: [{ branch: "MARL", shelf: "F" }] },
    });
    expect(sent.ok()).toBe(true);
  }
  await goto("/flows");
  await page.getByRole("link", { name: /alarm/ }).first().click();
  await page.getByRole("tab", { name: "Rules" }).click();
  await page.getByRole("button", { name: "Add a rule" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("Title").fill("Many hold requests");
  await dialog.getByLabel("What is watched").selectOption("received");
  await dialog.getByLabel("Of which flow").selectOption("hold-requests");
  await dialog.getByLabel("Limit").fill("5");
  await expect(dialog.getByTestId("tried")).toContainText("would never have rung in the last");
  await dialog.getByLabel("Limit").fill("2");
  await expect(dialog.getByTestId("tried")).toContainText("would have rung once in the last");
  await expect(dialog.getByTestId("tried")).toContainText("at worst 3 messages of hold-requests");
  await dialog.getByLabel("What one does about it").fill("Ask the portal desk.");
  await dialog.getByRole("button", { name: "tell somebody" }).click();
  await dialog.getByLabel("Receiver 1").selectOption("c/service-desk");
  await dialog.getByLabel("Path 1").fill("/alarms");
  await dialog.getByLabel("After 1").fill("soon");
  await dialog.getByLabel("urgent: at once, in quiet times too").check();
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(page.getByText(/"soon" is no span of time/)).toBeVisible();
  await dialog.getByLabel("After 1").fill("");
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(dialog).toBeHidden();

  await page.getByRole("tab", { name: "Now" }).click();
  const alarm = page.getByTestId("alarm").filter({ hasText: "Many hold requests" });
  await expect(alarm).toContainText("3 messages now");
  await expect(alarm).toContainText("Ask the portal desk.");
  await page.getByRole("tab", { name: "Who was told" }).click();
  await expect(page.getByRole("row", { name: /Many hold requests: hold-requests/ })).toContainText("taken");
  await page.getByRole("tab", { name: "Now" }).click();
  await alarm.getByRole("button", { name: "I have it in hand" }).click();
  await dialog.getByLabel("Your name").fill("Maud");
  await dialog.getByLabel("Note").fill("it is the school project");
  await dialog.getByRole("button", { name: "I have it in hand" }).click();
  await expect(alarm).toContainText("Maud has it in hand");
  await expect(alarm).toContainText("it is the school project");
  await alarm.getByRole("link", { name: "See the flow" }).click();
  await expect(page).toHaveURL(/\/flows\/hold-requests$/);
});

test("a calendar is read, shown and named by a rule and a connection", async ({ page, goto }) => {
  await goto("/alarms?show=calendars");
  await page.getByRole("button", { name: "Add a calendar" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("Name").fill("nights");
  await dialog.getByLabel("Title").fill("Nights of the index");
  await dialog.getByLabel("Calendar file", { exact: true }).fill("BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:a\nDTSTART:tomorrow\nEND:VEVENT\nEND:VCALENDAR\n");
  await expect(dialog.getByRole("alert")).toContainText('"tomorrow" is no time');
  await expect(dialog.getByRole("button", { name: "Save" })).toBeDisabled();
  await dialog
    .getByLabel("Calendar file", { exact: true })
    .fill("BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:a\nDTSTART:20260101T020000\nDURATION:PT2H\nRRULE:FREQ=DAILY\nEND:VEVENT\nEND:VCALENDAR\n");
  await expect(dialog.getByTestId("calendar-preview")).toContainText("next from");
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("region", { name: "Nights of the index" })).toContainText("nothing follows it");
  const opening = page.getByRole("region", { name: "Opening hours of the branches" });
  await expect(opening).toContainText("without holidays");
  await expect(opening).toContainText("followed by the rule No hold requests come");
  await opening.getByRole("button", { name: "Opening hours of the branches" }).click();
  await dialog.getByRole("button", { name: "Remove" }).click();
  await expect(page.getByText(/the rule No hold requests come follows it/)).toBeVisible();
});

test("the log tells of all flows, is filtered, and is held while one reads", async ({ page, goto, app }) => {
  const send = (request: string, branch: string) =>
    page.request.post(`${app.base}/in/hold-requests/web`, {
      headers: { ...headers, "request-id": request },
      data: { request, patron: { card: "LC 4417 203" }, item: "1", format: "book", copies: [{ branch, shelf: "F" }] },
    });
  await send("HR-501", "MARL");
  await goto("/transactions");
  await page.getByRole("link", { name: "Log", exact: true }).click();
  const lines = page.getByTestId("log-line");
  await expect(lines.filter({ hasText: "HR-501" }).first()).toBeVisible();
  await page.getByLabel("Words").fill("hr-50");
  await expect(lines.filter({ hasNotText: "HR-50" })).toHaveCount(0);
  for (const other of ["dead letters", "failed tries", "notes"]) await page.getByRole("checkbox", { name: other }).uncheck();
  await expect(page).toHaveURL(/what=end/);
  await expect(lines.filter({ hasText: "delivered" })).toHaveCount(1);
  await page.getByRole("button", { name: "Hold still" }).click();
  await send("HR-502", "MARL");
  await page.getByRole("button", { name: "newer lines, show" }).click();
  await expect(lines.filter({ hasText: "HR-502" }).first()).toBeVisible();
  await lines.filter({ hasText: "HR-501" }).first().click();
  await expect(page).toHaveURL(/\/transactions\//);
});

test("a connection shows what comes in by it, and a source is held and let go on", async ({ page, goto }) => {
  await goto("/connections?open=circulation-db");
  const sources = page.getByTestId("sources");
  await expect(sources.getByRole("link", { name: "loan-changes" })).toBeVisible();
  await expect(sources).toContainText("in the last hour");
  await expect(sources).toContainText("asked next");
  await sources.getByRole("button", { name: "Hold" }).click();
  await expect(sources).toContainText("held;");
  await sources.getByRole("button", { name: "Let it take messages again" }).click();
  await expect(sources.getByRole("button", { name: "Hold" })).toBeVisible();
  await sources.getByRole("button", { name: "Skip this wait" }).click();
});

test("what was delivered is sent again from a narrowed list, looked at beforehand", async ({ page, goto, app }) => {
  for (const n of [1, 2]) {
    const sent = await page.request.post(`${app.base}/in/hold-requests/web`, {
      headers: { ...headers, "request-id": `again-${n}` },
      data: { request: `HR-70${n}`, patron: { card: "LC 4417 203" }, item: "1", format: "book", copies: [{ branch: "MARL", shelf: "F" }] },
    });
    expect(sent.ok()).toBe(true);
  }
  await goto("/transactions?flow=hold-requests&state=delivered&filter=reference%3AHR-70");
  const rows = page.getByRole("grid", { name: "Transactions" }).getByRole("row");
  await expect(rows).toHaveCount(2);
  await page.getByRole("button", { name: "Send again…" }).click();
  const dialog = page.getByRole("dialog");
  await expect(dialog.getByTestId("look-again")).toContainText("delivered");
  await dialog.getByLabel("Keys").selectOption("new");
  await dialog.getByLabel("Why").fill("the printer was out of paper");
  await dialog.getByRole("button", { name: "Send 2 again" }).click();
  await expect(page).toHaveURL(/\/dead-letters\/repairs\//);
  await expect(page.getByText("done, 2 of 2 gone through")).toBeVisible();
  await goto("/transactions?filter=reference%3AHR-70");
  await expect(rows).toHaveCount(4);
});
