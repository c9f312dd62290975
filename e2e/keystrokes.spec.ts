import { against, cell, expect } from "./app";

const test = against("serve");
test.describe.configure({ mode: "default" });

// How long it takes from a keystroke until the last cell shows what it does is printed beside that of a flow of one
// step and one sample; docs/performance.md keeps the figures. What is asserted is what does not depend on the machine:
// what a keystroke downloads.
test("a keystroke brings what has changed, however large the sheet is", async ({ page, goto, app }) => {
  test.slow();
  let empty = 0;
  for (const [steps, samples, most] of [[1, 1, 4_000], [20, 8, 12_000], [60, 20, 25_000], [100, 50, 60_000]] as const) {
    const name = `sheet-${steps}-${samples}`;
    const list: object[] = [{ id: "said", kind: "note", text: "of ${body.id} " }];
    for (let i = 1; i < steps; i++)
      list.push(
        i % 2
          ? { id: `m${i}`, kind: "set", vars: { [`v${i}`]: `body.id + "${i}"` } }
          : { id: `f${i}`, kind: "filter", keep: `body.id != "${i}" && size(body.lines) > 0` },
      );
    const put = await page.request.put(`${app.base}/api/v1/flows/${name}`, {
      data: { readyferry: "flow/1", name, intake: { kind: "webhook", path: `/${name}` }, steps: list },
    });
    expect(put.ok(), await put.text()).toBe(true);
    for (let i = 0; i < samples; i++) {
      const lines = Array.from({ length: 24 }, (_, n) => ({ item: `31408-${n}-${i}`, title: `The ${n}th of many`, copies: n, open: n % 2 === 0 }));
      const kept = await page.request.put(`${app.base}/api/v1/flows/${name}/samples/s${i}`, {
        data: { body: JSON.stringify({ id: `S-${i}`, lines }), headers: { "content-type": "application/json" }, params: {}, query: {} },
      });
      expect(kept.ok()).toBe(true);
    }
    await goto(`/flows/${name}`);
    const shown = Math.min(samples, 8) - 1; // a column in sight
    const last = cell(page, "said", shown);
    await expect(last).toHaveText(`of S-${shown}`);
    await cell(page, "said", 0).click();
    const text = page.getByTestId("settings").getByRole("textbox").first();
    await text.click();
    await page.keyboard.press("Control+End");
    await page.evaluate((id) => {
      const w = window as unknown as { pressed: number; shown: number };
      document.addEventListener("keydown", () => { w.pressed = performance.now(); }, true);
      const shown = document.getElementById(id);
      if (shown) new MutationObserver(() => { w.shown = performance.now(); }).observe(shown, { childList: true, subtree: true, characterData: true });
    }, `cell-1-${shown}`);
    const took: number[] = [];
    const came: number[] = [];
    let typed = "";
    for (const key of "abcdefghijklmnopqrst") {
      const followed = page.waitForResponse((r) => r.url().endsWith("/follow"));
      await page.keyboard.press(key);
      typed += key;
      await expect(last).toHaveText(`of S-${shown} ${typed}`);
      came.push((await (await followed).request().sizes()).responseBodySize);
      took.push(await page.evaluate(() => {
        const w = window as unknown as { pressed: number; shown: number };
        return w.shown - w.pressed;
      }));
    }
    took.sort((a, b) => a - b);
    const p95 = took[Math.floor(took.length * 0.95) - 1] ?? 0;
    empty ||= p95;
    console.log(`${steps} steps × ${samples} samples: ${p95.toFixed(0)} ms, ${(p95 / empty).toFixed(1)} × one of one, ${Math.max(...came)} bytes`);
    expect(Math.max(...came), "bytes that a keystroke downloads").toBeLessThan(most);
  }
});
