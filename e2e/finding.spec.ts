import { against, expect } from "./app";

const test = against("serve");

test("transactions are found by words, parts and numbers; what one reads does not move", async ({ page, goto, app }) => {
  await page.request.put(`${app.base}/api/v1/flows/holds`, {
    data: {
      readyferry: "flow/1",
      name: "holds",
      title: "Holds",
      search: { fields: ["/card"], headers: ["x-portal"] },
      intake: { kind: "webhook", path: "/holds", reference: "body.ref" },
      steps: [
        { id: "which", kind: "route", ways: [{ name: "digital", when: 'body.format == "ebook"', steps: [{ id: "lent", kind: "note", text: "lent as ${body.ref}-D" }] }] },
      ],
    },
  });
  await page.request.post(`${app.base}/api/v1/flows/holds/publish`, { data: {} });
  const send = (ref: string, more: object = {}) =>
    page.request.post(`${app.base}/in/holds`, { headers: { "x-portal": "kiosk" }, data: { ref, format: "book", card: "LC 4417", ...more } });
  for (const ref of ["HR 20-811", "HR 20-812", "IL-7"]) expect((await send(ref)).ok()).toBe(true);
  await send("HR-99", { format: "ebook", card: "LC 9025" });
  await goto("/transactions");
  const rows = page.getByRole("grid", { name: "Transactions" }).getByRole("row");
  const filter = page.getByRole("combobox", { name: "Filter" });
  await expect(rows).toHaveCount(4);
  await expect(page.getByTestId("count")).toContainText("the last 4 of 4");
  // The index is filled behind the commit.
  const find = async (text: string, n: number) => {
    await filter.fill(text);
    await expect(rows).toHaveCount(n);
  };
  await find("reference:hr20-81", 2);
  await find("way:which.digital", 1);
  await find("note:lent", 1);
  await find("4417", 3);
  await find("header:x-portal=kiosk -way:which.digital", 3);
  await find("state:delivered tries:0", 4);
  expect(new URL(page.url()).searchParams.get("filter")).toBe("state:delivered tries:0");
  // What can stand next is offered, and taken with Tab.
  await filter.fill("");
  await filter.pressSequentially("fl");
  await expect(page.getByRole("option", { name: /^flow:/ })).toBeVisible();
  await page.keyboard.press("Tab");
  await page.keyboard.type("ho");
  await page.keyboard.press("Tab");
  await expect(filter).toHaveValue("flow:holds ");
  await expect(rows).toHaveCount(4);
  await filter.fill("nothing:x");
  await expect(page.getByText('there is no filter "nothing"')).toBeVisible();
  // A view is kept under a name, and has an address.
  await filter.fill("way:which.digital");
  await expect(rows).toHaveCount(1);
  await page.getByLabel("Saved views").selectOption("keep this one…");
  await page.getByLabel("Name of the view").fill("Digital ones");
  await page.getByRole("button", { name: "Keep", exact: true }).click();
  await goto("/transactions");
  await expect(rows).toHaveCount(4);
  await page.getByLabel("Saved views").selectOption("Digital ones");
  await expect(rows).toHaveCount(1);
  await expect(rows.first()).toContainText("HR-99");
  const download = page.waitForEvent("download");
  await page.getByRole("button", { name: "as CSV" }).click();
  expect((await download).suggestedFilename()).toBe("transactions.csv");
  // A row that is chosen stays where it is while others come.
  await goto("/transactions");
  await expect(rows).toHaveCount(4);
  await page.getByRole("grid", { name: "Transactions" }).focus();
  await page.keyboard.press("ArrowDown");
  const chosen = page.locator('[role=row][aria-selected="true"]');
  const reference = await chosen.getAttribute("data-reference");
  const place = await chosen.boundingBox();
  for (const ref of ["N-1", "N-2"]) await send(ref);
  await expect(page.getByRole("button", { name: "2 newer, show" })).toBeVisible();
  expect(await chosen.getAttribute("data-reference")).toBe(reference);
  expect((await chosen.boundingBox())?.y).toBe(place?.y);
  await page.getByRole("button", { name: "2 newer, show" }).click();
  await expect(rows).toHaveCount(6);
});
