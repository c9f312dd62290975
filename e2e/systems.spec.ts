import { againstProgram, expect, publish } from "./app";

// A program with one more kind of system than the application has: nothing in the
// browser knows of it but what its schemas say.
const test = againstProgram("readyferry-testsystem", "serve");

test("a system that nobody has seen is connected, delivered to and received from by its schemas alone", async ({ page, goto, app }) => {
  await goto("/connections");
  await page.getByRole("button", { name: "Connect a system" }).click();
  await page.getByRole("button", { name: /Carrier pigeons/ }).click();
  await page.getByLabel("Name", { exact: true }).fill("harbour");
  await page.getByLabel("Loft", { exact: true }).fill("somewhere");
  await page.getByLabel("every pigeon wears a ring").check();
  await expect(page.getByLabel("Time limit")).toHaveAttribute("placeholder", "10s");
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("alert").first()).toContainText("does not match pattern");
  await page.getByLabel("Loft", { exact: true }).fill("loft://harbour");
  await page.getByRole("button", { name: "Save" }).click();
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByRole("status")).toContainText("the loft is open");

  const put = (name: string, document: string) => page.request.put(`${app.base}/api/v1/flows/${name}`, { headers: { "content-type": "application/yaml" }, data: document });
  await put("flies", "readyferry: flow/1\nname: flies\nintake: {kind: webhook, path: /flies}\nsteps: [{id: p, kind: deliver, to: harbour, perch: north}]\n");
  await put("lands", "readyferry: flow/1\nname: lands\nintake: {kind: pigeon, of: harbour, perch: north, reference: body.ref}\nsteps: [{id: n, kind: note, text: '${headers.ring}'}]\n");
  await page.request.put(`${app.base}/api/v1/flows/flies/samples/one`, { data: { body: '{"grams": 3, "ref": "P-1"}', headers: {}, params: {}, query: {} } });
  await goto("/flows/flies");
  await expect(page.getByRole("gridcell", { name: /Deliver grey pigeon to north at\s+harbour/ })).toBeVisible();
  await page.getByRole("gridcell", { name: /^Deliver/ }).click();
  await expect(page.getByLabel("Bird")).toHaveValue("grey");
  await expect(page.getByLabel("Rest before")).toHaveAttribute("placeholder", "10s");
  await page.getByLabel("Bird").selectOption("white");
  await expect(page.getByRole("gridcell", { name: /white pigeon to north/ })).toBeVisible();
  await publish(page);
  await expect(page.getByText(/live: version 1/)).toBeVisible();
  await goto("/flows/lands");
  await page.getByRole("gridcell", { name: /^Receive/ }).click();
  await expect(page.getByLabel("Perch")).toHaveValue("north");
  await publish(page);
  await expect(page.getByText(/live: version 1/)).toBeVisible();
  const sent = await page.request.post(`${app.base}/in/flies`, { data: { ref: "P-2" } });
  expect(sent.status()).toBe(202);
  await goto("/transactions");
  await expect(page.getByRole("row", { name: /lands.*P-2|P-2.*lands/ })).toBeVisible();
  await goto("/help");
  await expect(page.getByText("Pigeons that fly from loft to loft.")).toBeVisible();
});
