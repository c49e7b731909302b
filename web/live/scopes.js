// Scopes: any signals, each scope at its own time base, with triggers, cursors, and lanes of what is on and off.
import { html, Component } from "/page/standalone.module.js";
import { get } from "/page/api.js";
import { colours, dashes, on, shown, state, tell } from "/page/store.js";

const spans = [0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10];
const poll_ms = 120;
let next_id = 1;

function firstScopes() {
  const panels = (state.board.panels || []).filter((p) => p.kind === "curves");
  if (panels.length) return panels.slice(0, 3).map((p) => make(p.signals, p.points, p.span_s, p.title));
  const of_unit = (unit) => state.about.signals.filter((s) => s.unit === unit && !s.name.startsWith("fault@")).slice(0, 3).map((s) => s.name);
  const trips = state.about.points.filter((p) => /\.(start|trip)$/.test(p)).slice(0, 4);
  const both = [of_unit("V"), of_unit("A")].filter((names) => names.length);
  return both.length ? both.map((names, k) => make(names, k === both.length - 1 ? trips : [], 0.1)) : [make(state.about.signals.slice(0, 2).map((s) => s.name), trips, 0.1)];
}
const make = (signals, points, span, title) => ({
  id: next_id++, signals: [...signals], points: [...points], span: span || 0.1, title: title || "",
  mode: "roll", trigger: signals[0] || "", level: 0, slope: "rising", pre: 0.2, before: false,
});

export class Scopes extends Component {
  state = { scopes: firstScopes(), of: state.name };
  componentDidMount() {
    this.off = on("case", () => {
      if (this.state.of !== state.name) this.setState({ scopes: firstScopes(), of: state.name });
      else this.setState({});
    });
  }
  componentWillUnmount() { this.off(); }
  render(_, { scopes }) {
    const change = (scope) => this.setState({ scopes: scopes.map((s) => (s.id === scope.id ? scope : s)) });
    return html`<section class="scopes" aria-label="scopes">
      ${scopes.map((scope) => html`<${Scope} key=${scope.id} scope=${scope} count=${scopes.length} change=${change}
        remove=${() => this.setState({ scopes: scopes.filter((s) => s !== scope) })} />`)}
      <button class="wide" onClick=${() => this.setState({ scopes: [...scopes, make(state.about.signals.slice(0, 3).map((s) => s.name), [], 0.1)] })}>another scope</button>
      <datalist id="signals">${state.about.signals.map((s) => html`<option value=${s.name} />`)}</datalist>
      <datalist id="triggers">${[...state.about.signals.map((s) => s.name), ...state.about.points].map((s) => html`<option value=${s} />`)}</datalist>
    </section>`;
  }
}

class Scope extends Component {
  state = { open: false, a: null, b: null, said: "" };
  componentDidMount() {
    this.timer = setInterval(() => this.poll(), poll_ms);
    this.off = on("began", () => { this.after = -1; this.held = false; });
    this.watch = new ResizeObserver(() => { this.key = ""; if (this.data) this.draw(); });
    this.watch.observe(this.box);
  }
  componentWillUnmount() { clearInterval(this.timer); this.off(); this.watch.disconnect(); }

  async poll() {
    const { scope } = this.props;
    if (this.busy || document.hidden || this.held || !scope.signals.length || state.run.case !== state.name) return;
    if (state.run.state !== "running" && this.last_run === state.run.number + state.run.state) return;
    this.busy = true;
    try {
      const fields = { signals: scope.signals, span: scope.span, pixels: 500 };
      if (scope.mode !== "roll") Object.assign(fields, { trigger: scope.trigger, level: scope.level, slope: scope.slope, pre: scope.pre, after: this.after ?? -1 });
      let data = await get("/run/scope", fields);
      if (!data.triggered && scope.mode === "auto" && data.now_s - (this.shown_s ?? -9) > Math.max(0.5, 2 * scope.span))
        data = await get("/run/scope", { signals: scope.signals, span: scope.span, pixels: 500 });
      if (data.triggered) {
        if (scope.mode !== "roll") this.after = data.at_s;
        if (scope.mode === "single") this.hold(true);
        this.shown_s = data.now_s;
        this.data = data;
        if (scope.before) this.old = await get("/run/scope", { signals: scope.signals, span: scope.span, pixels: 500, around: data.at_s, pre: scope.mode === "roll" ? 0.2 : scope.pre, way: "before" }).catch(() => null);
        else this.old = null;
        this.draw();
      }
      const said = data.triggered ? (data.lost > 0 ? `${data.lost} samples are no longer kept` : "") : "waits for its trigger";
      if (said !== this.state.said) this.setState({ said });
      this.last_run = state.run.number + state.run.state;
    } catch (error) {
      if (error.message !== this.state.said) this.setState({ said: error.message });
    }
    this.busy = false;
  }
  hold(held) { this.held = held; this.setState({}); }

  draw() {
    const { scope, count } = this.props;
    const { data, old } = this;
    const key = data.curves.map((c) => c.name).join() + (old ? "old" : "") + this.box.clientWidth + count;
    if (this.key !== key) {
      this.key = key;
      if (this.plot) this.plot.destroy();
      const units = [...new Set(data.curves.map((c) => c.unit))];
      const series = [{}];
      const bands = [];
      data.curves.forEach((c, k) => {
        const stroke = colours[k % colours.length], scale = c.unit || "1";
        series.push({ label: c.name, stroke, width: 1.4, dash: dashes[k % dashes.length], points: { show: false }, scale },
          { label: c.name, stroke, width: 1.4, dash: dashes[k % dashes.length], points: { show: false }, scale });
        bands.push({ series: [series.length - 2, series.length - 1], fill: stroke + "55" });
      });
      if (old) data.curves.forEach((c, k) => series.push({ label: c.name, stroke: colours[k % colours.length] + "66", width: 3, points: { show: false }, scale: c.unit || "1" }));
      const ink = getComputedStyle(document.body).getPropertyValue("--soft");
      const axis = { stroke: ink, grid: { stroke: "#8883", width: 1 }, ticks: { stroke: "#8886" }, font: "11px sans-serif" };
      const axes = [{ ...axis, size: 28, values: (_, ticks) => ticks.map((t, k) => Number((1e3 * t).toPrecision(6)) + (k === ticks.length - 1 ? " ms" : "")) },
        ...units.slice(0, 2).map((unit, k) => ({ ...axis, scale: unit || "1", side: k ? 1 : 3, size: 62, grid: k ? { show: false } : axis.grid,
          values: (_, ticks) => ticks.map((t) => shown(t, unit, 3)) }))];
      this.plot = new uPlot({
        width: this.box.clientWidth, height: count > 2 ? 150 : 190, series, bands, axes, legend: { show: false }, pxAlign: 0,
        scales: { x: { time: false } }, cursor: { drag: { x: false, y: false }, points: { show: false } },
        hooks: { draw: [(u) => { this.marks(u); this.lanes(u); }] },
      }, [[]], this.box);
      this.plot.over.addEventListener("click", (e) => this.put(e));
    }
    const zero = scope.mode === "roll" ? data.time_s[data.time_s.length - 1] : data.at_s;
    const time = data.time_s.map((t) => t - zero);
    const columns = [time];
    for (const c of data.curves) columns.push(c.greatest, c.least);
    if (old) {
      const nearest = (curve) => data.time_s.map((t) => {
        const k = Math.round((t - old.time_s[0]) / ((old.time_s[old.time_s.length - 1] - old.time_s[0]) / Math.max(1, old.time_s.length - 1)));
        return k >= 0 && k < old.time_s.length ? (curve.greatest[k] + curve.least[k]) / 2 : null;
      });
      for (const c of old.curves) columns.push(nearest(c));
    }
    this.zero = zero;
    this.plot.setData(columns);
    if (this.state.a !== null) this.setState({});
  }

  /// Cursors: a click sets A, one with shift B.
  put(event) {
    const at = this.plot.posToVal(event.offsetX, "x");
    this.setState(event.shiftKey ? { b: at } : { a: at });
    this.plot.redraw();
  }
  /// The same by keys: arrows move A, with shift B, by a hundredth of the time base; with ctrl by a tenth.
  moveCursor(event) {
    const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (event.key === "Escape") this.setState({ a: null, b: null });
    else if (way && this.data) {
      const first = this.data.time_s[0] - this.zero, last = this.data.time_s[this.data.time_s.length - 1] - this.zero;
      const which = event.shiftKey ? "b" : "a", is = this.state[which];
      const to = is === null ? (first + last) / 2 : is + way * (last - first) / (event.ctrlKey ? 10 : 100);
      this.setState({ [which]: Math.min(last, Math.max(first, to)) });
    } else return;
    event.preventDefault();
    if (this.plot) this.plot.redraw();
  }
  marks(u) {
    const { a, b } = this.state;
    [[a, "A"], [b, "B"]].forEach(([at, name]) => {
      if (at === null) return;
      const x = u.valToPos(at, "x", true);
      u.ctx.save();
      u.ctx.strokeStyle = u.ctx.fillStyle = getComputedStyle(document.body).getPropertyValue("--ink");
      u.ctx.setLineDash([4, 3]);
      u.ctx.beginPath(); u.ctx.moveTo(x, u.bbox.top); u.ctx.lineTo(x, u.bbox.top + u.bbox.height); u.ctx.stroke();
      u.ctx.font = `${11 * devicePixelRatio}px sans-serif`;
      u.ctx.fillText(name, x + 3, u.bbox.top + 11 * devicePixelRatio);
      u.ctx.restore();
    });
  }
  reading() {
    const { a, b } = this.state;
    const { data } = this;
    if (a === null || !data) return "";
    const at = (t, c) => {
      const k = data.time_s.findIndex((x) => x - this.zero >= t);
      return k < 0 ? NaN : (c.least[k] + c.greatest[k]) / 2;
    };
    const parts = data.curves.map((c) => `${c.name} ${shown(at(a, c), c.unit)}${b !== null ? ` / ${shown(at(b, c), c.unit)}` : ""}`);
    return `A ${(1e3 * a).toFixed(2)} ms` + (b !== null ? `, B ${(1e3 * b).toFixed(2)} ms, ${(1e3 * (b - a)).toFixed(2)} ms apart (${shown(1 / Math.abs(b - a), "Hz")})` : "") + ": " + parts.join(", ");
  }

  /// What is on and off below the curves, in the same time.
  lanes(u) {
    const { scope } = this.props;
    const { data } = this;
    if (!this.strip || !data.time_s.length) return;
    const from = data.time_s[0], until = data.time_s[data.time_s.length - 1];
    const width = u.bbox.width / devicePixelRatio, left = u.bbox.left / devicePixelRatio;
    this.strip.replaceChildren(...scope.points.map((point) => {
      const same = (e) => e.point === point || e.point === point + ".closed";
      const changes = state.events.filter(same);
      let is_on = changes.length ? !changes[0].on : !!state.values.on[point];
      for (const e of changes) if (e.time_s <= from) is_on = e.on;
      const lane = document.createElement("div");
      lane.className = "lane";
      const name = document.createElement("span");
      name.textContent = point;
      lane.append(name);
      let begin = from;
      const add = (end) => {
        if (!is_on) return;
        const bar = document.createElement("i");
        bar.style.left = left + ((begin - from) / (until - from)) * width + "px";
        bar.style.width = Math.max(1, ((end - begin) / (until - from)) * width) + "px";
        lane.append(bar);
      };
      for (const e of changes) {
        if (e.time_s <= from || e.time_s > until) continue;
        add(e.time_s);
        begin = e.time_s;
        is_on = e.on;
      }
      add(until);
      return lane;
    }));
  }

  render({ scope, change, remove, count }, { open, said }) {
    const set = (more) => { this.after = -1; this.held = false; this.key = ""; this.last_run = null; change({ ...scope, ...more }); };
    const add = (e) => {
      const name = e.target.value.trim();
      if (!name) return;
      if (state.about.signals.some((s) => s.name === name)) set({ signals: [...scope.signals, name].slice(-8) });
      else if (state.about.points.includes(name)) set({ points: [...scope.points, name].slice(-8) });
      e.target.value = "";
    };
    return html`<div class="panel scope">
      <div class="row">
        ${scope.title && html`<b>${scope.title}</b>`}
        ${scope.signals.map((name, k) => html`<button class="chip" style=${"color:" + colours[k % colours.length]} title="take it away"
          onClick=${() => set({ signals: scope.signals.filter((s) => s !== name) })}>${name}</button>`)}
        ${scope.points.map((name) => html`<button class="chip" title="take it away" onClick=${() => set({ points: scope.points.filter((s) => s !== name) })}>${name}</button>`)}
        <input list="triggers" size="10" placeholder="add" aria-label="add a signal or a lane" onChange=${add} />
        <span class="grow"></span>
        <select aria-label="time base" value=${scope.span} onChange=${(e) => set({ span: Number(e.target.value) })}>
          ${[...new Set([...spans, scope.span])].sort((a, b) => a - b).map((s) => html`<option value=${s}>${s < 1 ? 1e3 * s + " ms" : s + " s"}</option>`)}</select>
        <select aria-label="trigger" class="mode" value=${scope.mode} onChange=${(e) => set({ mode: e.target.value })}>
          ${[["roll", "no trigger"], ["auto", "auto"], ["normal", "normal"], ["single", "single"]].map(([m, says]) => html`<option value=${m}>${says}</option>`)}</select>
        <button aria-pressed=${!!this.held} onClick=${() => this.hold(!this.held)}>${this.held ? (scope.mode === "single" ? "arm" : "go on") : "hold"}</button>
        <button aria-expanded=${open} onClick=${() => this.setState({ open: !open })}>more</button>
      </div>
      ${(open || scope.mode !== "roll") && html`<div class="row">
        <label>when <input list="triggers" size="12" value=${scope.trigger} onChange=${(e) => set({ trigger: e.target.value.trim() })} /></label>
        <select aria-label="slope" value=${scope.slope} onChange=${(e) => set({ slope: e.target.value })}><option value="rising">rises, goes on</option><option value="falling">falls, goes off</option></select>
        ${state.about.signals.some((s) => s.name === scope.trigger) && html`<label>through <input type="number" step="any" style="width:7em" value=${scope.level} onChange=${(e) => set({ level: Number(e.target.value) })} /></label>`}
        <label>ahead <input type="range" style="width:80px" min="0" max="1" step="0.05" value=${scope.pre} onInput=${(e) => set({ pre: Number(e.target.value) })} /></label>
        ${open && html`<label><input type="checkbox" checked=${scope.before} onChange=${(e) => set({ before: e.target.checked })} /> the way before</label>
          <button onClick=${() => this.setState({ a: null, b: null })}>no cursors</button>
          ${count > 1 && html`<button onClick=${remove}>take the scope away</button>`}`}
      </div>`}
      <div class="plot" tabindex="0" role="group" aria-label="curves; arrows move cursor A, with shift cursor B" onKeyDown=${(e) => this.moveCursor(e)} ref=${(n) => (this.box = n)}></div>
      <div class="lanes" ref=${(n) => (this.strip = n)}></div>
      <div class="reading">${this.reading() || said || html`<span class="soft">click or arrows: cursor A, with shift: B</span>`}</div>
    </div>`;
  }
}
