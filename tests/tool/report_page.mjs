// Drives a report in headless Chromium: node report_page.mjs REPORT WEB_FOLDER
import assert from "node:assert";
import { drag, open } from "./browser.mjs";

const { browser, page, faults } = await open(...process.argv.slice(2));

const rows = await page.locator("table.summary tbody tr").count();
assert.equal(rows, 4, "one summary row per trial");
await page.locator("#trial1 .u-wrap").first().waitFor();
const charts = page.locator("#trial1 .uplot");
assert.ok((await charts.count()) >= 5, "a chart per group of signals");
assert.equal(await page.locator("#trial1 canvas.lanes").count(), 1, "lanes of two-state signals");

const spans = () => page.evaluate(() => window.zavrekCharts["1"].map((u) => [u.scales.x.min, u.scales.x.max]));
const whole = await spans();
assert.ok(whole[0][0] < 0 && whole[0][1] > 1, "the whole record is shown at first, and its zero is the inception");
const lanes = await page.evaluate(() => {
  const canvas = document.querySelector("#trial1 canvas.lanes");
  const trip = trials[0].binaries.filter((b) => b.changes.length > 0)[0];
  const u = window.zavrekCharts["1"][0];
  const x = Math.round(u.valToPos(trip.changes[0], "x") + u.bbox.left / devicePixelRatio);
  const at = (k) => canvas.getContext("2d").getImageData(k * devicePixelRatio, 8 * devicePixelRatio, 1, 1).data[3];
  return { before: at(x - 3), behind: at(x + 3) };
});
assert.ok((lanes.before > 0) !== (lanes.behind > 0), `a lane changes where its chart says so, ahead of any zoom: ${JSON.stringify(lanes)}`);

await page.locator("#trial1 .u-over").first().scrollIntoViewIfNeeded();
const box = await page.locator("#trial1 .u-over").first().boundingBox();
await drag(page, box, [0.1, 0.3], [0.2, 0.3]);
const zoomed = await spans();
for (const [min, max] of zoomed) {
  assert.ok(Math.abs(max - min - 0.1 * (whole[0][1] - whole[0][0])) < 0.02, `zoomed to ${min} ... ${max}`);
  assert.ok(Math.abs(min - zoomed[0][0]) < 1e-9, "all charts of a trial zoom together");
}
await page.mouse.dblclick(box.x + box.width * 0.5, box.y + 60);
await page.waitForTimeout(200);
for (const [min, max] of await spans()) assert.ok(Math.abs(max - whole[0][1]) < 1e-6 && min === whole[0][0], "double-click shows all again");

await page.locator('a[href="#trial3"]').click();
await page.locator("#trial3 .u-wrap").first().waitFor();
assert.deepEqual(faults, []);
console.log(`report: ${await charts.count()} charts in trial 1, zoom ${zoomed[0].map((t) => t.toFixed(3)).join(" ... ")} s`);
await browser.close();
