// A page from a file in headless Chromium, with everything that goes wrong on it collected.
import { createRequire } from "node:module";
import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

/// What it asks for from elsewhere than `address` is among the faults.
export async function openAt(address, web) {
  const { chromium } = createRequire(join(web, "package.json"))("playwright-core");
  const profile = mkdtempSync(join(tmpdir(), "zavrek-page-"));
  const browser = await chromium.launchPersistentContext(profile, {
    executablePath: "/usr/bin/chromium", headless: true, viewport: { width: 1280, height: 800 },
    args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
      "--disable-component-update", "--disable-sync"],
  });
  const page = await browser.newPage();
  const faults = [];
  page.on("pageerror", (error) => faults.push(String(error)));
  page.on("console", (message) => message.type() === "error" && faults.push(message.text()));
  const origin = address.startsWith("file:") ? "file:" : address;
  page.on("request", (request) => request.url().startsWith(origin) || faults.push(`asks for ${request.url()}`));
  await page.goto(address);
  return { browser, page, faults };
}

export const open = (file, web) => openAt(`file://${file}`, web);

/// Drags from one share of a box to another.
export async function drag(page, box, from, to) {
  const at = ([x, y]) => [box.x + x * box.width, box.y + y * box.height];
  await page.mouse.move(...at(from));
  await page.mouse.down();
  await page.mouse.move(...at(to), { steps: 8 });
  await page.mouse.up();
  await page.waitForTimeout(200);
}
