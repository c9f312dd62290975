import { execFileSync } from "node:child_process";
import { against, asText, cell, expect, publish, retype } from "./app";

const test = against("demo", "--trickle", "0");

test("design, publish, call, fail, repair and resend", async ({ page, app, goto }) => {
  await goto("/flows");
  await page.getByRole("link", { name: "Hold requests" }).click();

  await test.step("the sample cells show what each step does", async () => {
    await expect(cell(page, "slip", 0)).toHaveText("8 of 8 set");
    await expect(cell(page, "valid", 3)).toContainText("422, /patron/card");
    await expect(cell(page, "by-home", 0)).toHaveText("shelf");
    await expect(cell(page, "by-home", 1)).toHaveText("digital");
    await expect(cell(page, "by-home", 2)).toHaveText("otherwise");
    await expect(cell(page, "slip", 4)).toContainText("7 of 8 set");
    await expect(cell(page, "", 6)).toContainText("The body cannot be read");
  });

  await test.step("another condition moves a cell to another way", async () => {
    await cell(page, "by-home.digital", -1).click();
    await asText(page);
    await retype(page, "Taken when", 'body.format == "ebook" || body.format == "audio"');
    await expect(cell(page, "by-home", 2)).toHaveText("digital");
    await expect(page.getByTestId("flow-status")).toContainText("1 edit since version 1");
  });

  await test.step("publish", async () => {
    await publish(page);
    await expect(page.getByText("Version 2 is live")).toBeVisible();
    await expect(page.getByTestId("flow-status")).toHaveText("live: version 2");
  });

  await cell(page, "", 0).click();
  const curl = (await page.getByTestId("curl").textContent()) ?? "";
  const call = () => execFileSync("bash", ["-c", `${curl} -s`], { env: { ...process.env, PORTAL_KEY: "larkfield-demo-key" }, encoding: "utf8" });

  await test.step("a real webhook arrives by itself", async () => {
    await page.goto(`${new URL(page.url()).origin}/transactions?flow=hold-requests`);
    await expect(page.getByText("No transaction fits")).toBeVisible();
    expect(call()).toContain("202 Accepted");
    const row = page.locator("[data-reference=HR-20811]");
    await expect(row).toContainText("delivered");
  });

  await test.step("the printer refuses, the delivery waits", async () => {
    await page.getByRole("link", { name: "Stand-ins" }).click();
    await page.getByRole("button", { name: /^Shelf printers/ }).click();
    await page.getByRole("button", { name: "Refuse every call" }).click();
    await expect(page.getByTestId("doing")).toHaveText("refuses every call with 503");
    await page.getByRole("button", { name: "forget them" }).click();
    await expect(page.getByTestId("calls").locator("details")).toHaveCount(0);
    expect(call()).toContain("202 Accepted");
    await page.getByRole("link", { name: "Transactions" }).click();
    await page.locator("[data-reference=HR-20811]", { hasText: "waiting" }).click();
    await expect(page.getByTestId("state")).toContainText(/waiting for shelf-printer, tries again (in|now)/);
    const tries = page.getByTestId("tries");
    await expect(tries).toContainText("503");
    await expect(tries).toContainText("then dead letter");
    await expect(tries.locator("li").filter({ hasText: /at \d\d:\d\d:\d\d|^\d/ }).nth(3)).toBeVisible();
  });

  await test.step("the plan ends in a dead letter", async () => {
    await expect(page.getByTestId("state")).toContainText("given up after 4 tries", { timeout: 40_000 });
    await expect(page.getByTestId("last-answer")).toContainText("Refused");
    await page.getByRole("button", { name: "Repair" }).click();
    await expect(page.getByRole("heading", { name: "1 dead letter, 1 cause" })).toBeVisible();
    await expect(page.getByTestId("history")).toContainText("died");
  });

  await test.step("repair the message and resend", async () => {
    await page.evaluate(() => fetch("/api/v1/stand-ins/shelf-printer/behaviour", { method: "PUT", headers: { "Content-Type": "application/json" }, body: "{}" }));
    await retype(page, "Message", '{"request":"HR-20811","patron":{"card":"LC 4417 203"},"item":"1","format":"book","copies":[{"branch":"STOW","shelf":"F KEL"}]}');
    await expect(page.getByTestId("preview")).toContainText("STOW");
    await expect(page.getByTestId("preview")).toContainText("delivered, if the targets take it");
    await page.getByRole("button", { name: "Resend repaired" }).click();
    await page.getByRole("button", { name: "Show" }).click();
    await expect(page.getByTestId("state")).toContainText("delivered");
    await expect(page.getByTestId("tries").locator("li")).toHaveCount(5);
    await expect(page.getByTestId("tries")).toContainText("sent again by a person");
  });

  await test.step("exactly one copy came, under a steady key", async () => {
    await page.getByRole("link", { name: "Stand-ins" }).click();
    await page.getByRole("button", { name: /^Shelf printers/ }).click();
    const calls = page.getByTestId("calls").locator("details");
    await expect(calls).toHaveCount(5);
    const keys = await calls.evaluateAll((all) => all.map((c) => (c as HTMLElement).dataset.key));
    expect(new Set(keys).size).toBe(1);
    expect(keys[0]).toMatch(/^[0-9a-f-]{36}$/);
    await expect(page.getByTestId("calls").locator("details[data-copy='1']")).toHaveCount(1);
    await expect(page.getByTestId("calls").locator("details[data-copy='1']")).toContainText("/STOW/slips");
    await page.getByRole("link", { name: "Dead letters" }).click();
    await expect(page.getByText("A message that no step could work on")).toBeVisible();
  });
  expect(app.base).toContain("127.0.0.1");
});
