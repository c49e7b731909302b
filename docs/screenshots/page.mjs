// Photographs a page: node page.mjs FILE[#PLACE] PICTURE
import { mkdtempSync } from "node:fs";
import { createRequire } from "node:module";
import { tmpdir } from "node:os";
import { join } from "node:path";

const { chromium } = createRequire(join(process.cwd(), "web", "package.json"))("playwright-core");
const browser = await chromium.launchPersistentContext(mkdtempSync(join(tmpdir(), "zavrek-page-")), {
  executablePath: "/usr/bin/chromium", headless: true, viewport: { width: 1280, height: 900 },
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync"],
});
const page = await browser.newPage();
await page.goto(`file://${process.argv[2]}`);
await page.locator(".u-wrap, .figure svg, .wires").first().waitFor();
await page.waitForTimeout(500);
await page.screenshot({ path: process.argv[3] });
await browser.close();
