// Drives the pages of a programme and of element tests: node programme_page.mjs PROGRAMME INJECTION WEB_FOLDER
import assert from "node:assert";
import { drag, open } from "./browser.mjs";

const [programme, injection, web] = process.argv.slice(2);
{
  const { browser, page, faults } = await open(programme, web);
  await page.locator(".scatters .u-wrap").first().waitFor();
  const spans = () => page.evaluate(() => window.zavrekCharts.programme.map((u) => ["x", "y"].map((k) => [u.scales[k].min, u.scales[k].max])));
  const whole = await spans();
  assert.ok(whole.length >= 1, "a chart per expectation");
  const counted = await page.evaluate(() => window.zavrekCharts.margins.data.slice(1).flat().reduce((sum, n) => sum + (n || 0), 0));
  assert.ok(counted >= 120, `the histogram holds every verdict with a tolerance: ${counted}`);

  // The pointer at a point names its trial.
  const box = await page.locator(".scatters .u-over").first().boundingBox();
  const [x, y] = await page.evaluate(() => {
    const u = window.zavrekCharts.programme[0];
    const k = u.data[1].findIndex((v) => v != null);
    return [u.valToPos(u.data[0][k], "x"), u.valToPos(u.data[1][k], "y")];
  });
  await page.mouse.move(box.x + x + 1, box.y + y + 1);
  await page.waitForTimeout(200);
  const told = await page.locator(".told").first().textContent();
  assert.match(told, /^trial \d+: .+ s$/, "the point tells its trial");

  await drag(page, box, [0.2, 0.2], [0.7, 0.8]);
  const zoomed = (await spans())[0];
  for (const k of [0, 1]) {
    const share = (zoomed[k][1] - zoomed[k][0]) / (whole[0][k][1] - whole[0][k][0]);
    assert.ok(Math.abs(share - [0.5, 0.6][k]) < 0.05, `zoomed to ${share} of axis ${k}`);
  }
  await page.mouse.dblclick(box.x + box.width / 2, box.y + box.height / 2);
  await page.waitForTimeout(200);
  assert.deepEqual((await spans())[0], whole[0], "double-click shows all again");
  assert.deepEqual(faults, []);
  console.log(`programme: ${whole.length} charts, ${counted} margins, ${told}`);
  await browser.close();
}
{
  const { browser, page, faults } = await open(injection, web);
  const view = () => page.locator(".figure svg").evaluate((svg) => svg.getAttribute("viewBox").split(" ").map(Number));
  const whole = await view();
  await page.locator(".figure svg").scrollIntoViewIfNeeded();
  const box = await page.locator(".figure svg").boundingBox();
  await drag(page, box, [0.25, 0.25], [0.5, 0.5]);
  const near = await view();
  assert.ok(Math.abs(near[2] / whole[2] - 0.25) < 0.02, `a quarter of the width is shown: ${near}`);
  assert.ok(Math.abs(near[0] - whole[0] - 0.25 * whole[2]) < 0.02 * whole[2], "and the part that was framed");
  await page.mouse.dblclick(box.x + box.width / 2, box.y + box.height / 2);
  assert.deepEqual(await view(), whole, "double-click shows all again");
  assert.deepEqual(faults, []);
  console.log(`element tests: figure zoomed to ${near.map((v) => v.toFixed(0)).join(" ")}`);
  await browser.close();
}
