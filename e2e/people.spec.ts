import AxeBuilder from "@axe-core/playwright";
import { type Browser, type Page, expect, test as base } from "@playwright/test";
import { App } from "./app";

// People sign in by keyboard, in light and dark and at 1024 pixels; the owner lets others in; sessions end.
const test = base.extend<object, { app: App }>({
  app: [
    async ({}, use) => {
      const app = new App("readyferry", true);
      await app.start("serve");
      await use(app);
      await app.stop();
    },
    { scope: "worker" },
  ],
});
test.describe.configure({ mode: "serial" });

const words = "otter lamp violin";

/** Types into fields from one to the next, as somebody without a mouse does, and presses Enter. */
async function typeIn(page: Page, first: string, ...texts: string[]) {
  await page.getByLabel(first, { exact: true }).focus();
  for (const [i, text] of texts.entries()) {
    if (i > 0) await page.keyboard.press("Tab");
    await page.keyboard.press("Control+a");
    await page.keyboard.type(text);
  }
  await page.keyboard.press("Enter");
}

async function clean(page: Page) {
  const found = await new AxeBuilder({ page }).analyze();
  expect(found.violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.html).join(" ")}`)).toEqual([]);
  const wide = await page.evaluate(() => document.documentElement.scrollWidth > document.documentElement.clientWidth);
  expect(wide, "the page is wider than the window").toBe(false);
}

async function another(browser: Browser, app: App, path: string, dark = false) {
  const context = await browser.newContext({ viewport: { width: 1024, height: 700 }, colorScheme: dark ? "dark" : "light" });
  const page = await context.newPage();
  await page.goto(app.base + path);
  return page;
}

const signedIn = (page: Page, title: string) => expect(page.getByRole("navigation").getByRole("button", { name: title })).toBeVisible();

async function signIn(page: Page, name: string, password: string) {
  await typeIn(page, "Name", name, password);
}

test("the first owner comes in by the printed link, once, and signs out and in again", async ({ page, app }) => {
  await page.goto(`${app.base}/flows`);
  await expect(page.getByRole("heading", { name: "Nobody can sign in yet" })).toBeVisible();
  await clean(page);
  await page.goto(app.first);
  await expect(page.getByRole("heading", { name: "Welcome" })).toBeVisible();
  await typeIn(page, "Name", "Maud", "Maud Lindqvist", "password1234", "password1234");
  await expect(page.getByRole("alert")).toContainText("among those that are tried first");
  await clean(page);
  await expect(page.getByText("not good enough")).toBeVisible();
  await page.getByLabel("New password").fill(words);
  await expect(page.getByText(/^(very )?good( enough)?$/)).toBeVisible();
  await page.getByLabel("Show what I type").focus();
  await page.keyboard.press("Space");
  await expect(page.getByLabel("New password")).toHaveAttribute("type", "text");
  await clean(page);
  await page.keyboard.press("Space");
  await page.getByLabel("New password").fill("");
  await page.getByLabel("Once more").fill("");
  await typeIn(page, "New password", words, words);
  await signedIn(page, "Maud Lindqvist");
  await page.goto(app.first);
  await expect(page.getByRole("alert")).toContainText("not good any more");

  await page.goto(`${app.base}/flows`);
  await page.getByRole("button", { name: "Maud Lindqvist" }).focus();
  await page.keyboard.press("Enter");
  await page.keyboard.press("End");
  await expect(page.getByRole("menuitem", { name: "Sign out" })).toBeFocused();
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Sign in" })).toBeVisible();
  await clean(page);
  await signIn(page, "maud", "not the password");
  await expect(page.getByRole("alert")).toContainText("name or password is not right");
  await signIn(page, "nobody", words);
  await expect(page.getByRole("alert")).toContainText("name or password is not right");
  await signIn(page, "MAUD", words);
  await signedIn(page, "Maud Lindqvist");
});

test("an owner adds a reader, who sees and may do what readers may, and locks themselves out", async ({ page, browser, app }) => {
  await page.goto(`${app.base}/people`);
  await signIn(page, "maud", words);
  await page.getByRole("button", { name: "Add somebody" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("Name", { exact: true }).fill("rhea");
  await dialog.getByLabel("What others call them").fill("Rhea Talbot");
  await clean(page);
  await dialog.getByRole("button", { name: "Add them, and make a link" }).click();
  const link = (await page.getByTestId("link").textContent()) ?? "";
  await page.keyboard.press("Escape");

  const theirs = await another(browser, app, link.slice(app.base.length), true);
  await expect(theirs.getByRole("heading", { name: "Welcome, rhea" })).toBeVisible();
  await clean(theirs);
  await typeIn(theirs, "New password", "seven grey herons", "seven grey herons");
  await signedIn(theirs, "Rhea Talbot");
  await theirs.getByRole("button", { name: "Rhea Talbot" }).click();
  await expect(theirs.getByRole("menuitem", { name: "You" })).toBeVisible();
  await expect(theirs.getByRole("menuitem", { name: "People" })).toHaveCount(0);
  await theirs.goto(`${app.base}/people`);
  await expect(theirs.getByText("it needs the right own everywhere").first()).toBeVisible();

  await theirs.goto(`${app.base}/me`);
  await expect(theirs.getByText("reader everywhere")).toBeVisible();
  await clean(theirs);
  const elsewhere = await another(browser, app, "/me");
  await signIn(elsewhere, "rhea", "seven grey herons");
  await expect(elsewhere.getByRole("row")).toHaveCount(3);
  await clean(elsewhere);
  await elsewhere.getByRole("button", { name: "end all others" }).click();
  await expect(elsewhere.getByRole("row")).toHaveCount(2);
  await theirs.goto(`${app.base}/flows`);
  await expect(theirs.getByRole("heading", { name: "Sign in" })).toBeVisible();

  await typeIn(elsewhere, "Present password", "seven grey herons", "nine quiet ferries", "nine quiet ferries");
  await expect(elsewhere.getByText("The password is changed")).toBeVisible();
  for (let i = 0; i < 5; i++) {
    await signIn(theirs, "rhea", `wrong ${i}`);
    await expect(theirs.getByRole("alert")).toBeVisible();
    await expect(theirs.getByLabel("Password", { exact: true })).toHaveValue("");
  }
  await expect(theirs.getByRole("alert")).toContainText("tried too often");
  await signIn(theirs, "rhea", "nine quiet ferries");
  await expect(theirs.getByRole("alert")).toContainText("tried too often");
  await clean(theirs);
  await page.reload();
  await expect(page.getByText(/locked until/)).toBeVisible();
  await page.getByRole("button", { name: "unlock" }).click();
  await expect(page.getByText(/locked until/)).toHaveCount(0);
  await signIn(theirs, "rhea", "nine quiet ferries");
  await signedIn(theirs, "Rhea Talbot");
  await page.getByRole("row", { name: /Rhea/ }).getByRole("button", { name: "sign out" }).click();
  await expect(page.getByText("rhea is signed out")).toBeVisible();
  await theirs.goto(`${app.base}/flows`);
  await expect(theirs.getByRole("heading", { name: "Sign in" })).toBeVisible();
});

test("who did it is in the audit and on versions, and the chain holds", async ({ page, app }) => {
  await page.goto(`${app.base}/audit`);
  await signIn(page, "maud", words);
  await expect(page.getByRole("list", { name: "Audit" })).toBeVisible();
  await page.getByLabel("Filter the audit").fill("person:rhea");
  await page.getByRole("button", { name: /putPerson/ }).first().click();
  await expect(page.getByRole("dialog")).toContainText('"role": "reader"');
  await clean(page);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Verify the chain" }).click();
  await expect(page.getByText(/All \d+ lines are as they were written/)).toBeVisible();
  const text = await (await page.request.get(`${app.base}/api/v1/audit-export`)).text();
  for (const secret of [words, "seven grey herons", "nine quiet ferries"]) expect(text).not.toContain(secret);

  // While the list is on its way nothing can be typed that it would replace, nor saved in its place.
  let come = () => {};
  const late = new Promise<void>((f) => {
    come = f;
  });
  await page.route("**/api/v1/outbound", (r) => late.then(() => r.continue()));
  await page.goto(`${app.base}/settings`);
  await expect(page.getByRole("textbox", { name: "Addresses outside" })).toBeDisabled();
  await expect(page.getByRole("button", { name: "Save the list" })).toBeDisabled();
  come();
  await page.getByRole("textbox", { name: "Addresses outside" }).fill("10.0.0.0/99");
  await page.getByRole("button", { name: "Save the list" }).click();
  await expect(page.getByRole("alert")).toContainText("line 1");
  await expect(page.getByRole("textbox", { name: "Addresses outside" })).toHaveValue("10.0.0.0/99");
  await clean(page);
  await page.getByRole("textbox", { name: "Addresses outside" }).fill("10.0.0.0/8\n*.partner.example");
  await page.getByRole("button", { name: "Save the list" }).click();
  await expect(page.getByText("follows the list")).toBeVisible();

  await page.goto(`${app.base}/keys`);
  await page.getByRole("textbox", { name: "Name of the key" }).fill("deploy");
  await page.getByRole("checkbox", { name: /^read:/ }).check();
  await page.getByRole("textbox", { name: "On", exact: true }).fill("*");
  await clean(page);
  await page.getByRole("button", { name: "Make a key" }).click();
  const key = (await page.getByTestId("key").textContent()) ?? "";
  const headers = { authorization: `Bearer ${key}` };
  const bare = await (await import("@playwright/test")).request.newContext();
  expect((await bare.get(`${app.base}/api/v1/flows`, { headers })).status()).toBe(200);
  expect((await bare.get(`${app.base}/api/v1/people`, { headers })).status()).toBe(403);
  expect((await bare.get(`${app.base}/api/v1/flows`)).status()).toBe(401);
  await page.getByRole("button", { name: "end it" }).click();
  await expect(page.getByRole("button", { name: "end it" })).toHaveCount(0);
  expect((await bare.get(`${app.base}/api/v1/flows`, { headers })).status()).toBe(401);
  await bare.dispose();
});

test("where publishing needs two persons one asks, and another publishes the same draft", async ({ page, browser, app }) => {
  await page.goto(`${app.base}/settings`);
  await signIn(page, "maud", words);
  await page.getByLabel("Areas in which publishing needs two persons").fill("circulation");
  await page.getByRole("button", { name: "Save the areas" }).click();
  await expect(page.getByText("published from now on follows it")).toBeVisible();
  const put = (at: string, body: object) =>
    page.evaluate(async ([at, body]) => (await fetch(at, { method: "PUT", body, headers: { "content-type": "application/json" } })).status,
      [at, JSON.stringify(body)]);
  const roles = ["designer", "publisher"].map((role) => ({ role, area: "*" }));
  for (const [name, title, more] of [["maud", "Maud Lindqvist", [{ role: "owner", area: "*" }]], ["rhea", "Rhea Talbot", []]] as const)
    expect(await put(`/api/v1/people/${name}`, { title, grants: [...roles, ...more] })).toBeLessThan(300);
  expect(await put("/api/v1/flows/slips", {
    readyferry: "flow/1", name: "slips", title: "Slips", area: "circulation", intake: { kind: "webhook", path: "/slips" }, steps: [],
  })).toBeLessThan(300);
  await page.goto(`${app.base}/flows/slips/publish`);
  await page.getByLabel("A word for those who come after").fill("for the new slips");
  await clean(page);
  await page.getByRole("button", { name: "Ask a second person" }).click();
  await expect(page.getByTestId("flow-status")).toContainText("maud asks a second person");
  await page.goto(`${app.base}/flows/slips/publish`);
  await expect(page.getByRole("button", { name: "Make it version 1" })).toBeDisabled();

  const theirs = await another(browser, app, "/flows/slips/publish", true);
  await signIn(theirs, "rhea", "nine quiet ferries");
  await expect(theirs.getByTestId("second")).toContainText("maud asked for it");
  await expect(theirs.getByTestId("second")).toContainText("for the new slips");
  await clean(theirs);
  await theirs.getByRole("button", { name: "Publish what maud asked for" }).focus();
  await theirs.keyboard.press("Enter");
  await expect(theirs.getByTestId("flow-status")).toContainText("live: version 1");
  await theirs.goto(`${app.base}/flows/slips/publish`);
  await expect(theirs.getByText("by maud and rhea")).toBeVisible();
});

test("a passkey is made and signs in, and is taken away", async ({ page, app }) => {
  const at = app.base.replace("127.0.0.1", "localhost"); // a passkey is bound to a name
  const client = await page.context().newCDPSession(page);
  await client.send("WebAuthn.enable");
  await client.send("WebAuthn.addVirtualAuthenticator", {
    options: {
      protocol: "ctap2", transport: "internal", hasResidentKey: true, hasUserVerification: true,
      isUserVerified: true, automaticPresenceSimulation: true,
    },
  });
  await page.goto(`${at}/me`);
  await signIn(page, "maud", words);
  await page.getByLabel("Name of the device").fill("reading room");
  await page.keyboard.press("Enter");
  await expect(page.getByText("reading room")).toBeVisible();
  await clean(page);
  await page.getByRole("button", { name: "Maud Lindqvist" }).click();
  await page.getByRole("menuitem", { name: "Sign out" }).click();
  await page.getByRole("button", { name: "By a passkey" }).focus();
  await page.keyboard.press("Enter");
  await signedIn(page, "Maud Lindqvist");
  await expect(page.getByText("Your password or passkeys were changed")).toBeVisible();
  await page.goto(`${at}/me`);
  await page.getByRole("button", { name: "take it away" }).click();
  await expect(page.getByText("reading room")).toHaveCount(0);
  await page.getByRole("button", { name: "Maud Lindqvist" }).click();
  await page.getByRole("menuitem", { name: "Sign out" }).click();
  await page.getByRole("button", { name: "By a passkey" }).click();
  await expect(page.getByRole("alert")).toContainText("name or password is not right");
});

test("somebody comes by the stand-in issuer of the demo, with the role that it gives", async ({ page }) => {
  const demo = new App("readyferry", true);
  await demo.start("demo", "--with-sign-in", "--trickle", "0");
  try {
    await page.goto(`${demo.base}/flows`);
    await expect(page.getByRole("heading", { name: "Nobody can sign in yet" })).toBeVisible();
    await page.goto(demo.first);
    await typeIn(page, "Name", "owen", "Owen Achebe");
    await typeIn(page, "New password", words, words);
    await signedIn(page, "Owen Achebe");
    const theirs = await (await page.context().browser()!.newContext()).newPage();
    await theirs.goto(`${demo.base}/flows`);
    await theirs.getByRole("link", { name: /127.0.0.1/ }).focus();
    await theirs.keyboard.press("Enter");
    await signedIn(theirs, "rhea.talbot");
    await theirs.goto(`${demo.base}/me`);
    await expect(theirs.getByText("operator in circulation")).toBeVisible();
    await theirs.goto(`${demo.base}/flows`);
    await expect(theirs.getByRole("link", { name: "Hold requests" })).toBeVisible();
    await expect(theirs.getByRole("link", { name: "Interloan asks" })).toHaveCount(0);
    await page.goto(`${demo.base}/people`);
    await expect(page.getByRole("row", { name: /rhea.talbot/ })).toContainText("OpenID");
  } finally {
    await demo.stop();
  }
});
