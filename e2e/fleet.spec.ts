import { type ChildProcess, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { expect, test } from "@playwright/test";

// Three members of a fleet, each a process of its own, with the demo; any of them shows and does what all do.

/** The first of three ports in a row that nobody listens at. */
async function threePorts(): Promise<number> {
  const free = (port: number) =>
    new Promise<boolean>((is) => {
      const server = createServer();
      server.once("error", () => is(false));
      server.listen(port, "127.0.0.1", () => server.close(() => is(true)));
    });
  for (let port = 18000 + Math.floor(Math.random() * 20000); ; port += 7) {
    if ((await free(port)) && (await free(port + 1)) && (await free(port + 2))) return port;
  }
}

test("any member shows and does what all do, and another leads when one is killed", async ({ page }) => {
  const data = mkdtempSync(join(tmpdir(), "readyferry-fleet-"));
  const port = await threePorts();
  const child: ChildProcess = spawn("../bin/readyferry", ["fleet", "demo", "--data", data, "--port", String(port)]);
  const processes: Record<string, number> = {};
  child.stdout?.on("data", (d) => {
    for (const m of String(d).matchAll(/member (\w+) is process (\d+)/g)) processes[m[1] as string] = Number(m[2]);
  });
  const bases: Record<string, string> = { alder: `http://127.0.0.1:${port}`, birch: `http://127.0.0.1:${port + 1}`, cedar: `http://127.0.0.1:${port + 2}` };
  const status = async (member: string) => {
    const answer = await page.request.get(`${bases[member]}/api/v1/fleet`, { timeout: 60_000 }).catch(() => null);
    return answer?.ok() ? ((await answer.json()) as { leader: string }) : null;
  };
  try {
    await expect.poll(async () => (await status("alder"))?.leader ?? "").not.toBe("");
    const first = (await status("alder"))?.leader as string;
    const others = ["alder", "birch", "cedar"].filter((n) => n !== first) as [string, string];
    await page.goto(`${bases[others[0]]}/flows`);
    await page.getByRole("button", { name: "Visitor" }).focus();
    await page.keyboard.press("Enter");
    await page.getByRole("menuitem", { name: "Fleet" }).press("Enter");
    await expect(page.getByRole("heading", { name: "The fleet larkfield" })).toBeVisible();
    const members = page.getByRole("table").first().getByRole("row");
    const parts = page.getByTestId("partitions").getByRole("row");
    await expect(members.filter({ hasText: first })).toContainText("leads partition");
    for (const n of [1, 2, 3]) await expect(parts.nth(n)).toContainText("3 of 3 current");
    // Which flows are spread, and why the others are not.
    await page.getByText("in partition 0 alone, and why").click();
    await expect(page.getByRole("region", { name: "Flows" })).toContainText("overdue-notices: mail-server is a stand-in");
    // Where nobody works on a partition each page says so.
    await page.route("**/api/v1/fleet", async (route) => {
      const res = await route.fetch();
      const now = (await res.json()) as { partitions: { leader: string }[] };
      if (now.partitions[1]) now.partitions[1].leader = "";
      await route.fulfill({ response: res, json: now });
    });
    await expect(page.getByTestId("partitions-away")).toContainText("Nobody works on partition 1 of the fleet now");
    await page.unroute("**/api/v1/fleet");
    await expect(page.getByTestId("partitions-away")).toHaveCount(0);
    // What is published by one is there at each.
    const put = await page.request.put(`${bases[others[0]]}/api/v1/flows/noted`, {
      headers: { "content-type": "application/yaml" },
      data: "readyferry: flow/1\nname: noted\nintake: {kind: webhook, path: /noted, reference: body.n}\nsteps: []\n",
    });
    expect(put.ok()).toBe(true);
    expect((await page.request.post(`${bases[first]}/api/v1/flows/noted/publish?sure=true`)).ok()).toBe(true);
    expect((await page.request.post(`${bases[others[1]]}/in/noted`, { data: { n: "one" } })).status()).toBe(202);
    // Its leader is killed; another one leads within seconds, and all is there.
    process.kill(processes[first] as number, "SIGKILL");
    await expect(members.filter({ hasText: first })).toContainText("away for");
    for (const n of [1, 2, 3]) await expect(parts.nth(n)).not.toContainText(new RegExp(`${first}|nobody`));
    expect((await page.request.post(`${bases[others[0]]}/in/noted`, { data: { n: "two" }, timeout: 60_000 })).status()).toBe(202);
    await expect
      .poll(async () => {
        const seen = await page.request.get(`${bases[others[1]]}/api/v1/transactions?flow=noted`);
        return ((await seen.json()) as { reference: string }[]).map((t) => t.reference).sort();
      })
      .toEqual(["one", "two"]);
    // One that is drained hands over, though it is well.
    const leads = (await status(others[0]))?.leader as string;
    await page.goto(`${bases[others[0]]}/fleet`);
    await members.filter({ hasText: leads }).getByRole("button", { name: "drain" }).click();
    await expect(members.filter({ hasText: leads })).toContainText("follows, drained");
    await expect.poll(async () => (await status(others[0]))?.leader ?? "").toBe(others.find((n) => n !== leads));
  } finally {
    child.kill("SIGINT");
    await new Promise((r) => child.once("exit", r));
    rmSync(data, { recursive: true, force: true });
  }
});
