import { against, cell, expect } from "./app";

// Brokers, logs, keys and sign-ins, with the demo that sends nothing by itself.
const test = against("demo", "--trickle", "0");

const yaml = { "content-type": "application/yaml" };

test("a connection says how it is, is tested step by step, and says what is missing", async ({ page, goto, app }) => {
  await goto("/connections");
  await expect(page.getByRole("row", { name: /Returns desk/ })).toContainText("works for");
  await page.request.put(`${app.base}/api/v1/flows/wrong-queue`, {
    headers: yaml,
    data: "readyferry: flow/1\nname: wrong-queue\nintake: {kind: amqp, of: returns-desk, queue: returns-2}\nsteps: []\n",
  });
  await page.getByLabel("Filter connections").fill("returns desk");
  await page.getByRole("button", { name: /Returns desk/ }).click();
  await page.getByRole("button", { name: "Test", exact: true }).click();
  const steps = page.getByRole("status");
  await expect(steps).toContainText("signed in as guest, virtual host /");
  await expect(steps).toContainText("returned-items: the queue returns is there");
  await expect(steps).toContainText("wrong-queue: the queue returns-2 is not there");
  await expect(steps).toContainText("or let the flow make it");
  await page.getByRole("link", { name: /See its stand-in/ }).click();
  await expect(page.getByTestId("inside")).toContainText("reshelving");
});

test("a message is published from the page of a broker, and what is bound to nothing is a dead letter", async ({ page, goto }) => {
  await goto("/stand-ins?open=returns-desk");
  const form = page.getByRole("form", { name: "Publish from here" });
  await form.getByLabel("Exchange").fill("desk");
  await form.getByLabel("Routing key").fill("returned.ELMS");
  await form.getByLabel("Headers").fill("x-condition: unheard-of");
  await form.getByLabel("The message").fill('{"scan": "RS-9901", "item": "LK-1", "home": "ELMS"}');
  await form.getByRole("button", { name: "Publish" }).click();
  await expect(page.getByText("It is published to desk, returned.ELMS")).toBeVisible();
  await goto("/transactions?flow=returned-items&reference=RS-9901");
  await expect(page.getByRole("row", { name: /RS-9901/ })).toContainText("nothing is bound");
});

test("a topic is offered, and a sample is sent as it stands", async ({ page, goto }) => {
  await goto("/flows/loan-reminders");
  await cell(page, "append", -1).click();
  await page.getByTestId("settings").getByRole("button", { name: "reminders", exact: true }).click();
  await cell(page, "", 0).click();
  await page.getByRole("button", { name: "send it" }).click();
  await expect(page.getByText("sent from the stand-in loans-log: loans")).toBeVisible();
  await goto("/transactions?flow=loan-reminders&reference=L-90113");
  await expect(page.getByRole("row", { name: /L-90113/ }).first()).toContainText("delivered");
});

test("a key is made, shown once, and ended", async ({ page, goto, app }) => {
  await goto("/connections");
  await page.getByRole("link", { name: "Keys for programs" }).click();
  const dialog = page.getByRole("main");
  await dialog.getByLabel("Name of the key").fill("scanner");
  await dialog.getByLabel("On", { exact: true }).fill("pickups");
  await dialog.getByRole("button", { name: "Make a key" }).click();
  await expect(dialog.getByRole("alert")).toContainText("names nothing");
  await dialog.getByLabel("On", { exact: true }).fill("queue:pickups");
  await dialog.getByRole("button", { name: "Make a key" }).click();
  const key = await dialog.getByTestId("key").innerText();
  const take = () => page.request.post(`${app.base}/out/queues/pickups/take`, { data: {}, headers: { authorization: `Bearer ${key}` } });
  expect((await take()).status()).toBe(200);
  await dialog.getByRole("row", { name: /scanner/ }).getByRole("button", { name: "end it" }).click();
  await expect(dialog.getByRole("row", { name: /scanner/ })).toHaveCount(0);
  expect((await take()).status()).toBe(401);
});

test("a person signs in to a system once, and the test says so", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/stand-ins/lender`, { data: { title: "Lender", tokens: { seconds: 600 } } });
  const document = "readyferry: connection/1\nname: lender\nkind: http\naddress: stand-in://lender\nsign-in: {kind: oauth2, grant: authorization-code, client-id: ferry, token-address: stand-in://lender/token, authorize-address: stand-in://lender/authorize}\n";
  await page.request.put(`${app.base}/api/v1/connections/lender`, { headers: yaml, data: document });
  await goto("/connections?open=lender");
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByRole("status")).toContainText("nobody has signed in yet");
  await page.getByRole("button", { name: "Sign in" }).click();
  await page.getByRole("link", { name: "Allow it" }).click();
  await expect(page.getByText("signed in", { exact: true })).toBeVisible();
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByRole("status")).toContainText("a token is given");
});
