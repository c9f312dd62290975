import { against, expect } from "./app";

const test = against("serve");

// Whatever a message brings, in whatever of its parts, is text on every page that shows it.
const attempts = [
  "<script>window.ran = 1</script>",
  "<img src=x onerror='window.ran = 2'>",
  "\"><svg onload='window.ran = 3'>",
  "javascript:window.ran=4",
  "{{constructor.constructor('window.ran = 5')()}}",
  "</textarea></pre><iframe srcdoc='<script>parent.ran = 6</script>'>",
];
const evil = attempts.join(" ");
const title = attempts.slice(0, 3).join(" "); // titles are short

test("script in every text that a message can bring is shown as text", async ({ page, app, goto }) => {
  const put = async (at: string, document: object) => {
    const saved = await page.request.put(`${app.base}/api/v1/${at}`, { data: document });
    expect(saved.ok(), await saved.text()).toBe(true);
  };
  const stays = { kind: "deliver", to: "nowhere", path: "/${body.path}", headers: { "x-text": "${body.text}" } };
  await put("connections/nowhere", {
    readyferry: "connection/1", name: "nowhere", kind: "http", address: "http://127.0.0.1:1", title, note: evil, retry: { tries: 1 },
  });
  await put("flows/evil", {
    readyferry: "flow/1", name: "evil", title, note: evil,
    intake: { kind: "webhook", path: "/evil", reference: "body.text", order: "body.text" },
    steps: [
      { id: "note", kind: "note", text: "${body.text}" },
      { id: "each", kind: "split", each: "body.list", steps: [{ id: "part", kind: "note", text: "${part}" }] },
      { id: "on", kind: "deliver", to: { queue: "evil", readers: "outside" } },
      { id: "told", kind: "deliver", to: { topic: "evil" } },
      { id: "keep", kind: "filter", keep: "!body.away", reason: "away: ${body.text}" },
      { id: "out", title, ...stays },
    ],
  });
  expect((await page.request.post(`${app.base}/api/v1/flows/evil/publish`, { data: { note: evil, by: evil } })).ok()).toBe(true);
  for (const away of [false, true]) {
    const sent = await page.request.post(`${app.base}/in/evil?q=${encodeURIComponent(evil)}`, {
      data: { text: evil, path: evil, list: attempts, away, [evil]: evil }, headers: { "x-evil": evil },
    });
    expect(sent.status()).toBe(202);
  }
  await expect(async () => {
    const letters = await (await page.request.get(`${app.base}/api/v1/dead-letters`)).json();
    expect(letters.length).toBe(1);
  }).toPass();
  const rows = await (await page.request.get(`${app.base}/api/v1/transactions?flow=evil`)).json();
  let dialogs = 0;
  page.on("dialog", (d) => {
    dialogs++;
    void d.dismiss();
  });
  const whole = rows.filter((t: { parent: string | null }) => !t.parent).map((t: { id: string }) => `/transactions/${t.id}`);
  const showing = ["/flows", "/flows/evil", "/flows/evil/publish", "/flows/evil/paper", "/transactions", "/dead-letters", ...whole];
  const others = ["/flows/evil/callers", "/queues", "/queues?queue=evil", "/queues?topic=evil", "/connections?open=nowhere", "/log", "/alarms"];
  for (const at of [...showing, ...others]) {
    await goto(at);
    await expect(page.getByRole("navigation").first()).toBeVisible();
    if (showing.includes(at)) await expect(page.getByText("window.ran = 1").filter({ visible: true }).first(), at).toBeVisible();
    expect(await page.evaluate(() => (window as never as { ran?: number }).ran), at).toBeUndefined();
    expect(await page.locator("iframe[srcdoc], svg[onload], img[onerror]").count(), at).toBe(0);
    expect(await page.locator("a[href^='javascript:']").count(), at).toBe(0);
  }
  expect(dialogs).toBe(0);
});
