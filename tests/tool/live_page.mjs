// The engine's page in a headless browser, worked as a person would: node live_page.mjs ADDRESS WEB [PICTURES].
// Prints what it saw as JSON.
import { readFileSync } from "node:fs";
import { openAt } from "./browser.mjs";

const [address, web, pictures] = process.argv.slice(2);
const { browser, page, faults } = await openAt(address, web);
const said = {};
const shot = async (name) => pictures && page.screenshot({ path: `${pictures}/${name}.png` });
const until = (test, ...words) => page.waitForFunction(test, ...words, { timeout: 20000 });
const state_says = (text) => until((t) => document.querySelector("#state").textContent.includes(t), text);
const lamp = (name, text) => until(([n, t]) => document.querySelector(`.switches button[data-name="${n}"]`).textContent.includes(t), [name, text]);
const see = async (view) => { await page.locator("nav a", { hasText: view }).click(); await page.waitForTimeout(900); };

await page.locator("#case").selectOption("veskar");
await page.locator(".diagram .bus").first().waitFor();
await page.locator("#plant").check();
await page.locator("#start").click();
await state_says("running");
await page.locator(".scope .u-wrap").nth(1).waitFor({ timeout: 20000 });
said.scopes = await page.locator(".scope .u-wrap").count();
said.buses = await page.locator(".diagram .bus").count();

// A breaker on the diagram, by the keyboard; told in the events with who did it.
await page.waitForTimeout(500);
const q3 = page.locator('.diagram .operated[aria-label="Q3"]');
await q3.focus();
const clicked = Date.now();
await page.keyboard.press("Enter");
await until(() => document.querySelector('.diagram .operated[aria-label="Q3"]').getAttribute("aria-checked") === "false");
said.click_to_page_ms = Date.now() - clicked;
await q3.focus();
await page.keyboard.press("Enter");

// A fault where the first trial has none: chosen on the diagram, made ready and struck, the relay trips.
await page.locator('.diagram .bus[aria-label="bus berth1"] .touch').click();
said.chosen = await page.locator("#fault-on").inputValue();
await page.locator("#fault-phases").selectOption("AG");
await page.locator("#fault-angle").fill("90");
await page.locator("#fault-lasts").fill("300 ms");
await page.locator(".scope select.mode").nth(1).selectOption("single");
await page.locator('.scope label:has-text("when") input').last().fill("R1.trip");
await page.keyboard.press("Enter");
await page.locator("#strike").click();
await until(() => [...document.querySelectorAll("ol.struck td")].some((cell) => cell.textContent.includes("R1 trip")));
await until(() => [...document.querySelectorAll("ol.struck tr")].some((row) => row.textContent.includes("R1 trip") && row.className === "good" && row.textContent.includes("s")));
said.struck = await page.locator("ol.struck li").first().innerText();
await page.waitForTimeout(700);
await page.locator(".plot .u-over").last().click({ position: { x: 60, y: 40 } });
said.reading = await page.locator(".scope .reading").last().innerText();
// Cursors by the keys: A where the click put it goes to the left, B begins in the middle.
await page.locator(".plot").last().focus();
await page.keyboard.press("ArrowLeft");
await page.keyboard.press("Shift+ArrowRight");
said.by_keys = await page.locator(".scope .reading").last().innerText();
await shot("work");

// Back to before it, another way, and both over each other. States that are kept stand along a slider.
await page.locator("#back-along").waitFor();
said.kept = await page.locator("#kept option").count();
await page.locator("#back-along").focus();
await page.keyboard.press("Home");
said.first_kept = await page.locator("#back-to").inputValue();
const at = parseFloat(await page.locator("ol.struck li .soft").first().innerText());
await page.locator("#back-to").fill((at - 0.1).toFixed(3));
await page.locator("#back").click();
await until(() => document.querySelectorAll("ol.struck li").length === 0);
said.after_back = [at, parseFloat(await page.locator("#state b").textContent())];
await page.locator('.scope button:has-text("more")').first().click();
await page.locator('.scope label:has-text("the way before") input').check();
await page.waitForTimeout(700);
await shot("back");
await page.locator("#tab-events").click();
said.events = await page.locator("#events li").allTextContents();

// Switches and knobs.
await page.locator("#tab-switches").click();
await page.locator('.switches button[data-name="Q2"]').click();
await lamp("Q2", "open");
await page.locator("#tab-knobs").click();
const knob = page.locator('input[data-knob="S1.loss"]').last();
await knob.fill("7");
await knob.press("Enter");
await until(() => (document.querySelector("#trouble") || { textContent: "" }).textContent.includes("S1.loss"));
said.trouble = await page.locator("#trouble").textContent();
await knob.fill("0.1");
await knob.press("Enter");
await until(() => !document.querySelector("#trouble"));
said.differs = await page.locator(".knobs .differs").first().innerText();

// What was done as a trial, and the latest seconds as a record.
const [trial] = await Promise.all([page.waitForEvent("download"), page.locator("#save-trial").click()]);
said.trial = readFileSync(await trial.path(), "utf8");
const [record] = await Promise.all([page.waitForEvent("download"), page.locator("#save-record").click()]);
said.record = readFileSync(await record.path()).length;

await see("Planes");
await shot("planes");
said.phasors = await page.locator(".phasors .numbers").innerText();
await see("Real time");
await shot("timing");
said.why = await page.locator("#why").innerText();
await see("Board");
await page.waitForTimeout(1200);
await shot("board");
said.gauges = await page.locator(".gauge").count();

// Trials: chosen, carried out, told one by one, kept.
await see("Work");
await page.locator("#stop").click();
await state_says("ended");
await see("Trials");
await page.locator('input[aria-label="fault on cable 2 is no business of R1"]').check();
await page.locator("#run-trials").click();
await until(() => document.querySelectorAll("#verdicts tr.head").length === 1);
await until(() => [...document.querySelectorAll("#results td")].some((cell) => cell.textContent.includes("trials: 1 of 1")));
said.verdicts = await page.locator("#verdicts").innerText();
await shot("trials");
said.faults = faults.filter((fault) => !/status of (400|404|409)/.test(fault));
console.log(JSON.stringify(said));
await browser.close();
