// A page whose engine wants a token: node live_token.mjs ADDRESS WEB TOKEN. Prints what it saw as JSON.
import { openAt } from "./browser.mjs";

const [address, web, token] = process.argv.slice(2);
const { browser, page } = await openAt(address, web);
const said = {};
const give = async (text) => {
  await page.locator("#token input").fill(text);
  await page.locator("#token button").click();
};
await page.locator("#token").waitFor();
said.before = await page.locator("#case option").count();
await give("a token that is wrong");
await page.waitForFunction(() => (document.querySelector("#token") || { textContent: "" }).textContent.includes("wrong"));
said.wrong = (await page.locator("#token label").textContent()).split(":")[0].trim();
await give(token);
await page.waitForFunction(() => document.querySelectorAll("#case option").length > 0);
said.cases = await page.locator("#case option").allTextContents();
await page.locator("#start").click();
await page.locator("#trouble").waitFor();
said.refused = (await page.locator("#trouble").textContent()).replace(" seen", "");
console.log(JSON.stringify(said));
await browser.close();
