import { chromium } from "playwright-core";
const [file, out, theme, width, height, ...acts] = process.argv.slice(2);
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu"] });
const context = await browser.newContext({ viewport: { width: +width, height: +height }, colorScheme: theme });
const page = await context.newPage();
page.on("console", (m) => console.log("console:", m.text()));
page.on("requestfailed", (r) => console.log("failed:", r.url(), r.failure()?.errorText));
await page.goto("file://" + file);
await page.waitForURL(/127\.0\.0\.1:\d+\/$/, { timeout: 8000 }).catch((e) => console.log(String(e), page.url()));
await page.waitForTimeout(1200);
let n = 0;
for (const act of acts) {
  if (act === "shot") { await page.screenshot({ path: `${out}-${n++}.png` }); continue; }
  if (act === "full") { await page.screenshot({ path: `${out}-${n++}.png`, fullPage: true }); continue; }
  if (act.startsWith("wait:")) { await page.waitForTimeout(+act.slice(5)); continue; }
  if (act.startsWith("fill:")) { const [, l, v] = act.split(":"); await page.getByLabel(l).fill(v); continue; }
  if (act.startsWith("text:")) { await page.getByText(act.slice(5), { exact: true }).first().click(); await page.waitForTimeout(400); continue; }
  await page.getByRole(act.split(":")[0], { name: act.split(":").slice(1).join(":") }).first().click();
  await page.waitForTimeout(500);
}
await browser.close();
