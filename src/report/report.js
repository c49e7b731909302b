// Draws the waveforms of each trial: one chart per group of signals, lanes for two-state signals, and
// marks at the fault's inception and at the events. All charts of a trial share cursor and zoom.
"use strict";

const colours = ["#b3412e", "#2f7d5b", "#2b5fa8", "#8a6d1d", "#6f4a8e", "#5b6770"];
const width = 1110;
const axisWidth = 70;

function unpack(signal) {
  const bytes = Uint8Array.from(atob(signal.data), (c) => c.charCodeAt(0));
  const units = new Int16Array(bytes.buffer);
  return Float64Array.from(units, (u) => u * signal.scale);
}

function marksOf(trial) {
  const marks = trial.events.filter((e) => !e.text.endsWith(" off"));
  return [{ time: 0, text: trial.zero, strong: true }, ...marks];
}

function drawMarks(u, marks, labelled) {
  const { ctx } = u;
  const { left, top, width: w, height: h } = u.bbox;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.beginPath();
  ctx.rect(left, top - 14 * ratio, w, h + 14 * ratio);
  ctx.clip();
  ctx.textAlign = "left";
  ctx.textBaseline = "alphabetic";
  ctx.font = `${11 * ratio}px "DejaVu Sans", Verdana, sans-serif`;
  let free = [-1e9, -1e9, -1e9];
  for (const mark of marks) {
    const x = u.valToPos(mark.time, "x", true);
    if (x < left || x > left + w) continue;
    ctx.strokeStyle = mark.strong ? "#b8860b" : "#9aa3a8";
    ctx.setLineDash(mark.strong ? [] : [4 * ratio, 3 * ratio]);
    ctx.beginPath();
    ctx.moveTo(x, top);
    ctx.lineTo(x, top + h);
    ctx.stroke();
    if (!labelled) continue;
    // Labels of events close in time go to the next row down.
    const row = free.findIndex((edge) => x > edge);
    if (row < 0) continue;
    ctx.fillStyle = "#5b6770";
    ctx.fillText(mark.text, x + 3 * ratio, top + (11 + 13 * row) * ratio);
    free[row] = x + ctx.measureText(mark.text).width + 8 * ratio;
  }
  ctx.restore();
}

/// A little air around the curves, and room above them for labels.
function headroom(min, max, labelled) {
  const span = max - min || 1;
  return [min - 0.06 * span, max + (labelled ? 0.4 : 0.06) * span];
}

/// `drawn` is called with the chart whenever it is: laid out for the first time, zoomed.
function chart(host, trial, panel, time, sync, labelled, drawn) {
  const data = [time, ...panel.signals.map(unpack)];
  const peak = Math.max(...data.slice(1).map((d) => d.reduce((m, v) => Math.max(m, Math.abs(v)), 0)));
  const kilo = panel.unit !== "" && peak >= 1000; // plain numbers as they are
  if (kilo) for (const d of data.slice(1)) for (let k = 0; k < d.length; ++k) d[k] /= 1000;
  const unit = (kilo ? "k" : "") + panel.unit;
  const title = document.createElement("p");
  title.className = "wave-title";
  title.textContent = unit ? `${panel.title} (${unit})` : panel.title;
  const box = document.createElement("div");
  box.className = "wave";
  host.append(title, box);
  const series = panel.signals.map((s, k) => ({
    label: s.name, stroke: colours[k % colours.length], width: 1.2, points: { show: false },
    value: (u, v) => (v == null ? "" : String(Number(v.toPrecision(6)))),
  }));
  const marks = marksOf(trial);
  return new uPlot({
    width, height: 190, cursor: { sync: { key: sync.key, scales: ["x", null] }, drag: { x: true, y: false } },
    scales: { x: { time: false }, y: { range: (u, min, max) => headroom(min, max, labelled) } },
    axes: [{ size: 28, grid: { stroke: "#e3e6e8" } }, { size: axisWidth, grid: { stroke: "#e3e6e8" } }],
    series: [{ label: `s from ${trial.zero}`, value: (u, v) => (v == null ? "" : v.toFixed(5)) }, ...series],
    hooks: { draw: [(u) => drawMarks(u, marks, labelled), (u) => drawn(u)] },
  }, data, box);
}

/// What has a lane: two-state signals that change, and state machines.
function rowsOf(trial) {
  return [...trial.binaries.filter((b) => b.changes.length > 0), ...trial.states];
}

/// Two-state signals as lanes below the charts, following their zoom.
function lanes(host, trial) {
  const rows = rowsOf(trial);
  if (rows.length === 0) return () => {};
  const title = document.createElement("p");
  title.className = "wave-title";
  title.textContent = "states";
  const canvas = document.createElement("canvas");
  canvas.className = "lanes";
  const height = 20 * rows.length + 6;
  canvas.width = width * devicePixelRatio;
  canvas.height = height * devicePixelRatio;
  canvas.style.width = `${width}px`;
  canvas.style.height = `${height}px`;
  host.append(title, canvas);
  const ctx = canvas.getContext("2d");
  return (from, to, left, right) => {
    const x = (t) => left + ((t - from) / (to - from)) * (right - left);
    ctx.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
    ctx.clearRect(0, 0, width, height);
    ctx.font = '11px "DejaVu Sans", Verdana, sans-serif';
    rows.forEach((row, k) => {
      const y = 20 * k + 4;
      ctx.fillStyle = "#5b6770";
      ctx.textAlign = "right";
      ctx.fillText(row.name, left - 6, y + 11);
      if (row.from) {
        ctx.textAlign = "left";
        row.from.forEach(([since, name], n) => {
          const until = n + 1 < row.from.length ? row.from[n + 1][0] : Infinity;
          const [a, b] = [Math.max(since, from), Math.min(until, to)];
          if (b <= a) return;
          ctx.fillStyle = n % 2 ? "#d5dee8" : "#e9eef2";
          ctx.fillRect(x(a), y, x(b) - x(a), 14);
          ctx.fillStyle = "#22303a";
          ctx.save();
          ctx.beginPath();
          ctx.rect(x(a), y, x(b) - x(a), 14);
          ctx.clip();
          ctx.fillText(name, x(a) + 3, y + 11);
          ctx.restore();
        });
        return;
      }
      let state = row.first;
      let since = from;
      for (const t of [...row.changes, Infinity]) {
        const until = Math.min(Math.max(t, from), to);
        ctx.fillStyle = state ? colours[k % colours.length] : "#e3e6e8";
        if (until > since) ctx.fillRect(x(since), y + (state ? 0 : 11), x(until) - x(since), state ? 14 : 3);
        since = Math.max(since, until);
        state = !state;
      }
    });
  };
}

window.zavrekCharts = {}; // by number of the trial, for scripts that drive the page

function show(host, trial) {
  const time = Float64Array.from({ length: trial.count }, (_, k) => trial.start + k / trial.rate);
  const sync = uPlot.sync(`trial${host.dataset.trial}`);
  const hint = document.createElement("p");
  hint.className = "hint";
  hint.textContent = "Drag across a chart to zoom all of them; double-click for the whole record.";
  host.append(hint);
  // The lanes stand where the first chart's axis does, which is known once that is laid out.
  let drawLanes = () => {};
  const drawn = (u) => drawLanes(u.scales.x.min, u.scales.x.max, u.bbox.left / devicePixelRatio,
    (u.bbox.left + u.bbox.width) / devicePixelRatio);
  const charts = trial.panels.map((panel, k) => chart(host, trial, panel, time, sync, k === 0, k === 0 ? drawn : () => {}));
  drawLanes = lanes(host, trial);
  if (charts.length === 0) return;
  window.zavrekCharts[host.dataset.trial] = charts;
  let busy = false;
  const follow = (u) => {
    const { min, max } = u.scales.x;
    if (busy) return;
    busy = true;
    for (const other of charts) if (other !== u) other.setScale("x", { min, max });
    busy = false;
  };
  for (const u of charts) u.hooks.setScale = [(self, key) => key === "x" && follow(self)];
  charts[0].redraw();
}

// A trial's charts are made when they come near the window: a report may hold many.
const watcher = new IntersectionObserver((entries) => {
  for (const entry of entries) {
    if (!entry.isIntersecting) continue;
    watcher.unobserve(entry.target);
    show(entry.target, trials[entry.target.dataset.trial - 1]);
  }
}, { rootMargin: "600px" });
for (const host of document.querySelectorAll(".waves")) {
  // Room is kept from the start, so that nothing moves when the charts appear.
  const trial = trials[host.dataset.trial - 1];
  const rows = rowsOf(trial).length;
  if (trial.panels.length > 0) host.style.minHeight = `${20 + 252 * trial.panels.length + (rows ? 36 + 20 * rows : 0)}px`;
  watcher.observe(host);
}
