import type { Page } from "@playwright/test";
import { against, expect } from "./app";
import { begin, Hands, line, order, pick, report, shaped, written } from "./hands";

const test = against("serve");

/** From the sheet to the lines of an example, without the mouse. */
async function shapedByKeys(page: Page, hands: Hands, example: string) {
  await page.getByRole("grid").focus();
  await hands.key("a");
  await hands.type("map");
  await hands.key("Enter");
  await expect(page.getByRole("dialog")).toHaveCount(0);
  await hands.key("Enter");
  await hands.paste(page.getByRole("textbox", { name: "An example of the target" }), example);
  await expect(page.getByRole("listbox", { name: "Lines of the target" })).toBeFocused();
  await expect(page.getByRole("listbox", { name: "Lines of the target" }).getByRole("option").first()).toBeVisible();
  await expect(page.getByTestId("before").locator("[data-pick]").first()).toBeVisible(); // the sample has come to the new step
}

/** A value by its name or by what it is, for the line that is next. */
async function named(page: Page, hands: Hands, text: string) {
  await hands.type(text);
  await hands.key("Enter");
  await expect(page.getByRole("listbox", { name: "Lines of the target" })).toBeFocused();
}

test("HL7 to JSON, five fields and a loop, by pointing alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "in-json", { format: "hl7" }, report, "application/hl7-v2");
  const hands = new Hands(page);
  await shaped(page, hands, '{"card":"1","family":"x","given":"y","born":"z","street":"s","results":[{"code":"c","value":"1"}]}');
  await hands.click(line(page, /^card/));
  for (const place of ["PID-3.1", "PID-5.1", "PID-5.2", "PID-7", "PID-11.1"]) await hands.click(pick(page, `hl7(body, "${place}")`).first());
  await hands.click(pick(page, 'hl7Groups(body, "OBX")').first());
  await hands.click(pick(page, 'hl7(body, "OBX-3.1")').first());
  await hands.click(pick(page, 'hl7(body, "OBX[2]-5")').first());
  await expect
    .poll(() => written(app, page, "in-json"))
    .toBe(
      `{"card":"LC4417203","family":"O'NEIL","given":"MAUD","born":"19610412","street":"4 Sluice Lane","results":[{"code":"GLU","value":"5.4"},{"code":"NA","value":"140"}]}`,
    );
  expect(hands.n).toBeLessThanOrEqual(18);
  // What becomes of a value is chosen by its result, and reads back in words.
  await page.getByRole("button", { name: "What becomes of born" }).click();
  await page.getByRole("button", { name: /“%Y%m%d” as “%Y-%m-%d”/ }).click();
  await expect(line(page, /^born/)).toContainText('"1961-04-12"');
  await expect(line(page, /^born/)).toContainText("PID-7 a date, “%Y%m%d” as “%Y-%m-%d”");
});

test("JSON to HL7, four fields and a loop of five, by pointing alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "out-hl7", { format: "json" }, order, "application/json");
  const hands = new Hands(page);
  await shaped(
    page,
    hands,
    "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\nPID|1||X^^^LARK||FAM^GIV||19000101\nOBR|1\nOBX|1|NM|C^T||0|u|||||F\nOBX|2\n",
  );
  await hands.click(line(page, /^PID-3\.1/));
  await hands.click(pick(page, "body.card").last());
  await hands.click(line(page, /^PID-5\.1/));
  for (const name of ["family", "given", "born"]) await hands.click(pick(page, `body.${name}`).last());
  await hands.click(line(page, /^OBX/));
  await hands.click(pick(page, "body.results").first());
  await hands.click(line(page, /^OBX-3\.1/));
  for (const name of ["code", "title", "value", "unit", "state"]) await hands.click(pick(page, `body.results[0].${name}`).last());
  await expect
    .poll(() => written(app, page, "out-hl7"))
    .toBe(
      "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||LC4417203^^^LARK||O'Neil^Maud||19610412\rOBR|1\r" +
        "OBX|1|NM|GLU^Glucose||5.4|mmol/L|||||F\rOBX|2|NM|NA^Sodium||140|mmol/L|||||P\r",
    );
  expect(hands.n).toBeLessThanOrEqual(18);
});

test("CSV with five fields, by pointing at the rows", async ({ page, goto, app }) => {
  await begin(app, page, goto, "from-csv", { format: "csv", header: true }, "card,name,born,town,state\r\nLC1,Maud,1961,Elmsby,x\r\nLC2,Tom,1970,Ford,y\r\n", "text/csv");
  const hands = new Hands(page);
  await shaped(page, hands, '{"members":[{"card":"1","name":"x","born":"y","town":"z","state":"s"}]}');
  await hands.click(line(page, /^members/));
  await hands.click(pick(page, "body"));
  await expect
    .poll(() => written(app, page, "from-csv"))
    .toBe(
      '{"members":[{"card":"LC1","name":"Maud","born":"1961","town":"Elmsby","state":"x"},{"card":"LC2","name":"Tom","born":"1970","town":"Ford","state":"y"}]}',
    );
  expect(hands.n).toBeLessThanOrEqual(18);
  // Arrows go through the lines, and Delete takes one away.
  await page.getByRole("listbox", { name: "Lines of the target" }).focus();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Delete");
  await expect.poll(() => written(app, page, "from-csv")).not.toContain('"card"');
});

test("HL7 to JSON by keyboard alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "keys-json", { format: "hl7" }, report, "application/hl7-v2");
  const hands = new Hands(page);
  await shapedByKeys(page, hands, '{"card":"1","family":"x","given":"y","born":"z","street":"s","results":[{"code":"c","value":"1"}]}');
  await named(page, hands, "LC44");
  await hands.key("Space"); // the family name, which is most like it
  await hands.key("Space");
  await named(page, hands, "1961");
  await hands.key("Space");
  await named(page, hands, "OBX");
  await named(page, hands, "GLU");
  await hands.key("Space");
  await expect
    .poll(() => written(app, page, "keys-json"))
    .toBe(
      `{"card":"LC4417203","family":"O'NEIL","given":"MAUD","born":"19610412","street":"4 Sluice Lane","results":[{"code":"GLU","value":"5.4"},{"code":"NA","value":"140"}]}`,
    );
  expect(hands.n).toBeLessThanOrEqual(18);
});

test("CSV with five fields by keyboard alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "keys-csv", { format: "csv", header: true }, "card,name,born,town,state\r\nLC1,Maud,1961,Elmsby,x\r\nLC2,Tom,1970,Ford,y\r\n", "text/csv");
  const hands = new Hands(page);
  await shapedByKeys(page, hands, '{"members":[{"card":"1","name":"x","since":"y","town":"z","state":"s"}]}');
  await named(page, hands, "rows"); // four of the five have like names
  await named(page, hands, "1961");
  await expect
    .poll(() => written(app, page, "keys-csv"))
    .toBe(
      '{"members":[{"card":"LC1","name":"Maud","since":"1961","town":"Elmsby","state":"x"},{"card":"LC2","name":"Tom","since":"1970","town":"Ford","state":"y"}]}',
    );
  expect(hands.n).toBeLessThanOrEqual(18);
});

test("JSON to HL7 by keyboard alone", async ({ page, goto, app }) => {
  await begin(app, page, goto, "keys-hl7", { format: "json" }, order, "application/json");
  const hands = new Hands(page);
  await shapedByKeys(
    page,
    hands,
    "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\nPID|1||X^^^LARK||FAM^GIV||19000101\nOBR|1\nOBX|1|NM|C^T||0|u|||||F\nOBX|2\n",
  );
  const jump = async (place: string) => {
    await hands.key("Control+f");
    await hands.type(place);
    await hands.key("Enter");
  };
  await jump("PID-3.1");
  await named(page, hands, "card");
  await jump("PID-5.1");
  await hands.key("Space"); // the family name, which is most like it
  await hands.key("Space");
  await named(page, hands, "born");
  await jump("OBX");
  await named(page, hands, "results");
  await jump("OBX-3.1");
  await named(page, hands, "code");
  await named(page, hands, "title");
  await hands.key("Space");
  await hands.key("Space");
  await named(page, hands, "state");
  await expect
    .poll(() => written(app, page, "keys-hl7"))
    .toBe(
      "MSH|^~\\&|LARK|L|LAB|N|20260101||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||LC4417203^^^LARK||O'Neil^Maud||19610412\rOBR|1\r" +
        "OBX|1|NM|GLU^Glucose||5.4|mmol/L|||||F\rOBX|2|NM|NA^Sodium||140|mmol/L|||||P\r",
    );
  expect(hands.n).toBeLessThanOrEqual(33); // three of them for each of four ways to a line far off
});
