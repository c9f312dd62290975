import { against, cell, expect, retype } from "./app";
import { line, pick } from "./hands";

const test = against("serve");

test("Avro comes in and Protocol Buffers go out, by schemas among the flow's files", async ({ page, goto, app }) => {
  const schema = { type: "record", name: "Loan", fields: [{ name: "card", type: "string" }, { name: "due", type: { type: "int", logicalType: "date" } }] };
  await page.request.put(`${app.base}/api/v1/flows/binary`, {
    data: { readyferry: "flow/1", name: "binary", intake: { kind: "webhook", path: "/binary" }, steps: [] },
  });
  await page.request.put(`${app.base}/api/v1/flows/binary/files/schemas/loan.avsc`, { data: JSON.stringify(schema), headers: { "content-type": "text/plain" } });
  await page.request.put(`${app.base}/api/v1/flows/binary/samples/one`, { data: { name: "one", base64: "BkxDMeTXAg==", headers: { "content-type": "avro/binary" } } });
  await goto("/flows/binary");
  await cell(page, "", 0).click();
  const settings = page.getByTestId("settings");
  await settings.getByLabel("Format", { exact: true }).selectOption("avro");
  await settings.getByLabel("Schema", { exact: true }).fill("schemas/loan.avsc");
  await expect(cell(page, "", 0)).toHaveText("accepted");
  await expect(page.getByTestId("before")).toContainText('"2030-03-29"');
  await page.getByTestId("before").getByRole("button", { name: "as bytes" }).click();
  await expect(page.getByTestId("hex")).toContainText("06 4c 43 31");
  // The other schema is written under Files, and its lines are those of the map.
  await page.getByRole("button", { name: "Files", exact: true }).click();
  await page.getByRole("button", { name: "+ schema" }).click();
  await page.getByLabel("Name of the file").fill("schemas/slip.proto");
  await retype(page, "Text of the file", 'syntax = "proto3"; message Slip { string reader = 1; string until = 2; }');
  await page.getByRole("button", { name: "Save the file" }).click();
  await expect(page.getByText("schemas/slip.proto is saved with the draft")).toBeVisible();
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "add below" }).click();
  await page.getByRole("dialog").getByText("Map", { exact: true }).click();
  await page.getByLabel("Format", { exact: true }).selectOption("protobuf");
  await page.getByLabel("Schema", { exact: true }).selectOption("schemas/slip.proto");
  await line(page, /^reader/).click();
  await pick(page, "body.card").last().click();
  await pick(page, "body.due").last().click();
  await expect(cell(page, "map", 0)).toHaveText("2 of 2 set");
  const trace = async () => (await (await page.request.post(`${app.base}/api/v1/flows/binary/rehearse`, { data: {} })).json())[0].trace.at(-1)?.after;
  await expect.poll(trace).toMatchObject({ format: "protobuf", tree: '{"reader":"LC1","until":"2030-03-29"}', base64: "CgNMQzESCjIwMzAtMDMtMjk=" });
});

test("a dead letter that came as Avro is repaired by its tree", async ({ page, goto, app }) => {
  const base = `${app.base}/api/v1/flows/avro-dead`;
  const flow = (schema: object) => ({
    data: {
      readyferry: "flow/1",
      name: "avro-dead",
      intake: { kind: "webhook", path: "/avro-dead", format: "avro", ...schema },
      steps: [{ id: "v", kind: "map", fields: [{ to: "/x", from: 'body.card.startsWith("LC") ? body.card : body.no' }] }],
    },
  });
  await page.request.put(base, flow({}));
  const schema = { type: "record", name: "Loan", fields: [{ name: "card", type: "string" }, { name: "n", type: "long" }] };
  await page.request.put(`${base}/files/schemas/loan.avsc`, { data: JSON.stringify(schema), headers: { "content-type": "text/plain" } });
  await page.request.put(base, { ...flow({ schema: "schemas/loan.avsc" }), headers: { "if-match": "*" } });
  expect((await page.request.post(`${base}/publish`)).ok()).toBe(true);
  await page.request.post(`${app.base}/in/avro-dead`, { data: Buffer.from("065858310e", "hex"), headers: { "content-type": "avro/binary" } });
  await goto("/dead-letters");
  await page.getByText("body.no is missing").first().click();
  const editor = page.getByRole("textbox", { name: "Message", exact: true });
  await expect(editor).toContainText('"card": "XX1"');
  await retype(page, "Message", '{"card": "LC1", "n": 12345678901234567}');
  await expect(page.getByTestId("preview")).toContainText("delivered");
  await page.getByRole("button", { name: "Resend repaired" }).click();
  await expect(page.getByText("No dead letters")).toBeVisible();
});
