// Pictures of the engine's page: node live.mjs ADDRESS WEB FOLDER.
import { openAt } from "../../tests/tool/browser.mjs";

const [address, web, folder] = process.argv.slice(2);
const { browser, page } = await openAt(address, web);
const start = async (name, here = true) => {
  await page.locator("#case").selectOption(name);
  await page.waitForTimeout(600);
  await page.locator("#plant").setChecked(here);
  await page.locator("#start").click();
  await page.waitForTimeout(2500);
};
await page.locator(".diagram .bus").first().waitFor();
await start("veskar");
await page.locator('.diagram .bus[aria-label="bus berth1"] .touch').click();
await page.locator("#fault-phases").selectOption("AG");
await page.locator("#fault-resistance").fill("2");
await page.locator("#fault-angle").fill("90");
await page.locator("#fault-lasts").fill("300 ms");
for (const k of [0, 1]) {
  await page.locator(".scope select.mode").nth(k).selectOption("single");
  await page.locator(`.scope >> nth=${k} >> label:has-text("when") input`).fill("R1.trip");
  await page.keyboard.press("Enter");
  await page.locator(`.scope >> nth=${k} >> select[aria-label="time base"]`).selectOption("0.5");
  await page.locator(`.scope >> nth=${k} >> input[type="range"]`).fill("0.5");
}
for (const k of [0, 1, 2]) await page.locator(".scope >> nth=1 >> .chip").first().click();
for (const name of ["CT1.ia", "CT1.ib", "CT1.ic"]) {
  await page.locator('.scope >> nth=1 >> input[aria-label="add a signal or a lane"]').fill(name);
  await page.keyboard.press("Enter");
}
await page.locator("#strike").click();
await page.waitForTimeout(3000);
await page.screenshot({ path: `${folder}/live.png` });
await page.locator("#stop").click();
await page.waitForTimeout(800);
await start("line");
await page.locator("nav a", { hasText: "Planes" }).click();
await page.waitForTimeout(500);
for (const select of await page.locator('select[aria-label="how much"]').all()) await select.selectOption("2");
await page.evaluate(() => fetch("/api/v1/run/strike", { method: "POST", headers: { "Content-Type": "application/json" },
  body: JSON.stringify({ on: "infeed", at: "50 %", phases: "AG", resistance: "2 ohm", lasts: "100 ms" }) }));
await page.waitForTimeout(1300);
await page.screenshot({ path: `${folder}/live-planes.png` });
await page.locator("#stop").click();
await page.waitForTimeout(800);
await start("yard", false);
await page.locator("nav a", { hasText: "Board" }).click();
await page.waitForTimeout(3000);
await page.evaluate(() => fetch("/api/v1/run/ask", { method: "POST", headers: { "Content-Type": "application/json" },
  body: JSON.stringify({ what: "Q0", value: 0 }) }));
await page.waitForTimeout(6500);
await page.screenshot({ path: `${folder}/board.png` });
await browser.close();
