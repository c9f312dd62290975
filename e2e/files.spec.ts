import { against, cell, expect } from "./app";

// Files over SFTP and FTP, with the demo that sends nothing by itself.
const test = against("demo", "--trickle", "0");

test("a file that is laid down becomes messages, and an order is written into the file of the day", async ({ page, goto }) => {
  await goto("/stand-ins?open=catalogue-agency");
  const form = page.getByRole("form", { name: "Lay a file down" });
  await form.getByLabel("Name of the file").fill("outgoing/catalogue-9.csv");
  await form.getByLabel("What it holds").fill("number;title;binding\nT-91;Herons;sheets\nT-92;The tide mills;cloth\n");
  await form.getByRole("button", { name: "Lay it down" }).click();
  await expect(page.getByText("outgoing/catalogue-9.csv is there")).toBeVisible();
  await expect(page.locator("[data-file='outgoing/read/catalogue-9.csv']")).toBeVisible({ timeout: 60_000 });
  await goto("/transactions?flow=nightly-catalogue&reference=T-91");
  await expect(page.getByRole("row", { name: /T-91/ })).toContainText("delivered");
  await goto("/transactions?flow=nightly-catalogue&reference=T-92");
  await expect(page.getByRole("row", { name: /T-92/ })).toContainText("The tide mills is bound in cloth");
  await goto("/stand-ins?open=catalogue-archive");
  await page.locator("[data-file='titles/T-92.json']").click();
  await expect(page.locator("[data-file='titles/T-92.json']")).toContainText("The tide mills");
  await goto("/stand-ins?open=bindery");
  const order = page.locator("[data-file^='orders/orders-']");
  await order.click();
  await expect(order).toContainText("T-91,Herons");
});

test("a name that leaves the folder is refused, and a folder is offered", async ({ page, goto, app }) => {
  await goto("/stand-ins?open=bindery");
  const form = page.getByRole("form", { name: "Lay a file down" });
  await form.getByLabel("Name of the file").fill("../../escaped.csv");
  await form.getByRole("button", { name: "Lay it down" }).click();
  await expect(page.getByText(/is no name of a file/)).toBeVisible();
  await page.request.put(`${app.base}/api/v1/flows/escapes`, {
    headers: { "content-type": "application/yaml" },
    data: "readyferry: flow/1\nname: escapes\nintake: {kind: webhook, path: /escapes, reference: body.n}\nsteps:\n- {id: out, kind: deliver, to: bindery, folder: '', name: '${body.n}'}\n",
  });
  await page.request.post(`${app.base}/api/v1/flows/escapes/publish`);
  await page.request.post(`${app.base}/in/escapes`, { data: { n: "../../escaped.csv" } });
  await goto("/transactions?flow=escapes");
  await expect(page.getByRole("row", { name: /escaped/ })).toContainText("has a slash");
  await goto("/flows/nightly-catalogue");
  await cell(page, "bindery", -1).click();
  await expect(page.getByTestId("settings").getByRole("button", { name: "orders", exact: true })).toBeVisible();
});

test("a sample of a file is sent as its source would", async ({ page, goto }) => {
  await goto("/flows/nightly-catalogue");
  await cell(page, "", 0).click();
  await page.getByRole("button", { name: "send it" }).click();
  await expect(page.getByText("sent from the stand-in catalogue-agency: outgoing/catalogue-2026-03-17.csv")).toBeVisible();
  await goto("/transactions?flow=nightly-catalogue&reference=T-5520");
  await expect(page.getByRole("row", { name: /T-5520/ })).toContainText("delivered", { timeout: 60_000 });
});
