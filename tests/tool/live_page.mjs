// The engine's page in a headless browser: node live_page.mjs ADDRESS WEB [PICTURE]. Prints what it saw as JSON.
import { openAt } from "./browser.mjs";

const [address, web, picture] = process.argv.slice(2);
const { browser, page, faults } = await openAt(address, web);
const said = {};
await page.locator("#switches button").first().waitFor();
await page.locator("#plant").check();
await page.locator("#start").click();
await page.waitForFunction(() => document.querySelector("#state").textContent.includes("running"), null, { timeout: 15000 });
await page.locator("#curves .u-wrap").first().waitFor({ timeout: 15000 });
await page.waitForFunction(() => document.querySelector('#switches button[data-name="Q1"]').textContent.includes("closed"), null, { timeout: 15000 });
await page.waitForTimeout(1200);
await page.locator('#switches button[data-name="bench.order_open"]').focus();
const before = Date.now();
await page.keyboard.press("Enter");
await page.waitForFunction(() => document.querySelector('#switches button[data-name="Q1"]').textContent.includes("open"), null, { timeout: 15000 });
said.click_to_page_ms = Date.now() - before;
await page.waitForTimeout(400);
said.state = await page.locator("#state").textContent();
said.events = await page.locator("#events li").allTextContents();
said.curves = await page.locator("#curves .u-wrap").count();
if (picture) await page.screenshot({ path: picture });
// A knob outside its bounds is told, one inside is taken.
const knob = page.locator("#knobs label", { hasText: "Q1D.late" }).locator("input");
await knob.fill("100");
await knob.press("Enter");
await page.waitForFunction(() => document.querySelector("#trouble").textContent.includes("Q1D.late"));
said.trouble = await page.locator("#trouble").textContent();
await knob.fill("20 ms");
await knob.press("Enter");
await page.waitForFunction(() => document.querySelector("#trouble").textContent === "");
await page.locator("#stop").click();
await page.waitForFunction(() => document.querySelector("#state").textContent.includes("ended"));
said.faults = faults.filter((fault) => !fault.includes("400 (Bad Request)") && !fault.includes("409 (Conflict)"));
console.log(JSON.stringify(said));
await browser.close();
