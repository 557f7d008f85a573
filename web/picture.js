// Takes the picture of the page for docs/: node picture.js URL FILE.png
import { chromium } from "playwright-core";

const [url, file] = process.argv.slice(2);
const browser = await chromium.launch({ executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu"] });
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
await page.goto(url);
await page.fill("#name", "Reed Warbler");
await page.click("text=Steer a tug");
await page.waitForTimeout(1000);
await page.keyboard.press("n");
await page.keyboard.press("c");
await page.fill("#delay", "60");
await page.fill("#jitter", "20");
await page.focus("#sea");
await page.keyboard.down("ArrowUp");
await page.waitForTimeout(8000);
await page.keyboard.down("ArrowRight");
await page.waitForTimeout(900);
await page.keyboard.up("ArrowRight");
await page.evaluate(() => document.querySelector("#words").focus());
await page.keyboard.type("Ahoy, harbour: crate adrift east of the pier head");
await page.keyboard.press("Enter");
const box = await page.locator("#sheet").boundingBox();
await page.mouse.move(box.x + 60, box.y + 160);
await page.mouse.down();
for (let i = 0; i < 40; ++i) {
  await page.mouse.move(box.x + 60 + i * 5, box.y + 160 + Math.sin(i / 5) * 60);
  await page.waitForTimeout(30);
}
await page.mouse.up();
await page.focus("#sea");
await page.keyboard.down("ArrowUp");
await page.waitForTimeout(6000);
await page.screenshot({ path: file });
await browser.close();
