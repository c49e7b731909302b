// The board of a process: gauges, states, trends over minutes, as page.toml has them, or what is likely of use.
import { html, Component } from "/page/standalone.module.js";
import { get } from "/page/api.js";
import { colours, dashes, marks, on, shown, state } from "/page/store.js";

const signal_of = (name) => state.about.signals.find((s) => s.name === name) || { unit: "" };
/// What alternates is shown by its rms, all else by its mean.
const reading = (name) => {
  const pair = state.values.signals[name];
  if (!pair || pair[1] === null) return null;
  return Math.abs(pair[0]) < 0.2 * pair[1] ? pair[1] : pair[0];
};

function usual() {
  const panels = [];
  const buses = state.diagram.buses.filter((b) => b.shows).slice(0, 6);
  for (const b of buses) panels.push({ kind: "gauge", name: b.name, title: b.name, signals: [b.shows + "a"], least: 0, greatest: (1.2 * b.nominal_V) / (b.phases === "abc" ? Math.sqrt(3) : 1), low: null, high: null, points: [] });
  panels.push({ kind: "states", name: "states", title: "States", points: state.about.points.slice(0, 24), signals: [] });
  const flows = state.diagram.elements.filter((e) => e.shows).slice(0, 4).map((e) => e.shows + "a");
  if (flows.length) panels.push({ kind: "trend", name: "flows", title: "Currents", signals: flows, minutes: 5, points: [] });
  return panels;
}

function Gauge({ panel }) {
  const name = panel.signals[0], { unit } = signal_of(name), read = reading(name);
  const least = panel.least ?? 0, greatest = panel.greatest ?? Math.max(1, Math.abs(read || 1) * 1.5);
  const value = read !== null && Math.abs(read) < 1e-6 * (greatest - least) ? 0 : read;
  const share = value === null ? 0 : Math.max(0, Math.min(1, (value - least) / (greatest - least)));
  const bad = value !== null && ((panel.low !== null && value < panel.low) || (panel.high !== null && value > panel.high));
  const at = (v) => Math.max(0, Math.min(100, (100 * (v - least)) / (greatest - least)));
  return html`<section class=${"panel gauge" + (bad ? " is-bad" : "")} aria-label=${panel.title}><span class="soft">${panel.title}</span><b>${shown(value, unit)}${bad ? " !" : ""}</b>
    <div class="scale"><i style=${`width:${100 * share}%`}></i>${[panel.low, panel.high].map((v) => v !== null && v !== undefined && html`<u style=${`left:${at(v)}%`}></u>`)}</div><small class="soft">${shown(least, unit, 3)} to ${shown(greatest, unit, 3)}</small></section>`;
}

/// What hardly moves is no storm: an axis spans two thousandths of what it shows at least.
const apart = (least, most) => {
  const middle = (least + most) / 2, half = Math.max(0.55 * (most - least), 1e-3 * Math.abs(middle), 1e-9);
  return [middle - half, middle + half];
};

class Trend extends Component {
  componentDidMount() { this.poll(); this.timer = setInterval(() => this.poll(), 1000); }
  componentWillUnmount() { clearInterval(this.timer); }
  async poll() {
    if (document.hidden || state.run.case !== state.name) return;
    const { panel } = this.props;
    try { this.draw(await get("/run/trend", { signals: panel.signals, minutes: panel.minutes })); } catch (_) { /* nothing has run yet */ }
  }
  draw(data) {
    if (!this.plot) {
      const ink = getComputedStyle(document.body).getPropertyValue("--soft");
      const axis = { stroke: ink, grid: { stroke: "#8883", width: 1 }, ticks: { stroke: "#8886" }, font: "11px sans-serif" };
      const units = [...new Set(data.curves.map((c) => c.unit))];
      this.plot = new uPlot({ width: this.box.clientWidth, height: 170, legend: { show: false }, cursor: { show: false },
        scales: { x: { time: false }, ...Object.fromEntries(units.map((unit) => [unit || "1", { range: (_, least, most) => apart(least, most) }])) },
        series: [{}, ...data.curves.map((c, k) => ({ label: c.name, stroke: colours[k % colours.length], dash: dashes[k % dashes.length], width: 1.6, scale: c.unit || "1", points: { show: false } }))],
        axes: [{ ...axis, size: 28, values: (_, ticks) => ticks.map((t) => t + " s") }, ...units.slice(0, 2).map((unit, k) => ({ ...axis, scale: unit || "1", side: k ? 1 : 3, size: 66, values: (_, ticks) => marks(ticks, unit) }))] }, [[]], this.box);
    }
    const pick = (c) => c.mean.map((mean, k) => (Math.abs(mean) < 0.2 * c.rms[k] ? c.rms[k] : mean));
    this.plot.setData([data.time_s, ...data.curves.map(pick)]);
  }
  render({ panel }) {
    return html`<section class="panel trend"><div class="row"><b>${panel.title}</b>${panel.signals.map((s, k) => html`<span style=${"color:" + colours[k % colours.length]}>${s}</span>`)}<span class="grow"></span><span class="soft">last ${panel.minutes} min</span></div><div ref=${(n) => (this.box = n)}></div></section>`;
  }
}

const States = ({ panel }) => html`<section class="panel lamps"><b>${panel.title}</b><div>${panel.points.map((p) => html`<span class=${"lamp " + (state.values.on[p] ? "is-on" : "is-off")}>${p}<small>${state.values.on[p] ? " on" : " off"}</small></span>`)}</div></section>`;

export class Board extends Component {
  componentDidMount() { this.offs = [on("values", () => this.setState({})), on("case", () => this.setState({}))]; }
  componentWillUnmount() { for (const off of this.offs) off(); }
  render() {
    const own = (state.board.panels || []).filter((p) => p.kind !== "curves");
    const panels = own.length ? own : usual();
    const of = (kind) => panels.filter((p) => p.kind === kind);
    return html`<main class="board">${state.board.title && html`<h2>${state.board.title}</h2>`}
      <div class="gauges">${of("gauge").map((p) => html`<${Gauge} key=${p.name} panel=${p} />`)}</div>
      ${of("states").map((p) => html`<${States} panel=${p} />`)}
      ${of("trend").map((p) => html`<${Trend} key=${state.name + p.name} panel=${p} />`)}</main>`;
  }
}
