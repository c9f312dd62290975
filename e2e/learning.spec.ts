import { execFileSync } from "node:child_process";
import { mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { against, cell, expect, publish } from "./app";

const test = against("demo", "--trickle", "0");

test("callers get a page with requests that work, and contracts to take away", async ({ page, goto, app }) => {
  await goto("/flows/hold-requests");
  await page.getByRole("button", { name: "More", exact: true }).click();
  await page.getByRole("menuitem", { name: /^For callers/ }).click();
  await expect(page.getByRole("heading", { name: "For callers of Hold requests" })).toBeVisible();
  await expect(page.getByText("a key in the header")).toBeVisible();
  await expect(page.getByText("it is stored, and will be worked on; nothing of it is lost")).toBeVisible();
  // The requests are the same in every language, and are run as they stand where their tools are there.
  const request = page.getByTestId("request");
  const texts: Record<string, string> = {};
  for (const language of ["curl", "Go", "JavaScript", "Python"]) {
    await page.getByRole("tab", { name: language }).click();
    texts[language] = await request.innerText();
    expect(texts[language]).toContain("/in/hold-requests/web");
    expect(texts[language]).toContain("HR-20811");
  }
  const dir = mkdtempSync(join(tmpdir(), "readyferry-requests-"));
  const run = join(dir, "request.mjs");
  writeFileSync(run, texts.JavaScript!);
  expect(execFileSync("node", [run]).toString()).toContain("401"); // its key is not the reader's
  const openAPI = await (await page.request.get(`${app.base}/api/v1/flows/hold-requests/openapi`)).json();
  expect(openAPI.openapi).toBe("3.1.0");
  expect(openAPI.paths["/in/hold-requests/{portal}"].post.responses["422"].description).toContain("valid");
  const asyncAPI = await (await page.request.get(`${app.base}/api/v1/flows/hold-requests/asyncapi`)).json();
  expect(asyncAPI.operations["send-queue-interloan-asks"].action).toBe("send");
  await page.emulateMedia({ media: "print" });
  await expect(page.getByRole("button", { name: "Print" })).toBeHidden();
  await expect(page.getByRole("navigation", { name: "Pages" })).toBeHidden();
  await expect(request).toBeVisible();
});

test("a flow stands on paper with its comments", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "slip", 0).click();
  const desk = page.getByLabel("Desk");
  await desk.getByText("Id, title, condition, what if it fails, note").click();
  await desk.getByLabel("Note").fill("The printer knows no hyphens.");
  await expect(page.getByTestId("sheet").locator('[data-path="slip"]')).toContainText("¶");
  await page.getByRole("button", { name: "More", exact: true }).click();
  await page.getByRole("menuitem", { name: /^On paper/ }).click();
  const paper = page.getByRole("list").first();
  await expect(paper).toContainText("The printer knows no hyphens.");
  await expect(paper).toContainText("digital when");
  await expect(paper).toContainText("tries");
});

test("the help is searched, and has a page for each kind, system and function", async ({ page, goto }) => {
  await goto("/help");
  const search = page.getByLabel("Search the help");
  await search.fill("wait reply queue");
  await expect(page.getByTestId("help-hits").getByRole("link", { name: "Ask", exact: true })).toBeVisible();
  await search.fill("qqqq nothing");
  await expect(page.getByTestId("help-hits")).toContainText("Nothing in the help says that.");
  await search.fill("gather");
  await page.getByTestId("help-hits").getByRole("link").first().click();
  await expect(page.getByText("Its settings")).toBeVisible();
  const reference = await (await page.request.get("/api/v1/reference".replace(/^/, new URL(page.url()).origin))).json();
  for (const kind of reference.kinds as { name: string }[]) {
    await goto(`/help/step/${kind.name}`);
    await expect(page.getByText("As it is written, and as it reads")).toBeVisible();
  }
  await goto("/help/system/mqtt");
  await expect(page.getByText("What comes from it")).toBeVisible();
  await goto(`/help/function/${reference.functions[0].name}`);
  await page.getByRole("button", { name: "try it" }).first().click();
  await goto("/help#fleet");
  await expect(page.locator("#fleet").getByRole("heading")).toBeInViewport();
  await goto("/help/step/nonsense");
  await expect(page.getByText("There is no help about that.")).toBeVisible();
});

test("the look is chosen, and kept", async ({ page, goto }) => {
  await page.emulateMedia({ colorScheme: "light" });
  await goto("/flows");
  const paper = () => page.evaluate(() => getComputedStyle(document.body).backgroundColor);
  const light = await paper();
  await page.getByLabel("Look").selectOption("dark");
  const dark = await paper();
  expect(dark).not.toBe(light);
  await page.reload();
  expect(await paper()).toBe(dark);
  await page.getByLabel("Look").selectOption("light");
  await page.emulateMedia({ colorScheme: "dark" });
  expect(await paper()).toBe(light);
  await page.getByLabel("Look").selectOption("system");
  expect(await paper()).toBe(dark);
});

test("the tour watches what one does", async ({ page, goto, app }) => {
  await goto("/help");
  await page.getByRole("button", { name: "Ten minutes, step by step" }).click();
  const tour = page.getByLabel("Tour");
  const at = (n: number) => expect(tour).toContainText(`${n} of 10.`);
  await at(1);
  await page.getByRole("link", { name: "Flows", exact: true }).click();
  await page.getByRole("button", { name: "Start a flow" }).first().click();
  await page.getByRole("radio", { name: /Send each message where its content says/ }).click();
  await page.getByRole("button", { name: "Start", exact: true }).click();
  await at(2);
  await cell(page, "which", 1).click();
  await at(3);
  await page.getByTestId("sheet").getByRole("button", { name: "urgent", exact: true }).click();
  await page.getByRole("button", { name: /[Ee]xpect this/ }).click();
  await at(4);
  await cell(page, "which.urgent", 0).click();
  await page.getByRole("button", { name: "write it as an expression" }).click();
  await page.getByTestId("settings").locator(".plain-code, .cm-content").first().fill('body.priority == "never"');
  await at(5);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Undo" }).click();
  await at(6);
  await page.getByTestId("sheet").focus();
  await page.keyboard.press("a");
  await at(7);
  await page.keyboard.press("Escape");
  await publish(page);
  await at(8);
  // What comes to other flows meanwhile is nothing that one has sent oneself.
  const sent = await page.request.post(`${app.base}/in/returns/STOW`, {
    headers: { "x-api-key": "larkfield-demo-key" },
    data: { scan: "RS-78", item: "1", home: "MARL" },
  });
  expect(sent.ok()).toBe(true);
  for (let looks = 0; looks < 2; looks++)
    await page.waitForResponse((r) => new URL(r.url()).pathname.endsWith("/transactions"));
  await at(8);
  await cell(page, "", 0).click();
  await page.getByRole("button", { name: "send it" }).click();
  await at(9);
  await page.getByRole("link", { name: "Transactions", exact: true }).click();
  await page.getByRole("grid", { name: "Transactions" }).getByRole("row").first().click();
  await at(10);
  await tour.getByRole("button", { name: "go on without it" }).click();
  await tour.getByRole("button", { name: "close" }).click();
  await expect(tour).toBeHidden();
});
