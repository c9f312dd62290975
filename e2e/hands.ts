import type { Locator, Page } from "@playwright/test";
import { type App, cell, expect } from "./app";

/** Counts what a person does: a click, a drag, a key, a text that is pasted. Nothing is typed as an expression. */
export class Hands {
  n = 0;
  constructor(private page: Page) {}
  async click(l: Locator) {
    this.n++;
    await l.click();
  }
  async paste(l: Locator, text: string) {
    this.n++;
    await l.fill(text);
  }
  async type(text: string) {
    this.n++;
    await this.page.keyboard.type(text);
  }
  async key(k: string) {
    this.n++;
    await this.page.keyboard.press(k);
  }
}

export const report = [
  "MSH|^~\\&|LAB|NORTH|VAN|LARKFIELD|20260317094100||ORU^R01^ORU_R01|M-1|P|2.5.1",
  "PID|1||LC4417203^^^LARK||O'NEIL^MAUD||19610412|F|||4 Sluice Lane^^Elmsby",
  "OBR|1|||GLU^Glucose",
  "OBX|1|NM|GLU^Glucose||5.4|mmol/L|||||F",
  "OBX|2|NM|NA^Sodium||140|mmol/L|||||F",
  "",
].join("\r");

export const order = JSON.stringify({
  card: "LC4417203",
  family: "O'Neil",
  given: "Maud",
  born: "19610412",
  results: [
    { code: "GLU", title: "Glucose", value: 5.4, unit: "mmol/L", state: "F" },
    { code: "NA", title: "Sodium", value: 140, unit: "mmol/L", state: "P" },
  ],
});

export async function begin(app: App, page: Page, goto: (path: string) => Promise<void>, name: string, intake: object, body: string, type: string) {
  await page.request.put(`${app.base}/api/v1/flows/${name}`, {
    data: { readyferry: "flow/1", name, intake: { kind: "webhook", path: `/${name}`, ...intake }, steps: [] },
  });
  await page.request.put(`${app.base}/api/v1/flows/${name}/samples/one`, { data: { name: "one", body, headers: { "content-type": type } } });
  await goto(`/flows/${name}`);
  await expect(cell(page, "", 0)).toHaveText("accepted");
}

export const pick = (page: Page, expression: string) => page.getByTestId("before").locator(`[data-pick='${expression}']`);
export const line = (page: Page, name: string | RegExp) => page.getByRole("option").filter({ hasText: name }).first();
export const written = async (app: App, page: Page, name: string) => {
  const r = await page.request.post(`${app.base}/api/v1/flows/${name}/rehearse`, { data: {} });
  return ((await r.json()) as { trace: { after: { text: string } }[] }[])[0]?.trace.at(-1)?.after.text;
};

/** From no map at all to the lines of an example. */
export async function shaped(page: Page, hands: Hands, example: string) {
  await hands.click(page.getByRole("button", { name: "add below" }));
  await hands.click(page.getByRole("dialog").getByText("Map", { exact: true }));
  await hands.paste(page.getByRole("textbox", { name: "An example of the target" }), example);
}
