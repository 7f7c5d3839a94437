// Makes a picture of a computer's own page: node console/shots-computer.mjs FILE-THAT-OPENS-IT PICTURE
import { chromium } from "playwright-core";

const [file, picture] = process.argv.slice(2);
const browser = await chromium.launch({
  executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"],
});
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
page.on("pageerror", (e) => console.error("page error:", e.message));
await page.goto(`file://${file}`);
await page.getByText("Kept twice").waitFor();
await page.getByRole("progressbar").first().waitFor();
await page.screenshot({ path: picture });
await browser.close();
