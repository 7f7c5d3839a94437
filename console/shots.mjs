// Remakes docs/screenshots from the demo: node console/shots.mjs ADDRESS PASSWORD DIRECTORY [NAME…]
import { chromium } from "playwright-core";

const [address, password, to, ...only] = process.argv.slice(2);
const browser = await chromium.launch({
  executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
});

const wide = { width: 1280, height: 800 };
const phone = { width: 390, height: 844 };
const row = (page, name) => page.locator(`[data-name="${name}"]`);

const pictures = {
  shelves: { size: wide, path: "/" },
  "shelves-phone": { size: phone, path: "/" },
  "folder-now": {
    size: wide,
    path: "/shelf/Collections",
    act: async (page) => {
      await row(page, "insurance-valuation.pdf").click();
      await page.locator("aside canvas").waitFor();
      await page.waitForTimeout(600);
    },
  },
  "folder-then": {
    size: wide,
    path: "/desk/now",
    act: async (page) => {
      await page.getByRole("button", { name: "Look and roll back" }).click();
      await row(page, "Photographs").dblclick();
      await row(page, "Season").dblclick();
      await page.getByRole("button", { name: /^Roll back in/ }).waitFor();
    },
  },
  desk: { size: wide, path: "/desk/now", act: (page) => page.getByText("today").waitFor() },
  space: {
    size: wide,
    path: "/desk/space",
    act: async (page) => {
      await page.locator("[aria-label='What the shelves hold'] button").first().click();
      await page.locator("[aria-label='What Collections holds'] button").first().waitFor();
    },
  },
  "folder-dark": { size: wide, path: "/shelf/Exhibition%202027/Texts", dark: true, act: (page) => row(page, "signals.md").click() },
  devices: { size: wide, path: "/devices", act: (page) => page.getByText("Download yattic").waitFor() },
  access: {
    size: wide,
    path: "/shelf/Exhibition%202027",
    act: async (page) => {
      await row(page, "Texts").click();
      await page.getByRole("button", { name: "Give or take access" }).click();
      await page.getByText("Who may, and why").waitFor();
      await page.getByRole("dialog").getByText("owns the shelf").waitFor();
    },
  },
  people: { size: wide, path: "/desk/people", act: (page) => page.getByText("Tomas Field").waitFor() },
  rules: {
    size: wide,
    path: "/desk/rules",
    act: async (page) => {
      await page.getByRole("button", { name: "Second factor demanded" }).click();
      await page.getByLabel("Value").fill("2026-12-01");
      await page.getByText("From 2026-12-01").last().waitFor();
    },
  },
  palette: {
    size: wide,
    path: "/shelf/Collections",
    act: async (page) => {
      await row(page, "inventory-2026.csv").waitFor();
      await page.keyboard.press("Control+k");
      await page.locator("[cmdk-input]").waitFor();
      await page.keyboard.type("logbook");
      await page.getByText("logbook-1923-p046.png").waitFor();
    },
  },
  editor: {
    size: wide,
    path: "/shelf/Exhibition%202027/Texts",
    act: async (page) => {
      await row(page, "signals.md").click();
      await page.getByRole("button", { name: "Edit", exact: true }).click();
      await page.locator(".cm-content").waitFor();
      await page.waitForTimeout(500);
    },
  },
  uploads: {
    size: wide,
    path: "/shelf/home",
    act: async (page) => {
      await page.locator("[data-testid=list]").waitFor();
      const files = Array.from({ length: 14 }, (_, i) => ({
        name: `survey-${String(i + 1).padStart(3, "0")}.tif`,
        mimeType: "image/tiff",
        buffer: Buffer.alloc(3_000_000 + i * 90_000, i),
      }));
      await page.context().setOffline(false);
      const line = await page.context().newCDPSession(page);
      await line.send("Network.emulateNetworkConditions", { offline: false, latency: 40, downloadThroughput: -1, uploadThroughput: 6_000_000 });
      await page.getByTestId("picker").setInputFiles(files);
      await page.waitForTimeout(3500);
    },
  },
  "given-out": { size: wide, path: "/desk/outside", act: (page) => page.getByText("caption-texts.md").first().waitFor() },
  "stranger-phone": { size: phone, path: "/", stranger: "Logbook, page 14" },
  intake: {
    size: wide,
    path: "/give/school-drawings",
    out: true,
    act: async (page) => {
      await page.getByLabel("Your name").fill("Reed Point School");
      await page.getByLabel("Your mail address").fill("office@reed-point-school.example");
      const files = [8, 9, 11].map((age, i) => ({
        name: `age ${age} drawing ${i + 1}.jpg`,
        mimeType: "image/jpeg",
        buffer: Buffer.alloc(1_400_000 + i * 310_000, i),
      }));
      await page.locator("[data-give] input[type=file]").first().setInputFiles(files);
      await page.getByText("3 files").waitFor();
    },
  },
};

for (const [name, shot] of Object.entries(pictures)) {
  if (only.length > 0 && !only.includes(name)) continue;
  const context = await browser.newContext({ viewport: shot.size, colorScheme: shot.dark ? "dark" : "light" });
  const page = await context.newPage();
  page.on("pageerror", (e) => console.error(name, "page error:", e.message));
  page.on("console", (m) => m.type() === "error" && console.error(name, "console:", m.text()));
  if (!shot.out) {
    await page.goto(address);
    await page.getByLabel("Sign-in name").fill("ines");
    await page.getByLabel("Password", { exact: true }).fill(password);
    await page.getByRole("button", { name: "Sign in" }).click();
    await page.getByRole("button", { name: "account of" }).waitFor();
  }
  let path = shot.path;
  if (shot.stranger) {
    // The address of a link, as its maker sees it; then without the sign-in.
    const given = await page.request.get(`${address}/api/v1/given?kind=link&state=open`);
    path = new URL((await given.json()).given.find((g) => g.name.startsWith(shot.stranger)).address).pathname;
    await context.clearCookies();
  }
  await page.goto(address + path);
  await page.waitForLoadState("networkidle");
  await shot.act?.(page);
  await page.waitForTimeout(300);
  await page.screenshot({ path: `${to}/${name}.png` });
  await context.close();
  console.log(name);
}
await browser.close();
