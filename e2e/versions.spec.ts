import { against, asText, cell, expect, publish, retype, saved } from "./app";

const test = against("demo", "--trickle", "0");

test("a version takes a share first, waits for its time, and gives way to an earlier one", async ({ page, goto, app }) => {
  const flow = `${app.base}/api/v1/flows/hold-requests`;
  await goto("/flows/hold-requests");
  await cell(page, "by-home.digital", 0).click();
  await asText(page);
  await retype(page, "Taken when", 'body.format == "ebook" || body.format == "audio"');
  await saved(page, app, "hold-requests", 'body.format == "audio"');
  await page.getByRole("button", { name: "Publish a new version" }).click();
  await expect(page.getByTestId("checks")).toContainText("Interloan asks reads the queue interloan-asks");
  await page.getByLabel("Your name").fill("Ines");
  await page.getByRole("button", { name: "For a share first…" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("It takes one message in").fill("1");
  await expect(dialog.getByText("a whole number from 2 to 10,000")).toBeVisible();
  await expect(dialog.getByRole("button", { name: "Begin" })).toBeDisabled();
  await dialog.getByLabel("It takes one message in").fill("2");
  await page.keyboard.press("Enter");
  const trial = page.getByTestId("trial");
  await expect(trial).toContainText("Version 2 takes 1 message in 2");
  for (const sample of ["shelf copy", "ebook"]) {
    expect((await page.request.post(`${flow}/samples/${sample}/send`, { data: {} })).ok()).toBe(true);
  }
  await expect(trial).toContainText(/version [12]: *\d* ?[12] delivered/);
  await expect(page.getByTestId("flow-status")).toHaveText("live: version 1");
  await trial.getByRole("button", { name: "For all messages" }).click();
  await expect(page.getByTestId("flow-status")).toHaveText("live: version 2");
  await expect(trial).toBeHidden();
  await page.getByRole("button", { name: "Versions" }).click();
  const versions = page.getByRole("dialog");
  await versions.getByLabel("From version").selectOption("1");
  await versions.getByLabel("To version").selectOption("2");
  await expect(versions.getByTestId("between")).toContainText('body.format == "ebook" || body.format == "audio"');
  await versions.getByLabel("To version").selectOption("1");
  await expect(versions.getByTestId("between")).toContainText("Nothing that a message would notice.");
  await versions.getByRole("button", { name: "One step back: put version 1 to work" }).click();
  await versions.getByText("What became of them").click();
  await expect(versions).toContainText("version 1 went live, Ines");
  await expect(versions).toContainText("version 2 began for a share, Ines: 1 in 2");
  await page.keyboard.press("Escape");
  await expect(page.getByTestId("flow-status")).toContainText("since version 1");
  // The draft is as it was, and can go live at a time, which is called off here.
  await page.getByRole("button", { name: "Publish a new version" }).click();
  await page.getByRole("button", { name: "At a time…" }).click();
  await dialog.getByLabel("It goes live at").fill("2020-01-01T07:00");
  await expect(dialog.getByText("that has passed")).toBeVisible();
  await dialog.getByLabel("It goes live at").fill("2999-01-01T07:00");
  await dialog.getByRole("button", { name: "Plan it" }).click();
  await expect(trial).toContainText("Version 3 goes live");
  await trial.getByRole("button", { name: "Call it off" }).click();
  await expect(trial).toBeHidden();
  await publish(page);
  await expect(page.getByTestId("flow-status")).toHaveText("live: version 4");
});
