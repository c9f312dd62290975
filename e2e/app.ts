import { test as base, expect, type Page } from "@playwright/test";
import { type ChildProcess, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

/** A running application of its own for each test file. */
export class App {
  base = "";
  /** The link by which the first owner comes in, where people sign in. */
  first = "";
  private child?: ChildProcess;
  private data = mkdtempSync(join(tmpdir(), "readyferry-e2e-"));

  constructor(
    private binary = "readyferry",
    private signIn = false,
  ) {}

  async start(...args: string[]): Promise<void> {
    const child = spawn(`../bin/${this.binary}`, [...(args[0] === "serve" && !this.signIn ? ["serve", "--without-sign-in", ...args.slice(1)] : args), "--data", this.data, "--listen", "127.0.0.1:0"], { stdio: ["ignore", "pipe", "inherit"] });
    this.child = child;
    this.base = await new Promise<string>((resolve, reject) => {
      let out = "";
      child.stdout.on("data", (d) => {
        out += d;
        this.first = /once: (\S+)/.exec(out)?.[1] ?? "";
        const m = /at (http:\S+)/.exec(out);
        if (m?.[1]) resolve(m[1]);
      });
      child.on("exit", (code) => reject(new Error(`the application ended with ${code}: ${out}`)));
    });
  }

  /** Ends it at once, as a machine does that loses its power; what it kept stays. */
  async kill(): Promise<void> {
    const child = this.child;
    if (!child || child.exitCode !== null) return;
    const gone = new Promise((r) => child.once("exit", r));
    child.kill("SIGKILL");
    await gone;
  }

  async stop(): Promise<void> {
    const child = this.child;
    if (child && child.exitCode === null) {
      const gone = new Promise((r) => child.once("exit", r));
      child.kill("SIGTERM");
      await gone;
    }
    rmSync(this.data, { recursive: true, force: true });
  }
}

/** Tests against an application that was started with the given arguments. */
export function against(...args: string[]) {
  return againstProgram("readyferry", ...args);
}

/** The same with another program in bin. */
export function againstProgram(binary: string, ...args: string[]) {
  return base.extend<{ goto: (path: string) => Promise<void> }, { app: App }>({
    app: [
      async ({}, use) => {
        const app = new App(binary);
        await app.start(...args);
        await use(app);
        await app.stop();
      },
      { scope: "worker" },
    ],
    goto: async ({ page, app }, use) => {
      const errors: string[] = [];
      page.on("pageerror", (e) => errors.push(e.message));
      await use(async (path) => {
        await page.goto(app.base + path);
      });
      expect(errors, "errors in the page").toEqual([]);
    },
  });
}

/** The cell of a sheet: what the step at a path did to the message in a column, counted from 0. */
export const cell = (page: Page, path: string, column: number) =>
  page.locator(`[data-testid=sheet] [data-path="${path}"] [role=gridcell]`).nth(column + 1);

/** Publishes the flow whose sheet is shown, over the page that proves the draft. */
export async function publish(page: Page) {
  await page.getByRole("button", { name: /^Publish (version 1|a new version)$/ }).click();
  await page.getByRole("button", { name: /^Make it version/ }).click();
}

/** Shows a condition, which is put together from comparisons, as the expression that it is. */
export async function asText(page: Page) {
  const settings = page.getByTestId("settings");
  const button = settings.getByRole("button", { name: "write it as an expression" }).first();
  const written = settings.getByText("It is more than comparisons").or(settings.getByRole("button", { name: "put it together" }));
  await expect(button.or(written).first()).toBeVisible();
  if (await button.isVisible()) await button.click();
}

/** Puts a text in place of all that an editor holds. */
export async function retype(page: Page, label: string, text: string) {
  const editor = page.getByRole("textbox", { name: label, exact: true });
  await editor.click();
  await page.keyboard.press("Control+a");
  if (text === "") await page.keyboard.press("Delete"); // inserting nothing would swallow the next key
  else await page.keyboard.insertText(text);
}

export { expect };

/** Waits until the draft of a flow has been saved with a text in it. */
export async function saved(page: Page, app: App, flow: string, text: string) {
  const draft = async () => (await page.request.get(`${app.base}/api/v1/flows/${flow}`, { headers: { accept: "application/yaml" } })).text();
  await expect.poll(draft, { intervals: [50, 100, 200] }).toContain(text);
}
