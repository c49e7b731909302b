// A page that stays open while its engine ends and another begins: node live_again.mjs ADDRESS WEB.
import { openAt } from "./browser.mjs";

const [address, web] = process.argv.slice(2);
const { browser, page } = await openAt(address, web);
const until = (text) => page.waitForFunction((t) => document.querySelector("#state").textContent.includes(t), text, { timeout: 60000 });
await page.locator(".diagram .bus").first().waitFor();
console.log("there");
await page.waitForFunction(() => /has ended|no answer/.test(document.querySelector("#state").textContent), null, { timeout: 60000 });
console.log("lost: " + (await page.locator("#state").textContent()));
await until("nothing runs");
await page.locator("#plant").check();
await page.locator("#start").click();
await until("running");
console.log("there again");
await browser.close();
