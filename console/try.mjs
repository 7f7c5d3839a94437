import { chromium } from "playwright-core";
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox","--disable-gpu"] });
const ctx = await browser.newContext({ viewport: { width: 1280, height: 800 } });
let page = await ctx.newPage();
let reloads = 0;
const address = "http://127.0.0.1:7499";
await page.goto(address);
await page.getByLabel("Sign-in name").fill("ines"); await page.getByLabel("Password").fill("lantern-gallery-brass");
await page.getByRole("button", { name: "Sign in" }).click();
await page.waitForTimeout(1500);
async function drop() {
  await page.goto(address + "/shelf/home"); await page.waitForTimeout(1500);
  const cdp = await ctx.newCDPSession(page);
  const data = { items: [], files: ["/tmp/lab/drag/Season"], dragOperationsMask: 1 };
  for (const type of ["dragEnter", "dragOver", "drop"]) await cdp.send("Input.dispatchDragEvent", { type, x: 500, y: 500, data });
}
let t = Date.now();
await drop();
await page.waitForTimeout(2500); await page.screenshot({ path: "/tmp/lab/s1.png" });
await page.waitForTimeout(8000); await page.screenshot({ path: "/tmp/lab/s2.png" });
// closes the page half-way
await page.close({ runBeforeUnload: false });
console.log("closed after", Date.now() - t);
page = await ctx.newPage(); await page.goto(address + "/shelf/home/Season"); await page.waitForTimeout(2500);
await page.screenshot({ path: "/tmp/lab/s3.png" });
t = Date.now(); await drop(); await page.waitForTimeout(3000); await page.screenshot({ path: "/tmp/lab/s4.png" });
for (let i = 0; i < 240; i++) { await page.waitForTimeout(500); const text = await page.innerText("body"); if (/question|already|taken/i.test(text) && i % 20 === 5) { await page.screenshot({ path: "/tmp/lab/s5.png" }); } if (/All .*(up|done|arrived)|5,001 of 5,001|5001/.test(text)) break; }
console.log("second", Date.now() - t); await page.screenshot({ path: "/tmp/lab/s6.png" });
await browser.close();
