// The programme of a case, begun on the page: node live_programme.mjs ADDRESS WEB CASE. Prints what it saw as JSON.
import { openAt } from "./browser.mjs";

const [address, web, name] = process.argv.slice(2);
const { browser, page, faults } = await openAt(address, web);
const said = {};
await page.locator("#case").selectOption(name);
await page.locator("nav a", { hasText: "Trials" }).click();
await page.locator("#results tr").nth(1).waitFor({ timeout: 20000 });
const before = await page.locator("#results tr").count();
await page.locator("#run-programme").click();
await page.waitForFunction((n) => document.querySelectorAll("#results tr").length > n, before, { timeout: 60000 });
said.verdicts = await page.locator("#verdicts tr.head").count();
said.first = await page.locator("#verdicts tr.head").first().innerText();
said.kept = await page.locator("#results tr").nth(1).innerText();
said.faults = faults;
console.log(JSON.stringify(said));
await browser.close();
