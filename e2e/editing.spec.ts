import { gapsOf, moveSteps, nudge, renameStep } from "../web/src/model/restructure";
import { type FlowDocument, rowsOf } from "../web/src/model/model";
import { wantedOf } from "../web/src/model/wanted";
import { extract } from "../web/src/sheet/extract";
import { against, asText, cell, expect, retype, saved } from "./app";

const test = against("demo", "--trickle", "0");

const doc: FlowDocument = {
  readyferry: "flow/1",
  name: "f",
  intake: { kind: "webhook" },
  steps: [
    { id: "a", kind: "note" },
    {
      id: "r",
      kind: "route",
      ways: [
        { name: "one", when: "true", steps: [{ id: "b", kind: "note" }, { id: "c", kind: "note" }] },
        { name: "two", when: "true", steps: [] },
      ],
      otherwise: { steps: [{ id: "s", kind: "split", each: "body.l", steps: [{ id: "d", kind: "note" }] }] },
    },
    { id: "e", kind: "note", text: "${replies.b.body} ${replies.?c.body}", else: { steps: [{ id: "g", kind: "note" }] } },
  ],
};
const order = (d: FlowDocument) => rowsOf(d).map((r) => r.key).join(" ");

test("a step moved through every gap comes to each, and nothing else moves", () => {
  for (const row of rowsOf(doc).filter((r) => r.kind === "step")) {
    if (row.kind !== "step") continue;
    const rest = (d: FlowDocument) => rowsOf(d).filter((r) => r.kind === "step" && r.step.id !== row.step.id).map((r) => r.key);
    const inside = (keys: string[]) => keys.filter((k) => !k.includes(row.step.id));
    const seen = new Set<string>();
    let now: FlowDocument | null = doc;
    for (const by of [-1, 1] as const) {
      now = doc;
      for (let place = row.place; now; ) {
        seen.add(order(now));
        expect(inside(rest(now))).toEqual(inside(rest(doc)));
        const next: FlowDocument | null = nudge(now, [place], by);
        if (!next) break;
        now = next;
        place = rowsOf(now).find((r) => r.kind === "step" && r.step.id === row.step.id)!.place;
      }
    }
    // As many as there are gaps outside of the step.
    const left = gapsOf(doc).filter((g) => !row.place.every((k, i) => g.list[i] === k)).length - 1;
    expect(seen.size).toBe(left);
  }
  const gap = gapsOf(doc).find((g) => g.list.join("/") === "steps/1/ways/1/steps")!;
  expect(order(moveSteps(doc, [["steps", 0], ["steps", 2]], gap)!)).toContain("r.two r.two/a r.two/e");
  expect(moveSteps(doc, [["steps", 1]], gap)).toBeNull();
});

test("a step that is called otherwise is called so wherever it is named", () => {
  expect(renameStep(doc, ["steps", 1, "ways", 0, "steps", 0], "lend").steps[2]?.text).toBe("${replies.lend.body} ${replies.?c.body}");
  expect(renameStep(doc, ["steps", 1, "ways", 0, "steps", 1], "c-d").steps[2]?.text).toBe('${replies.b.body} ${replies[?"c-d"].body}');
});

test("steps that others need, or that need others, do not leave them", async () => {
  const of = (...steps: FlowDocument["steps"]): FlowDocument => ({ readyferry: "flow/1", name: "f", intake: { kind: "webhook" }, steps });
  const van = { id: "van", kind: "lookup", in: "t", key: "body.k", into: "van" };
  const use = { id: "use", kind: "note", text: "${vars.van.name}" };
  await expect(extract(of(van, use), [["steps", 1]])).rejects.toThrow("They use vars.van");
  await expect(extract(of(van, use), [["steps", 0]])).rejects.toThrow("Steps behind them use vars.van");
  await expect(extract(of(van, use, use), [["steps", 0], ["steps", 2]])).rejects.toThrow("one behind the other");
  // A step and a value of the same name are told apart.
  expect(renameStep(of(van, use), ["steps", 0], "lorry").steps[1]?.text).toBe("${vars.van.name}");
});

test("what is wanted is understood where what it names is there", () => {
  const given = {
    connections: [{ name: "shelf-printer", kind: "http" }],
    queues: ["totes"],
    topics: [],
    tables: ["branches"],
    flows: [],
  };
  const first = (text: string) => JSON.stringify(wantedOf(text, given)[0]);
  expect(first("send to shelf-printer /slips")).toBe('{"kind":"deliver","to":"shelf-printer","path":"/slips"}');
  expect(first("put it into totes")).toBe('{"kind":"deliver","to":{"queue":"totes"}}');
  expect(first("wait 5 minutes")).toBe('{"kind":"hold","for":"5m"}');
  expect(first("only if body.n > 1")).toBe('{"kind":"filter","keep":"body.n > 1"}');
  expect(first("look up body.branch in branches")).toBe('{"kind":"lookup","in":"branches","key":"body.branch"}');
  expect(wantedOf("send to nobody", given)).toEqual([]);
});

test("steps are added in words, dragged, moved by keys, chosen together, folded and renamed", async ({ page, goto, app }) => {
  await page.setViewportSize({ width: 1280, height: 1100 });
  await page.request.put(`${app.base}/api/v1/flows/hold-requests/samples/pinned`, {
    data: { body: "{}", expect: { state: "delivered", outcomes: { "by-home.digital/lend": "delivered" } } },
  });
  await goto("/flows/hold-requests");
  const sheet = page.getByTestId("sheet");
  const keys = async () => (await sheet.locator("[data-path]").evaluateAll((l) => l.map((e) => e.getAttribute("data-path")))).join(" ");
  await cell(page, "open-only", 0).click();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("wait 5 minutes");
  await page.keyboard.press("Enter");
  await expect(sheet.locator('[data-path="hold"]')).toContainText("5m");
  // By keys it goes on into the first way of the route, and back out.
  for (let i = 0; i < 3; i++) await page.keyboard.press("Alt+ArrowDown");
  expect(await keys()).toContain("by-home by-home.digital by-home.digital/lend by-home.digital/hold");
  await page.keyboard.press("Control+z");
  await page.keyboard.press("Control+z");
  await page.keyboard.press("Control+z");
  expect(await keys()).toContain("open-only hold slip");
  // By mouse: dropped behind the last step of the shelf's way.
  const handle = sheet.locator('[data-path="hold"] [role=rowheader]');
  const target = sheet.locator('[data-path="by-home.shelf/to-shelf"] [role=rowheader]');
  await target.scrollIntoViewIfNeeded();
  const from = (await handle.boundingBox())!;
  await page.mouse.move(from.x + 10, from.y + 10);
  await page.mouse.down();
  const to = (await target.boundingBox())!;
  await page.mouse.move(to.x + 40, to.y + to.height - 4, { steps: 8 });
  await page.mouse.move(to.x + 80, to.y + to.height - 3);
  await expect(page.getByTestId("drop")).toBeVisible();
  await page.mouse.up();
  expect(await keys()).toContain("by-home.shelf/to-shelf by-home.shelf/hold");
  await page.keyboard.press("Control+z");
  // Several together: one setting for all, and undo takes it back.
  await sheet.locator('[data-path="valid"] [role=rowheader]').click();
  await page.keyboard.press("Shift+ArrowDown");
  await page.keyboard.press("Shift+ArrowDown");
  const desk = page.getByLabel("Desk");
  await expect(desk).toContainText("3 steps chosen together");
  await desk.getByLabel("Setting", { exact: true }).fill("note");
  await desk.getByLabel("Its value, as YAML").fill("as agreed");
  await desk.getByRole("button", { name: "Set it on 3 steps" }).click();
  await saved(page, app, "hold-requests", "as agreed");
  const draft = async () => (await (await page.request.get(`${app.base}/api/v1/flows/hold-requests`)).json()).document;
  expect((await draft()).steps.slice(0, 4).map((s: { note?: string }) => s.note)).toEqual(["as agreed", "as agreed", "as agreed", undefined]);
  // They fold into one row, and a way folds; both stay folded after a visit elsewhere.
  await desk.getByRole("button", { name: "fold" }).click();
  await expect(sheet.locator('[data-path="valid"]')).toContainText("2 more folded");
  expect(await keys()).not.toContain("open-only");
  await sheet.getByRole("button", { name: "Fold by-home", exact: true }).click();
  expect(await keys()).not.toContain("by-home.digital");
  await page.reload();
  await expect(sheet.locator('[data-path="valid"]')).toContainText("2 more folded");
  expect(await keys()).not.toContain("by-home.digital");
  await sheet.getByRole("button", { name: "Unfold by-home" }).click();
  await sheet.getByRole("button", { name: "Unfold valid" }).click();
  // A step is called otherwise, and what names it follows, in samples as well.
  await cell(page, "by-home.digital/lend", 0).click();
  await desk.getByText("Id, title, condition, what if it fails, note").click();
  await desk.getByLabel("Id").fill("loan");
  await page.keyboard.press("Enter");
  await expect(sheet.locator('[data-path="by-home.digital/lent"]')).toContainText("replies.loan.body.loan");
  await expect(cell(page, "by-home.digital/lent", 1)).toHaveText("lent as DL-7");
  // Undo and redo take the samples along: what is pinned of the step stands under the name that it has.
  const pinned = async () => {
    const all = await (await page.request.get(`${app.base}/api/v1/flows/hold-requests/samples`)).json();
    return all.flatMap((s: { expect?: { outcomes: object } }) => Object.keys(s.expect?.outcomes ?? {}));
  };
  await expect.poll(pinned).toEqual(["by-home.digital/loan"]);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect.poll(pinned).toEqual(["by-home.digital/lend"]);
  await page.getByRole("button", { name: "Redo" }).click();
  await expect.poll(pinned).toEqual(["by-home.digital/loan"]);
});

test("steps become a flow of their own, and come back", async ({ page, goto, app }) => {
  await goto("/flows/stack-requests");
  const sheet = page.getByTestId("sheet");
  const steps = sheet.locator("[data-path]:not([data-path=''])");
  const keys = () => steps.evaluateAll((l) => l.map((e) => e.getAttribute("data-path")));
  await expect(steps.first()).toBeVisible();
  const before = await keys();
  await steps.first().locator("[role=rowheader]").click();
  await page.keyboard.press("Shift+ArrowDown");
  const desk = page.getByLabel("Desk");
  await desk.getByRole("button", { name: "into a flow of their own" }).click();
  await expect(page.getByText(/is to be published before this one/)).toBeVisible();
  await expect(sheet.locator('[data-path="hand"]')).toBeVisible();
  expect(await keys()).not.toContain(before[0]);
  await sheet.locator('[data-path="hand"] [role=rowheader]').click();
  await desk.getByRole("button", { name: "its steps here" }).click();
  await expect.poll(keys).toEqual(before);
  const flows = await (await page.request.get(`${app.base}/api/v1/flows`)).json();
  expect(flows.some((f: { name: string }) => f.name.startsWith("stack-requests-"))).toBe(true);
});

test("a finding is mended with a click, and a sample is made for where none comes", async ({ page, goto }) => {
  await goto("/flows/hold-requests");
  const sheet = page.getByTestId("sheet");
  const way = sheet.locator('[data-path="by-home.digital"]');
  await expect(way).not.toContainText("no sample");
  await cell(page, "by-home.digital", 0).click();
  await asText(page);
  await retype(page, "Taken when", 'body.format == "ebook" && body.portal == "kiosk"');
  await expect(way).toContainText("no sample");
  await page.getByTestId("unreached").getByRole("button", { name: "make one that does" }).click();
  await expect(sheet.getByRole("button", { name: /^gets to by-home digital/ })).toBeVisible();
  await expect(way).not.toContainText("no sample");
  await cell(page, "", 0).click();
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("put into the queue nowhere");
  await page.keyboard.press("Enter");
  const desk = page.getByLabel("Desk");
  await expect(desk.getByTestId("row-findings")).toContainText('no flow reads the queue "nowhere"');
  await desk.getByRole("button", { name: "it is read from outside" }).click();
  await expect(desk.getByTestId("row-findings")).toBeHidden();
  await page.keyboard.press("Control+z");
  await expect(desk.getByTestId("row-findings")).toBeVisible();
});
