"use strict";
// Watches and works the engine's run by its HTTP interface alone.
const $ = (id) => document.getElementById(id);
const colours = ["#b3412e", "#2f7d5b", "#2b5fa8", "#8a5a12", "#7a3f98", "#3a7f8c"];
const kept = new Map(); // signal: { time, least, greatest }
let described = null, positions = {}, plots = [], held = false, streaming = null, lastTime = -1;

function headers() {
  const token = sessionStorage.getItem("token");
  return token ? { Authorization: "Bearer " + token } : {};
}
async function call(path, body) {
  const how = body === undefined ? { headers: headers() }
    : { method: "POST", headers: { ...headers(), "Content-Type": "application/json" }, body: JSON.stringify(body) };
  const response = await fetch(path, how);
  const answer = await response.json();
  if (response.status === 401) {
    const token = prompt("token of this engine");
    if (token) { sessionStorage.setItem("token", token); return call(path, body); }
  }
  if (!response.ok) throw new Error((answer.error.field ? answer.error.field + ": " : "") + answer.error.text);
  return answer;
}
function trouble(error) { $("trouble").textContent = error ? error.message || error : ""; }
const act = (work) => async () => { try { trouble(""); await work(); } catch (error) { trouble(error); } };

async function load() {
  described = await call("/api/v1/cases/" + encodeURIComponent($("case").value));
  $("title").textContent = described.title || described.name;
  $("known").replaceChildren(...described.signals.map((s) => new Option(s.name)));
  const usual = described.signals.filter((s) => s.unit === "V").slice(0, 3).concat(described.signals.filter((s) => s.unit === "A").slice(0, 3));
  $("signals").value = usual.map((s) => s.name).join(" ");
  $("switches").replaceChildren(...described.asks.filter((a) => a.operated).map((ask) => {
    const button = document.createElement("button");
    button.textContent = ask.name;
    button.dataset.name = ask.name;
    button.onclick = act(async () => {
      const answer = await call("/api/v1/run/ask", { what: ask.name, value: positions[ask.name] ? 0 : 1 });
      if (answer.outcome !== "done") trouble(ask.name + ": " + answer.text);
      await look();
    });
    return button;
  }));
  $("knobs").replaceChildren(...described.asks.filter((a) => !a.operated).map((ask) => {
    const label = document.createElement("label"), input = document.createElement("input");
    label.append(ask.name, input);
    input.placeholder = ask.unit || "number";
    input.onchange = act(async () => {
      const number = Number(input.value);
      await call("/api/v1/run/ask", { what: ask.name, value: Number.isNaN(number) ? input.value : number });
    });
    return label;
  }));
  kept.clear();
  watch();
}

async function look() {
  const names = described.points.filter((p) => described.asks.some((a) => a.operated && a.name === p));
  if (!names.length) return;
  const answer = await call("/api/v1/run/values?names=" + encodeURIComponent(names.join(",")));
  positions = answer.values;
  for (const button of $("switches").children) {
    const on = positions[button.dataset.name];
    button.className = on === undefined ? "" : on ? "on" : "off";
    button.textContent = button.dataset.name + (on === undefined ? "" : on ? "  closed" : "  open");
    button.setAttribute("aria-pressed", String(!!on));
  }
}

function chosen() { return $("signals").value.split(/[\s,]+/).filter(Boolean); }

function keep(traces) {
  traces.curves.forEach((curve) => {
    const own = kept.get(curve.name) || { unit: curve.unit, time: [], least: [], greatest: [] };
    kept.set(curve.name, own);
    own.time.push(...traces.time_s); own.least.push(...curve.least); own.greatest.push(...curve.greatest);
    const from = own.time.findIndex((t) => t > traces.time_s[traces.time_s.length - 1] - 6);
    if (from > 0) for (const list of [own.time, own.least, own.greatest]) list.splice(0, from);
  });
}

function draw() {
  if (held) return;
  const units = [...new Set(chosen().map((n) => kept.get(n) && kept.get(n).unit).filter(Boolean))];
  const key = units.join() + chosen().join();
  if (plots.key !== key) {
    plots.forEach((p) => p.plot.destroy());
    plots = units.map((unit) => {
      const names = chosen().filter((n) => kept.get(n) && kept.get(n).unit === unit);
      const series = [{ label: "s" }], bands = [];
      names.forEach((name, k) => {
        const stroke = colours[k % colours.length];
        series.push({ label: name, stroke, width: 1.2 }, { stroke, width: 1.2, label: "" });
        bands.push({ series: [2 * k + 1, 2 * k + 2], fill: stroke + "55", dir: -1 });
      });
      const ink = getComputedStyle(document.body).color;
      const axis = { stroke: ink, grid: { stroke: "#8884" }, ticks: { stroke: "#8886" } };
      const plot = new uPlot({ width: $("curves").clientWidth, height: 250, series, bands, legend: { show: false },
        scales: { x: { time: false } }, axes: [{ ...axis }, { ...axis, label: unit, size: 76, values: (_, ticks) => ticks.map((t) => String(Number(t.toPrecision(4)))) }], pxAlign: 0 }, [[]], $("curves"));
      return { plot, names, unit };
    });
    plots.key = key;
    const legends = document.querySelectorAll(".names"); legends.forEach((l) => l.remove());
    plots.forEach((p) => {
      const line = document.createElement("div"); line.className = "names row";
      p.names.forEach((name, k) => { const span = document.createElement("span"); span.textContent = name; span.style.color = colours[k % colours.length]; line.append(span); });
      p.plot.root.before(line);
    });
  }
  const span = Number($("window").value);
  for (const { plot, names } of plots) {
    const first = kept.get(names[0]);
    if (!first || !first.time.length) continue;
    const last = first.time[first.time.length - 1], from = first.time.findIndex((t) => t > last - span);
    const data = [first.time.slice(from)];
    for (const name of names) { const own = kept.get(name); data.push(own.greatest.slice(from), own.least.slice(from)); }
    plot.setData(data);
  }
}

function take(kind, data) {
  if (kind === "status") {
    if (data.time_s < lastTime) kept.clear();
    lastTime = data.time_s || 0;
    $("state").textContent = data.case ? `${data.case}: ${data.state}, ${lastTime.toFixed(3)} s${data.failure ? ", " + data.failure : ""}` : "nothing runs";
  } else if (kind === "events") {
    for (const one of data) {
      const item = document.createElement("li");
      item.textContent = one.time_s.toFixed(4) + " s  " + one.text;
      $("events").prepend(item);
    }
    while ($("events").children.length > 200) $("events").lastChild.remove();
    look().catch(() => {});
  } else if (kind === "traces") {
    keep(data); draw();
  } else if (kind === "error") trouble(data.text);
}

// The stream is read by fetch: it carries the token, and begins again when the engine does.
async function watch() {
  if (streaming) streaming.abort();
  const mine = streaming = new AbortController();
  while (streaming === mine) {
    try {
      const response = await fetch("/api/v1/run/stream?signals=" + encodeURIComponent(chosen().join(",")), { headers: headers(), signal: mine.signal });
      if (!response.ok) throw new Error("the engine refuses to be watched");
      const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
      let text = "";
      for (;;) {
        const { value, done } = await reader.read();
        if (done) break;
        text += value;
        for (let end; (end = text.indexOf("\n\n")) >= 0; text = text.slice(end + 2)) {
          const [kind, data] = text.slice(0, end).split("\n");
          take(kind.slice(7), JSON.parse(data.slice(6)));
        }
      }
    } catch (error) {
      if (mine.signal.aborted) return;
      $("state").textContent = "no answer from the engine";
    }
    await new Promise((r) => setTimeout(r, 700));
  }
}

$("start").onclick = act(async () => {
  const body = {};
  if ($("for").value) body.for = $("for").value;
  if ($("plant").checked) body.place = "plant";
  $("events").replaceChildren(); kept.clear();
  await call("/api/v1/cases/" + encodeURIComponent($("case").value) + "/start", body);
  setTimeout(() => look().catch(() => {}), 1500);
});
$("stop").onclick = act(async () => { await call("/api/v1/run/stop", {}); });
$("case").onchange = act(load);
$("signals").onchange = act(async () => { kept.clear(); watch(); });
$("window").onchange = draw;
$("hold").onclick = () => { held = !held; $("hold").setAttribute("aria-pressed", String(held)); $("hold").textContent = held ? "go on" : "hold"; };
window.onresize = () => { plots.key = ""; draw(); };
act(async () => {
  const engine = await call("/api/v1/engine");
  $("case").replaceChildren(...engine.cases.map((c) => new Option(c.name)));
  if (engine.run.case) $("case").value = engine.run.case;
  await load();
  if (engine.run.state === "running") await look();
})();
