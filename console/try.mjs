import { chromium } from "playwright-core";
const [address, name, password, ...wanted] = process.argv.slice(2);
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu"] });
for (const want of wanted) {
  const [file, size, path, ...acts] = want.split("|");
  const viewport = size.startsWith("p") ? { width: 390, height: 844 } : { width: 1280, height: 800 };
  const context = await browser.newContext({ viewport, colorScheme: size.endsWith("d") ? "dark" : "light" });
  const page = await context.newPage();
  page.on("pageerror", (e) => console.error(file, "page error:", e.message));
  if (name !== "-") {
    await page.goto(address);
    await page.getByLabel("Sign-in name").fill(name);
    await page.getByLabel("Password").fill(password);
    await page.getByRole("button", { name: "Sign in" }).click();
    await page.getByRole("button", { name: "account of" }).waitFor();
  }
  await page.goto(address + path);
  await page.waitForTimeout(600);
  for (const act of acts) {
    const [verb, a, b] = act.split("=");
    try {
      if (verb === "press") await page.getByRole("button", { name: a }).last().click({ timeout: 5000 });
      if (verb === "row") await page.locator(`[data-name="${a}"]`).click({ timeout: 5000 });
      if (verb === "fill") await page.getByLabel(a).last().fill(b);
      if (verb === "check") await page.getByLabel(a).last().check();
      if (verb === "scroll") await page.getByRole("dialog").locator("form").evaluate((e) => (e.scrollTop = 9999));
      if (verb === "bottom") await page.locator("main").evaluate((e) => (e.scrollTop = 99999));
    } catch (e) { console.error(file, act, e.message.split("\n")[0]); }
    await page.waitForTimeout(500);
  }
  await page.screenshot({ path: `/tmp/lab/${file}.png` });
  await context.close();
}
await browser.close();
