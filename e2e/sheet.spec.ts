import { against, asText, cell, expect, publish, retype, saved } from "./app";

const test = against("demo", "--trickle", "0");
test.describe.configure({ mode: "default" });

test("a draft is proven before it is live, and what is said of it stays with the version", async ({ page, goto, app }) => {
  const flow = `${app.base}/api/v1/flows/hold-requests`;
  for (const sample of ["shelf copy", "ebook"]) {
    const sent = await page.request.post(`${flow}/samples/${sample}/send`, { data: {} });
    expect(sent.ok(), await sent.text()).toBe(true);
  }
  await goto("/flows/hold-requests");
  await page.getByRole("button", { name: /^shelf copy/ }).click();
  await page.getByRole("button", { name: /[Ee]xpect this/ }).click();
  await expect(page.getByText("All 1 as expected")).toBeVisible();
  await cell(page, "by-home.digital", 0).click();
  await asText(page);
  await retype(page, "Taken when", 'body.format == "ebook" || body.format == "book"');
  await expect(page.getByText("1 not as expected")).toBeVisible();
  await saved(page, app, "hold-requests", 'body.format == "book"');
  await page.getByRole("button", { name: "Publish a new version" }).click();
  await expect(page.getByTestId("changes")).toContainText('body.format == "ebook" || body.format == "book"');
  await expect(page.getByTestId("checks")).toContainText("not as expected: shelf copy");
  await expect(page.getByTestId("checks")).toContainText("at by-home it was shelf, now digital");
  await expect(page.getByTestId("checks")).toContainText("no sample reaches");
  // Real messages walk through it, too: what is otherwise stands in groups, and what one of them hands over side by side.
  const traffic = page.getByTestId("traffic");
  await expect(traffic).toContainText("nothing has left");
  await expect(traffic).toContainText("samples go another way than under version 1");
  const group = traffic.getByRole("button", { name: /to digital-lender, not to shelf-printer; at by-home digital, not shelf/ });
  await expect(group).toHaveAttribute("aria-pressed", "true");
  await expect(page.getByTestId("handed")).toContainText("POST digital-lender /loans");
  await expect(traffic.getByRole("row", { name: /digital-lender/ })).toContainText("its answer is not known");
  await traffic.getByLabel("How many messages").selectOption("100");
  await expect(traffic).toContainText("nothing has left");
  await traffic.getByLabel("Messages up to").fill("2020-01-01T00:00");
  await traffic.getByLabel("Messages up to").press("Enter");
  await expect(traffic).toContainText("No message has come in that time.");
  await expect(page.getByTestId("compared")).toContainText("shelf copy");
  const make = page.getByRole("button", { name: "Make it version 2" });
  await expect(make).toBeDisabled();
  const refused = await page.request.post(`${flow}/publish`, { data: {} });
  expect(refused.status()).toBe(409);
  expect(await refused.text()).toContain("say why it is published all the same");
  await page.getByLabel("Why it goes live all the same").fill("printed books are lent as well now");
  await page.getByLabel("A word for those who come after").fill("as agreed with the branches");
  await page.getByLabel("Your name").fill("Ines");
  await make.click();
  await expect(page.getByTestId("flow-status")).toHaveText("live: version 2");
  await page.getByRole("button", { name: "Versions" }).click();
  const versions = page.getByRole("dialog");
  await expect(versions).toContainText("by Ines");
  await expect(versions).toContainText("as agreed with the branches");
  await expect(versions).toContainText("printed books are lent as well now");
  await page.keyboard.press("Escape");
  // Whoever was elsewhere can still undo; what is as the live version has nothing to publish.
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByText("All 1 as expected")).toBeVisible();
  await page.getByRole("button", { name: "Redo" }).click();
  await saved(page, app, "hold-requests", 'body.format == "book"');
  await page.getByRole("button", { name: "Publish a new version" }).click();
  await expect(page.getByRole("button", { name: /^Make it version/ })).toBeDisabled();
});

test("what no sample has is found, with what is most like it, and all that is wrong is said", async ({ page, goto }) => {
  await goto("/flows/return-scans");
  await cell(page, "", 0).click();
  const sheet = page.getByTestId("sheet");
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("filter");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("grid")).toBeFocused();
  await cell(page, "filter", 0).click();
  await asText(page);
  await retype(page, "Goes on when", "body.itme != '' && body.brnch != ''");
  const found = page.getByTestId("row-findings");
  await expect(found).toContainText("did you mean body.item or body.home?");
  await expect(found.getByRole("listitem")).toHaveCount(2);
  await expect(sheet.locator("[data-path=filter]")).toContainText("2: ");
  await retype(page, "Goes on when", "has(body.itme) || body.item != ''");
  await expect(found).toHaveCount(0);
  await page.getByRole("button", { name: "Undo" }).click();
  // A delivery to nowhere is no delivery.
  await page.getByRole("button", { name: "As YAML" }).click();
  const text = page.getByRole("textbox", { name: "The flow as YAML" });
  await text.click();
  await page.keyboard.press("Control+End");
  await page.keyboard.insertText("\n- [");
  await expect(page.getByText("What is written here cannot be read as a flow")).toBeVisible();
  for (let i = 0; i < 4; i++) await page.keyboard.press("Backspace");
  await expect(page.getByText("What is written here cannot be read as a flow")).toHaveCount(0);
  await page.keyboard.press("Tab"); // goes on to the next control
  await expect(text).not.toBeFocused();
});

test("ways that can never be taken, that overlap and that leave a gap are shown with a message", async ({ page, goto, app }) => {
  const step = (id: string) => ({ id, kind: "note", text: id });
  const put = await page.request.put(`${app.base}/api/v1/flows/ways`, {
    data: {
      readyferry: "flow/1", name: "ways", intake: { kind: "webhook", path: "/ways" },
      steps: [{ id: "by", kind: "route", take: "first", ways: [
        { name: "digital", when: 'body.format in ["ebook", "audio"]', steps: [step("a")] },
        { name: "listen", when: 'body.format == "audio"', steps: [step("b")] },
        { name: "dear", when: "body.price > 20", steps: [step("c")] },
        { name: "odd", when: "body.lines.exists(l, l.odd)", steps: [step("d")] },
        { name: "rare", when: "body.price > 20 && body.rare", steps: [step("e")] },
      ] }],
    },
  });
  expect(put.ok()).toBe(true);
  await goto("/flows/ways");
  await expect(page.getByTestId("sheet").locator('[data-path="by.listen"]')).toContainText("whatever fits it is taken by digital before");
  await expect(page.getByTestId("sheet").locator('[data-path="by.rare"]')).toContainText("taken by dear before");
  await page.getByRole("button", { name: "Publish version 1" }).click();
  const checks = page.getByTestId("checks");
  await expect(checks).toContainText("the way listen can never be taken");
  await expect(checks).toContainText("what fits both digital and dear goes to digital");
  await expect(checks).toContainText("not decided of odd: a part of it is more than a comparison");
  await checks.getByRole("listitem").filter({ hasText: "digital and dear" }).getByRole("button", { name: "keep it as a sample" }).click();
  await expect(checks).toContainText("kept as a sample");
  await page.getByRole("link", { name: "Back to the sheet" }).click();
  await expect(cell(page, "by.digital", 0)).toHaveText("taken");
  await expect(cell(page, "by.dear", 0)).toHaveText("·");
});

test("a delivery to a connection that is not there is a dead letter in the rehearsal", async ({ page, goto, app }) => {
  const put = await page.request.put(`${app.base}/api/v1/flows/nowhere`, {
    data: { readyferry: "flow/1", name: "nowhere", intake: { kind: "webhook", path: "/nowhere" }, steps: [{ id: "d", kind: "deliver", to: "atlantis", path: "/x" }] },
  });
  expect(put.ok()).toBe(true);
  await page.request.put(`${app.base}/api/v1/flows/nowhere/samples/one`, { data: { body: '{"a": 1}', headers: {}, params: {}, query: {} } });
  await goto("/flows/nowhere");
  await expect(cell(page, "d", 0)).toHaveText("there is no connection atlantis");
  await expect(page.getByRole("columnheader", { name: /one/ })).toContainText("dead letter");
});

test("the sheet fits where there is little room, and what is looked at is never covered", async ({ page, goto, app }) => {
  const long = "Requests of the eleven branches for books that others have, by night and by day, all of them";
  await page.setViewportSize({ width: 1024, height: 700 });
  await goto("/flows/overdue");
  await page.request.get(`${app.base}/api/v1/flows/hold-requests`);
  await goto("/flows/hold-requests");
  await cell(page, "", 0).click();
  await page.getByLabel("Title").first().fill(long);
  const go = page.getByRole("button", { name: "Publish a new version" });
  await expect(go).toBeInViewport({ ratio: 1 });
  for (const [width, height] of [[1024, 700], [640, 700], [2560, 1000]] as const) {
    await page.setViewportSize({ width, height });
    await expect(go).toBeInViewport({ ratio: 1 });
    await page.getByRole("grid").focus();
    for (const key of ["End", "ArrowRight", "ArrowRight", "ArrowRight", "ArrowRight", "ArrowRight", "ArrowRight", "Home", "ArrowLeft", "ArrowLeft", "ArrowLeft"]) {
      await page.keyboard.press(key);
      const covered = await page.evaluate(() => {
        const id = document.querySelector("[role=grid]")?.getAttribute("aria-activedescendant") ?? "";
        const box = document.getElementById(id)?.getBoundingClientRect();
        if (!box) return "there is no cell";
        const at = document.elementFromPoint(box.left + Math.min(6, box.width / 2), box.top + box.height / 2);
        return at?.closest("[id]")?.id === id ? "" : `${id} is covered by ${at?.outerHTML.slice(0, 80)}`;
      });
      expect(covered, `${width}: ${key}`).toBe("");
    }
  }
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.getByRole("button", { name: "Undo" }).click();
  // The desk and the steps are as large as a person wants them.
  await page.getByRole("button", { name: "hide the desk" }).click();
  await expect(page.getByTestId("settings")).toBeHidden();
  await page.getByRole("button", { name: "show the desk" }).click();
  await expect(page.getByTestId("settings")).toBeVisible();
  const edge = page.getByRole("separator", { name: "Width of the steps" });
  const was = Number(await edge.getAttribute("aria-valuenow"));
  await edge.focus();
  for (let i = 0; i < 5; i++) await page.keyboard.press("ArrowRight");
  await expect(edge).toHaveAttribute("aria-valuenow", String(was + 120));
});

test("each page tells its own keys, lists are walked through, and a sample is opened by key", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  await cell(page, "slip", 1).click();
  await page.keyboard.press("s");
  await expect(page.getByRole("dialog", { name: "Sample ebook" })).toBeVisible();
  await page.keyboard.press("Escape");
  await page.keyboard.press("?");
  await expect(page.getByRole("dialog", { name: "Keys" })).toContainText("add a step below");
  await page.keyboard.press("Escape");
  await page.getByText("Id, title, condition").click();
  await page.getByRole("textbox", { name: "Id" }).fill("pick slip");
  await expect(page.getByTestId("settings").getByText("it is still slip")).toBeVisible();
  for (const list of ["/flows", "/queues", "/tables"]) {
    await goto(list);
    await expect(page.locator("main table tbody tr").first()).toBeVisible();
    await expect(async () => { // once the list is there
      await page.keyboard.press("ArrowDown");
      await expect(page.locator("main table tbody tr:has(:focus)")).toHaveCount(1, { timeout: 500 });
    }).toPass();
    await page.keyboard.press("?");
    await expect(page.getByRole("dialog", { name: "Keys" })).toContainText("move in the list");
    await expect(page.getByRole("dialog", { name: "Keys" })).not.toContainText("add a step below");
    await page.keyboard.press("Escape");
  }
});
