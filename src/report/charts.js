// Charts of a programme's measured values, one point per verdict, and figures that can be looked at closely.
"use strict";

const seriesColours = ["#b3412e", "#2f7d5b", "#2b5fa8", "#8a6d1d", "#6f4a8e", "#5b6770"];
const near = 12; // pixels from a point at which the pointer finds it

/// All points in the order of their places; each series has numbers at its own points only. Series stand a little
/// beside each other, so that none hides another.
function columnsOf(panel) {
  const places = panel.series.flatMap((s) => s.points.map((p) => p[0]));
  const span = places.reduce((m, x) => Math.max(m, x), -Infinity) - places.reduce((m, x) => Math.min(m, x), Infinity);
  const beside = (k) => 0.011 * span * (k - (panel.series.length - 1) / 2);
  const points = panel.series.flatMap((s, k) =>
    s.points.map((p) => ({ x: p[0] + beside(k), y: p[1], trial: p[2], series: k })));
  points.sort((a, b) => a.x - b.x);
  const columns = [points.map((p) => p.x)];
  panel.series.forEach((_, k) => columns.push(points.map((p) => (p.series === k ? p.y : null))));
  return { points, columns };
}

function nearest(u, points, left, top) {
  let best = null;
  let least = near * near;
  for (const point of points) {
    const dx = u.valToPos(point.x, "x") - left;
    const dy = u.valToPos(point.y, "y") - top;
    if (dx * dx + dy * dy >= least) continue;
    least = dx * dx + dy * dy;
    best = point;
  }
  return best;
}

function scatter(host, panel, names) {
  const { points, columns } = columnsOf(panel);
  const title = document.createElement("p");
  title.className = "wave-title";
  title.textContent = panel.title;
  const box = document.createElement("div");
  box.className = "wave";
  const told = document.createElement("p");
  told.className = "hint told";
  const silent = "Point at a trial to read it; drag to zoom, double-click for all.";
  told.textContent = silent;
  host.append(title, box, told);
  const tell = (u) => {
    const { left, top } = u.cursor;
    const point = left < 0 ? null : nearest(u, points, left, top);
    told.textContent = point
      ? `trial ${point.trial}: ${names[point.trial] || ""}: ${point.y.toPrecision(4)} s` : silent;
  };
  return new uPlot({
    width: 545, height: 300,
    cursor: { drag: { x: true, y: true, uni: 20 }, points: { show: false } },
    legend: { show: panel.series.length > 1, live: false },
    scales: { x: { time: false, range: (u, a, b) => [a - 0.03 * (b - a || 1), b + 0.03 * (b - a || 1)] },
              y: { range: (u, a, b) => (a === b ? [0, 2 * (b || 1)] : [a < b / 3 ? Math.min(0, a) : a - 0.1 * (b - a), b + 0.05 * (b - a)]) } },
    axes: [{ label: panel.x, labelSize: 22, size: 34, grid: { stroke: "#e3e6e8" } },
           { label: "measured (s)", labelSize: 20, size: 60, grid: { stroke: "#e3e6e8" } }],
    series: [{}, ...panel.series.map((s, k) => ({
      label: s.name || "all", stroke: seriesColours[k % seriesColours.length], paths: () => null,
      points: { show: true, size: 4.5, fill: seriesColours[k % seriesColours.length], width: 0 },
    }))],
    hooks: { setCursor: [tell] },
  }, columns, box);
}

function histogram(host, margins) {
  const title = document.createElement("p");
  title.className = "wave-title";
  title.textContent = "margins of all verdicts with a tolerance";
  const box = document.createElement("div");
  box.className = "wave";
  host.append(title, box);
  const bars = (failed) => margins.counts.map((n, k) => (margins.at[k] < 0 === failed && n > 0 ? n : null));
  const drawn = uPlot.paths.bars({ size: [0.9, 40] });
  return new uPlot({
    width: 545, height: 300, legend: { show: false }, cursor: { drag: { x: true, y: false } },
    scales: { x: { time: false }, y: { range: (u, a, b) => [0, 1.05 * b] } },
    axes: [{ label: "left of the tolerance (%): 100 in its middle, below 0 failed", labelSize: 22, size: 34 },
           { label: "verdicts", labelSize: 20, size: 60, grid: { stroke: "#e3e6e8" } }],
    series: [{}, { stroke: seriesColours[0], fill: seriesColours[0] + "99", paths: drawn, points: { show: false } },
             { stroke: seriesColours[1], fill: seriesColours[1] + "99", paths: drawn, points: { show: false } }],
  }, [margins.at, bars(true), bars(false)], box);
}

/// A drawing zooms about the pointer with the wheel while Ctrl is held, by dragging a frame, and shows all again
/// at a double click.
function zoomable(svg) {
  const all = svg.viewBox.baseVal;
  const whole = [all.x, all.y, all.width, all.height];
  let view = [...whole];
  let from = null;
  const frame = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  frame.setAttribute("class", "zoom-frame");
  const apply = () => svg.setAttribute("viewBox", view.join(" "));
  const at = (event) => {
    const box = svg.getBoundingClientRect();
    return [view[0] + ((event.clientX - box.left) / box.width) * view[2],
            view[1] + ((event.clientY - box.top) / box.height) * view[3]];
  };
  const framed = (a, b) => [Math.min(a[0], b[0]), Math.min(a[1], b[1]), Math.abs(a[0] - b[0]), Math.abs(a[1] - b[1])];
  svg.addEventListener("wheel", (event) => {
    if (!event.ctrlKey) return;
    event.preventDefault();
    const [x, y] = at(event);
    const factor = event.deltaY > 0 ? 1.25 : 0.8;
    const size = Math.min(whole[2], view[2] * factor);
    const kept = size / view[2];
    view = [x - (x - view[0]) * kept, y - (y - view[1]) * kept, size, view[3] * kept];
    apply();
  }, { passive: false });
  svg.addEventListener("pointerdown", (event) => {
    event.preventDefault();
    from = at(event);
    svg.setPointerCapture(event.pointerId);
    svg.append(frame);
  });
  svg.addEventListener("pointermove", (event) => {
    if (!from) return;
    ["x", "y", "width", "height"].forEach((name, k) => frame.setAttribute(name, framed(from, at(event))[k]));
  });
  svg.addEventListener("pointerup", (event) => {
    if (!from) return;
    const [x, y, width, height] = framed(from, at(event));
    from = null;
    frame.remove();
    for (const name of ["x", "y", "width", "height"]) frame.setAttribute(name, 0);
    if (width < whole[2] / 200 || height < whole[3] / 200) return;
    // The frame is widened to the shape of the drawing.
    const scale = Math.max(width / whole[2], height / whole[3]);
    view = [x + (width - scale * whole[2]) / 2, y + (height - scale * whole[3]) / 2, scale * whole[2], scale * whole[3]];
    apply();
  });
  svg.addEventListener("dblclick", () => {
    view = [...whole];
    apply();
  });
}

window.zavrekCharts = {}; // for scripts that drive the page
for (const host of document.querySelectorAll(".scatters")) {
  const cell = () => host.appendChild(document.createElement("div"));
  window.zavrekCharts.programme = programme.panels.map((panel) => scatter(cell(), panel, programme.names));
  window.zavrekCharts.margins = histogram(cell(), programme.margins);
}
for (const svg of document.querySelectorAll(".figure svg")) zoomable(svg);
