import { against, expect } from "./app";

// Partners that speak over MLLP and by mail, with the demo that sends nothing by itself.
const test = against("demo", "--trickle", "0");

const hl7 = (type: string, id: string, address: string) =>
  `MSH|^~\\&|CARE|COUNTY|VAN|LARKFIELD|20260317094100||${type}|${id}|P|2.5.1\nPID|1||R-9^^^CARE||Quill^Ottoline||19410602|F|||${address}`;

test("a partner over MLLP hears AA, AE and AR, and is told of the visit", async ({ page, goto }) => {
  await goto("/stand-ins?open=community-care");
  const form = page.getByRole("form", { name: "Send an HL7 message" });
  const received = page.getByTestId("calls").locator("summary");
  for (const [type, id, address, says] of [
    ["ADT^A28", "M-1", "4 Sluice Lane^^Elmsby", "MSA|AA|M-1"],
    ["ADT^A28", "M-2", "", "MSA|AE|M-2 – PID-11 is empty, and the van needs an address"],
    ["ORM^O01", "M-3", "4 Sluice Lane^^Elmsby", "MSA|AR|M-3 – ORM is not taken here, only ADT"],
  ]) {
    await form.getByLabel("The message, a line for each segment").fill(hl7(type, id, address));
    await form.getByRole("button", { name: "Send it" }).click();
    await expect(received.getByText(says)).toBeVisible();
  }
  await expect(received.getByText("SIU^S12")).toBeVisible();
  await goto("/transactions?flow=home-visits");
  await expect(page.getByRole("row", { name: /M-1/ })).toContainText("delivered");
  await expect(page.getByRole("row", { name: /M-2/ })).toContainText("the van needs an address");
  await goto("/connections?open=community-care");
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByText("the partner is reached; it was sent nothing", { exact: true })).toBeVisible();
});

test("letters go out by mail with what is attached, and a reply becomes a ticket", async ({ page, goto, app }) => {
  const list = "card,name,item,title,days\r\nLC 4417 203,quill,31408-20931-7,The Long Quay,9\r\n";
  await page.request.post(`${app.base}/in/overdue`, {
    headers: { "content-type": "text/csv", "x-api-key": "larkfield-demo-key", "request-id": "OD-M1" },
    data: list,
  });
  await goto("/stand-ins?open=mail-server");
  const letter = page.getByTestId("calls").locator("details").filter({ hasText: "card-LC4417203@patrons.example" });
  await letter.locator("summary").click();
  await expect(letter).toContainText("1 overdue: card LC4417203");
  await expect(letter).toContainText("31408-20931-7;The Long Quay;9");
  const form = page.getByRole("form", { name: "Let a mail come" });
  await form.getByLabel("Subject").fill("Re: 1 overdue");
  await form.getByLabel("From").fill("nobody");
  await form.getByLabel("What it says").fill("It is on its way.");
  await form.getByRole("button", { name: "Let it come" }).click();
  await expect(page.getByText('"nobody" is no address that a mail is from')).toBeVisible();
  await form.getByLabel("From").fill("Ottoline Quill <card-LC4417203@patrons.example>");
  await form.getByRole("button", { name: "Let it come" }).click();
  await expect(page.getByText("Re: 1 overdue is in the mailbox")).toBeVisible();
  await expect(page.getByTestId("inside")).toContainText("Tickets 1 wait");
  await goto("/transactions?flow=mail-replies");
  await expect(page.getByRole("row", { name: /Re: 1 overdue/ })).toContainText("delivered");
  await goto("/connections?open=mail-server");
  await page.getByRole("button", { name: "Test", exact: true }).click();
  await expect(page.getByText("mails can be sent and read", { exact: true })).toBeVisible();
});
