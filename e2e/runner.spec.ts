import { type ChildProcess, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { createServer } from "node:http";
import { type AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { against, type App, expect } from "./app";

// A runner in a process of its own stands beside a printer that the application is to reach by it alone.
const test = against("serve");

/** A printer that keeps what it is sent. */
async function printer() {
  const slips: string[] = [];
  const server = createServer((request, response) => {
    let slip = "";
    request.on("data", (d) => {
      slip += d;
    });
    request.on("end", () => {
      if (request.method === "POST") slips.push(slip);
      response.end("{}");
    });
  });
  await new Promise<void>((r) => server.listen(0, "127.0.0.1", r));
  return { slips, address: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, stop: () => server.close() };
}

function runner(app: App, key: string, data: string): ChildProcess {
  return spawn("../bin/readyferry", ["runner", "--join", app.base, "--name", "depot", "--data", data], {
    stdio: "ignore",
    env: { ...process.env, READYFERRY_RUNNER_KEY: key },
  });
}

test("deliveries wait for the runner of a closed network, go out when it comes, and end with its key", async ({ page, app, goto }) => {
  const slips = await printer();
  const data = mkdtempSync(join(tmpdir(), "readyferry-runner-"));
  let child: ChildProcess | undefined;
  try {
    // The connection, by the form: it says by which runner it is reached.
    await goto("/connections?open=%2Bhttp");
    await page.getByLabel("Name", { exact: true }).fill("slips");
    await page.getByLabel("Base address").fill(slips.address);
    await page.getByLabel("At the runner").fill("De pot");
    await page.getByRole("button", { name: "Save" }).click();
    await expect(page.getByRole("alert").first()).toContainText("at");
    await page.getByLabel("At the runner").fill("depot");
    await page.getByRole("button", { name: "Save" }).click();
    await expect(page.getByText("slips is saved")).toBeVisible();
    await page.getByRole("button", { name: "Test", exact: true }).click();
    await expect(page.getByText("the runner depot is away, so nobody can look").first()).toBeVisible();

    const put = await page.request.put(`${app.base}/api/v1/flows/print`, {
      headers: { "content-type": "application/yaml" },
      data: "readyferry: flow/1\nname: print\nintake: {kind: webhook, path: /print}\nsteps:\n- {id: slip, kind: deliver, to: slips, path: /}\n",
    });
    expect(put.ok()).toBe(true);
    expect((await page.request.post(`${app.base}/api/v1/flows/print/publish?sure=true`)).ok()).toBe(true);
    expect((await page.request.post(`${app.base}/in/print`, { data: { card: 1 } })).ok()).toBe(true);
    await goto("/connections?open=slips");
    await expect(page.getByTestId("target")).toContainText("the runner depot, by which it is reached, is not there since the start");
    await expect(page.getByTestId("target")).toContainText("1 wait");

    // A key for it, made on the page of keys.
    await goto("/keys");
    await page.getByLabel("Name of the key").fill("depot-key");
    for (const box of await page.getByRole("group", { name: "It may" }).getByRole("checkbox").all()) await box.uncheck();
    await page.getByLabel("run: be the runner that connections name").check();
    await page.getByLabel("On", { exact: true }).fill("runner:depot");
    await page.getByRole("button", { name: "Make a key" }).click();
    const key = (await page.getByTestId("key").textContent())?.trim() ?? "";
    child = runner(app, key, data);
    await goto("/connections");
    const row = page.getByRole("row").filter({ hasText: "depot" }).last();
    await expect(row).toContainText("there for");
    await expect.poll(() => slips.slips).toEqual(['{"card":1}']);
    await page.getByRole("link", { name: "slips" }).last().click();
    await page.getByRole("button", { name: "Test", exact: true }).click();
    await expect(page.getByText("the runner depot is there").first()).toBeVisible();

    // Without its key it is gone at once, and what comes now waits.
    await page.request.delete(`${app.base}/api/v1/keys/depot-key`);
    await goto("/connections");
    await expect(row).toContainText("away for");
    await page.request.post(`${app.base}/in/print`, { data: { card: 2 } });
    await expect(row.getByRole("cell").nth(3)).toHaveText("1");
    expect(slips.slips).toHaveLength(1);
  } finally {
    child?.kill("SIGKILL");
    slips.stop();
    rmSync(data, { recursive: true, force: true });
  }
});
