import { against, cell, expect, publish } from "./app";

// What people are shown, in an application without the demo.
const test = against("serve");
test.describe.configure({ mode: "serial" });

const yaml = { "content-type": "application/yaml" };

test("a stand-in is made, changed and removed", async ({ page, goto, app }) => {
  await goto("/stand-ins");
  await page.getByRole("button", { name: "Make a stand-in" }).click();
  await page.getByLabel("Name", { exact: true }).fill("No Name");
  await page.getByRole("button", { name: "Make it" }).click();
  await expect(page.getByRole("alert")).toContainText("small letters, digits and -");
  await page.getByLabel("Name", { exact: true }).fill("ferry-office");
  await page.getByLabel("Title", { exact: true }).fill("Ferry office");
  await page.getByLabel("Answers", { exact: true }).fill("201");
  await page.getByLabel("Body", { exact: true }).fill('{"ticket": ${n}}');
  await page.getByLabel("Particular calls").fill('GET /piers/{id} 200\n  {"pier": "${id}"}');
  await page.getByRole("button", { name: "Make it" }).click();
  await expect(page.getByRole("heading", { name: "Ferry office" })).toBeVisible();
  const called = await page.request.post(`${app.base}/stand-ins/ferry-office/tickets`, { data: {} });
  expect([called.status(), await called.text()]).toEqual([201, '{"ticket": 1}']);
  expect(await (await page.request.get(`${app.base}/stand-ins/ferry-office/piers/north`)).json()).toEqual({ pier: "north" });
  await expect(page.getByTestId("calls")).toContainText("/tickets");

  await page.getByRole("button", { name: "change", exact: true }).click();
  await expect(page.getByLabel("Particular calls")).toHaveValue('GET /piers/{id} 200\n  {"pier": "${id}"}');
  await page.getByRole("dialog").getByLabel("Answers", { exact: true }).fill("409");
  await page.getByRole("button", { name: "Change it" }).click();
  await expect(page.getByRole("dialog")).toHaveCount(0);
  expect((await page.request.post(`${app.base}/stand-ins/ferry-office/tickets`, { data: {} })).status()).toBe(409);

  await page.request.put(`${app.base}/api/v1/connections/office`, { headers: yaml, data: "readyferry: connection/1\nname: office\nkind: http\naddress: stand-in://ferry-office\n" });
  await page.getByRole("button", { name: "remove", exact: true }).click();
  await page.getByRole("button", { name: "Remove it" }).click();
  await expect(page.getByRole("dialog")).toContainText("office would reach nothing");
  await page.getByRole("button", { name: "Remove it all the same" }).click();
  await expect(page.getByText("No stand-in yet")).toBeVisible();
});

test("a flow without samples has each step in one row, and keys work at once", async ({ page, goto, app }) => {
  const flow = "readyferry: flow/1\nname: bare\ntitle: bare arrivals\nintake: {kind: webhook, path: '/bare/{branch}'}\nsteps: [{id: n, kind: note, text: seen}, {id: m, kind: map, fields: [{to: /a, from: body.a}]}]\n";
  await page.request.put(`${app.base}/api/v1/flows/bare`, { headers: yaml, data: flow });
  await goto("/flows/bare");
  const sheet = page.getByTestId("sheet");
  await expect(sheet.getByRole("rowheader")).toHaveCount(3);
  const heads = await sheet.getByRole("rowheader").all();
  const texts = await sheet.locator("[data-path] [role=gridcell]:nth-child(2)").all();
  for (const [i, head] of heads.entries()) {
    const [a, b] = [await head.boundingBox(), await texts[i]?.boundingBox()];
    expect(a?.y, `row ${i}`).toBe(b?.y);
    expect(a?.height, `row ${i}`).toBeLessThan(40);
  }
  await page.keyboard.press("a");
  await page.getByPlaceholder("What should it do?").fill("filter");
  await page.keyboard.press("Enter");
  await expect(sheet.getByRole("rowheader")).toHaveCount(4);
  await page.getByRole("button", { name: "Undo" }).click(); // the keys belong to the sheet after a button, too
  await expect(sheet.getByRole("rowheader")).toHaveCount(3);
  await page.keyboard.press("a");
  await expect(page.getByPlaceholder("What should it do?")).toBeVisible();
  await page.keyboard.press("Escape");

  await publish(page);
  await expect(page.getByText("Version 1 is live", { exact: true })).toBeVisible();
  await expect(page.getByTestId("flow-status")).toHaveText("live: version 1");
  await page.getByRole("button", { name: "Publish a new version" }).click();
  await expect(page.getByTestId("changes")).toContainText("Nothing: the draft is as version 1 is");
  await expect(page.getByRole("button", { name: /^Make it version/ })).toBeDisabled();
});

test("a transaction shows what came with it, and becomes a sample with that", async ({ page, goto, app }) => {
  const posted = await page.request.post(`${app.base}/in/bare/north?page=2&page=3`, { data: { a: 1 }, headers: { "x-pier": "7" } });
  const { transaction } = await posted.json();
  await goto(`/transactions/${transaction}`);
  await cell(page, "", 0).click();
  const came = page.getByTestId("came-with");
  await expect(came.getByLabel("headers")).toContainText("X-Pier");
  await expect(came.getByLabel("parameters of the path")).toContainText("branch");
  await expect(came.getByLabel("query")).toHaveText(/page.*2.*page.*3/s);
  await expect(page.getByText("0 s", { exact: true })).toHaveCount(0);
  await page.getByRole("button", { name: "Keep as sample" }).click();
  await expect(page.getByText("is a sample of bare now")).toBeVisible();
  const [sample] = await (await page.request.get(`${app.base}/api/v1/flows/bare/samples`)).json();
  expect([sample.params, sample.headers["x-pier"], sample.repeated]).toEqual([{ branch: "north" }, "7", { page: ["2", "3"] }]);
});

test("a question by a queue shows its reply and correlation, and messages show their headers", async ({ page, goto, app }) => {
  const flows = {
    asking: "intake: {kind: webhook, path: /asking}\nsteps: [{id: q, kind: ask, of: {queue: questions}, within: 1h}, {id: d, kind: deliver, to: {queue: kept, readers: outside}, headers: {x-by: asking}}]\n",
    answering: "intake: {kind: queue, queue: questions}\nsteps: [{id: r, kind: deliver, to: {queue: '${headers[\"reply-to\"]}'}, headers: {correlation-id: '${headers[\"correlation-id\"]}', x-by: answering}}]\n",
  };
  for (const [name, rest] of Object.entries(flows)) {
    await page.request.put(`${app.base}/api/v1/flows/${name}`, { headers: yaml, data: `readyferry: flow/1\nname: ${name}\n${rest}` });
  }
  for (const name of ["answering", "asking"]) {
    const published = await page.request.post(`${app.base}/api/v1/flows/${name}/publish`);
    expect((await published.json()).findings.map((f: { code: string }) => f.code)).not.toContain("queue-unread");
  }
  const { transaction } = await (await page.request.post(`${app.base}/in/asking`, { data: { pier: 7 } })).json();
  await goto(`/transactions/${transaction}`);
  await expect(cell(page, "q", 0)).toHaveText("replied");
  await cell(page, "q", 0).click();
  await expect(page.getByTestId("before")).toContainText("correlation-id");
  const correlation = await page.getByTestId("before").locator("dt", { hasText: "correlation-id" }).locator("+ dd").innerText();
  await expect(page.getByTestId("reply")).toContainText(correlation);
  await expect(page.getByTestId("reply")).toContainText("answering");
  await goto("/queues");
  await page.getByRole("row", { name: /^kept/ }).getByRole("button", { name: "look inside" }).click();
  await page.getByLabel("Messages of kept").locator("summary").first().click();
  await expect(page.getByLabel("Messages of kept").getByTestId("came-with")).toContainText("asking");
  // Nobody reads the questions any more while one is left there.
  await page.request.post(`${app.base}/api/v1/queues/questions/pause`);
  await page.request.post(`${app.base}/in/asking`, { data: { pier: 8 } });
  await goto("/flows/answering");
  await page.getByRole("button", { name: "Pause" }).click();
  await expect(page.getByRole("dialog")).toContainText("questions");
  await page.getByRole("button", { name: "Pause it all the same" }).click();
  await expect(page.getByTestId("flow-status")).toContainText("paused");
});

test("a source that fails and callers that were refused show on Flows", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/connections/key`, { headers: yaml, data: "readyferry: connection/1\nname: key\nkind: caller\nsign-in: {kind: api-key, secret: s3cret}\n" });
  await page.request.put(`${app.base}/api/v1/connections/gone`, { headers: yaml, data: "readyferry: connection/1\nname: gone\nkind: http\naddress: http://127.0.0.1:1\n" });
  for (const [name, intake] of [
    ["polling", "{kind: poll, of: gone, path: /n, every: 1h, each: body}"],
    ["guarded", "{kind: webhook, path: /guarded, callers: [key]}"],
  ]) {
    await page.request.put(`${app.base}/api/v1/flows/${name}`, { headers: yaml, data: `readyferry: flow/1\nname: ${name}\nintake: ${intake}\nsteps: []\n` });
    await page.request.post(`${app.base}/api/v1/flows/${name}/publish`);
  }
  await page.request.post(`${app.base}/api/v1/flows/polling/run`);
  expect((await page.request.post(`${app.base}/in/guarded`, { data: {} })).status()).toBe(401);
  await goto("/flows");
  await expect(page.getByTestId("failing")).toContainText("gone refused the connection");
  await expect(page.getByTestId("trouble")).toContainText("The poll fails: gone refused the connection");
  await page.getByTestId("refused").click();
  await expect(page.getByRole("dialog")).toContainText("POST /in/guarded");
  await page.keyboard.press("Escape");
  const titles = await page.locator("tbody tr td:first-child a").allInnerTexts();
  expect(titles).toEqual([...titles].sort((a, b) => (a.toLowerCase() < b.toLowerCase() ? -1 : 1)));
  await page.getByTestId("trouble").click();
  await expect(page.getByTestId("clock")).toContainText("It has failed since");
});

test("the preview of a resend asks for the answers that it cannot know", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/stand-ins/desk`, { data: { status: 200, headers: { "Content-Type": "application/json" }, body: '{"pier": null}' } });
  await page.request.put(`${app.base}/api/v1/connections/desk`, { headers: yaml, data: "readyferry: connection/1\nname: desk\nkind: http\naddress: stand-in://desk\n" });
  const flow = "readyferry: flow/1\nname: piers\nintake: {kind: webhook, path: /piers, reference: body.ref}\nsteps: [{id: q, kind: ask, of: desk, method: GET, path: /piers}, {id: m, kind: map, fields: [{to: /next, from: replies.q.body.pier + 1}]}]\n";
  await page.request.put(`${app.base}/api/v1/flows/piers`, { headers: yaml, data: flow });
  await page.request.post(`${app.base}/api/v1/flows/piers/publish`);
  const { transaction } = await (await page.request.post(`${app.base}/in/piers`, { data: { ref: "P-1" } })).json();
  await goto(`/transactions/${transaction}`);
  await expect(page.getByTestId("state")).toContainText("replies.q.body.pier is a null, 1 is a number");
  await page.getByRole("button", { name: "Repair" }).click();
  const asked = page.getByRole("form", { name: "What desk would answer" });
  await expect(asked).toContainText("asks desk anew, and what it answers is not known before");
  await asked.getByLabel("Body of the answer").fill('{"pier": 6}');
  await asked.getByRole("button", { name: "go on" }).click();
  await expect(page.getByTestId("preview")).toContainText("as if q answered as you said");
  await expect(page.getByTestId("preview")).toContainText("1 of 1 set");
  await expect(page.getByTestId("history")).toContainText("died");
  await page.request.put(`${app.base}/api/v1/stand-ins/desk`, { data: { status: 200, headers: { "Content-Type": "application/json" }, body: '{"pier": 6}' } });
  await page.getByRole("button", { name: "Resend", exact: true }).click();
  await goto(`/transactions/${transaction}`);
  await expect(page.getByTestId("state")).toContainText("delivered");
  await cell(page, "m", 0).click();
  await expect(page.getByTestId("after")).toContainText("7");
});

test("a broker is made, says something, and a flow receives it", async ({ page, goto, app }) => {
  await goto("/stand-ins");
  await page.getByRole("button", { name: "Make a stand-in" }).click();
  await page.getByLabel("Name", { exact: true }).fill("shelves");
  await page.getByLabel("It is").selectOption("mqtt");
  await page.getByRole("button", { name: "Make it" }).click();
  await expect(page.getByText("A broker for MQTT")).toBeVisible();
  await page.request.put(`${app.base}/api/v1/connections/sensors`, { headers: yaml, data: "readyferry: connection/1\nname: sensors\nkind: mqtt\naddress: stand-in://shelves\n" });
  await goto("/connections?open=sensors");
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByRole("status")).toContainText("the broker is reached, and the sign-in holds");
  const flow = "readyferry: flow/1\nname: shelving\nintake: {kind: mqtt, of: sensors, filter: branches/+/shelves, reference: body.ref}\nsteps: [{id: d, kind: deliver, to: sensors, topic: 'done/${body.ref}'}]\n";
  await page.request.put(`${app.base}/api/v1/flows/shelving`, { headers: yaml, data: flow });
  await goto("/flows/shelving");
  await cell(page, "d", -1).click();
  await page.getByLabel("Quality of service").selectOption("2");
  await expect(page.getByTestId("sheet").locator("[data-path=d]")).toContainText("publish to done/${body.ref} at sensors , quality 2");
  await publish(page);
  await expect(page.getByText("Version 1 is live", { exact: true })).toBeVisible();
  await goto("/stand-ins?open=shelves");
  await page.getByLabel("Publish to").fill("branches/ELMS/shelves");
  await page.getByLabel("The message").fill('{"ref": "S-1"}');
  await expect(async () => {
    await page.getByRole("button", { name: "Publish", exact: true }).click();
    await expect(page.getByTestId("calls")).toContainText("done/S-1", { timeout: 1000 }); // once the flow subscribes
  }).toPass();

  await goto("/flows/shelving");
  await cell(page, "", -1).click();
  await page.getByRole("button", { name: "take one as a sample" }).click();
  await expect(page.getByRole("button", { name: "stop", exact: true })).toBeVisible();
  await page.request.post(`${app.base}/api/v1/stand-ins/shelves/send`, { data: { topic: "branches/QUAY/shelves", body: '{"ref": "S-2"}', qos: 1, retain: true } });
  await expect(page.getByText(/^taken .* is a sample now/)).toBeVisible({ timeout: 20_000 });
  await expect(cell(page, "d", 0)).toHaveText("delivered");
});
