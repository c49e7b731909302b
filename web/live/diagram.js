// The one-line diagram: laid out from the network alone (dagre), or where page.toml puts buses. Symbols after
// IEC 60617. It is drawn once; what is alive in it changes in place.
import { html, Component } from "/page/standalone.module.js";
import { post } from "/page/api.js";
import { attempt, on, shown, state, tell, trouble } from "/page/store.js";

const svg = "http://www.w3.org/2000/svg";
const make = (name, attributes, ...inside) => {
  const node = document.createElementNS(svg, name);
  for (const [k, v] of Object.entries(attributes || {})) node.setAttribute(k, v);
  node.append(...inside);
  return node;
};
const path = (d, more) => make("path", { d, ...more });
const circle = (cx, cy, r, more) => make("circle", { cx, cy, r, ...more });
const letter = (text, y = 4) => make("text", { y, "text-anchor": "middle", class: "letter" }, text);

/// Each in a box of 24 by 24 about its middle, its ends above and below.
const symbols = {
  breaker: (closed) => closed ? [path("M0-12V-5M0 12V5M0 5V-5"), path("M-3-8L3-2M3-8L-3-2")] : [path("M0-12V-5M0 12V5M0 5L-7-4"), path("M-3-8L3-2M3-8L-3-2")],
  switch: (closed) => [path(closed ? "M0-12V12" : "M0-12V-5M0 12V5L-7-5"), path("M-4-5H4")],
  contactor: (closed) => [path(closed ? "M0-12V12" : "M0-12V-5M0 12V5L-7-5"), path("M-3-5A3 3 0 0 1 3-5")],
  transformer: () => [path("M0-12V-9M0 12V9"), circle(0, -4, 6), circle(0, 4, 6)],
  one_phase_transformer: () => [path("M0-12V-9M0 12V9"), circle(0, -4, 6), circle(0, 4, 6)],
  regulator: () => [path("M0-12V-9M0 12V9"), circle(0, -4, 6), circle(0, 4, 6), path("M-9 9L9-9M9-9L4-8M9-9L8-4")],
  source: () => [path("M0-12V-8"), circle(0, 0, 8), path("M-5 0Q-2.5-5 0 0T5 0")],
  current_source: () => [path("M0-12V-8"), circle(0, 0, 8), path("M-8 0H8")],
  synchronous_machine: () => [path("M0-12V-8"), circle(0, 0, 8), letter("G", 2), path("M-4 5Q-2 2.5 0 5T4 5")],
  induction_machine: () => [path("M0-12V-8"), circle(0, 0, 8), letter("M", 2), path("M-4 5Q-2 2.5 0 5T4 5")],
  doubly_fed_machine: () => [path("M0-12V-8"), circle(0, 0, 8), letter("G", 2), path("M-4 5Q-2 2.5 0 5T4 5")],
  permanent_magnet_machine: () => [path("M0-12V-8"), circle(0, 0, 8), letter("M", 2), path("M-4 5Q-2 2.5 0 5T4 5")],
  load: () => [path("M0-12V4"), path("M-5 2H5L0 11Z", { class: "solid" })],
  line: () => [path("M0-12V12")],
  cable: () => [path("M0-12V12"), path("M-4-9H4L0-4ZM-4 9H4L0 4Z", { class: "solid" })],
  branch: () => [path("M0-12V-8M0 8V12"), make("rect", { x: -4, y: -8, width: 8, height: 16 })],
  bank: () => [path("M0-12V-2M-6-2H6M-6 2H6M0 2V8M-5 8H5M-3 10.5H3")],
  dc_link: () => [path("M0-12V-2M-6-2H6M-6 2H6M0 2V12")],
  battery: () => [path("M0-12V-3M-8-3H8M-4 1H4M-8 5H8M0 5V12")],
  pv_array: () => [path("M0-12V-7"), make("rect", { x: -8, y: -7, width: 16, height: 14 }), path("M-8-7L0 1L8-7M-12-12l3 3M-9-14l3 3")],
  bridge: () => [path("M0-12V-8M0 8V12"), make("rect", { x: -8, y: -8, width: 16, height: 16 }), path("M-8 8L8-8M-6-3Q-4.5-6-3-3T0-3M2 4H6M2 6H6")],
  voltage_transformer: () => [path("M0-12V-8"), circle(0, -4, 4), circle(0, 2, 4)],
  meter: () => [path("M0-12V-6"), make("rect", { x: -7, y: -6, width: 14, height: 13 }), letter("W")],
  other: () => [path("M0-12V-7M0 7V12"), make("rect", { x: -7, y: -7, width: 14, height: 14 })],
};
for (const name of ["diode_bridge", "thyristor_bridge", "dc_converter", "three_level_bridge", "inverter"]) symbols[name] = symbols.bridge;
symbols.constant_line = symbols.line;
const passed_over = new Set(["ct", "vt", "cvt", "current_transformer", "right_of_way", "meter", "imposed_current"]);
const kind_of = (element) => symbols[element.kind] ? element.kind
  : /breaker/.test(element.kind) ? "breaker" : /switch|disconnector|earthing/.test(element.kind) ? "switch"
  : /line/.test(element.kind) ? "line" : /cable/.test(element.kind) ? "cable" : /transformer/.test(element.kind) ? "transformer"
  : /machine/.test(element.kind) ? "synchronous_machine" : /bridge|converter|inverter|submodule/.test(element.kind) ? "bridge" : "other";

const width = 118, bus_height = 18, symbol_height = 40;
const small = 400;       // buses: up to there both ways to grow are tried, and the one that fits better is taken
const readable = 0.22;   // pixels for a unit: below it texts and symbols are left out
const around = 70;       // of what is in sight: more is not drawn

/// Where everything stands.
function lay(diagram, rankdir = "TB") {
  const graph = new dagre.graphlib.Graph({ multigraph: true });
  graph.setGraph({ rankdir, nodesep: 18, ranksep: rankdir === "TB" ? 14 : 30, ranker: diagram.buses.length > 300 ? "longest-path" : "network-simplex" });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const bus of diagram.buses) graph.setNode("bus:" + bus.name, { width, height: bus_height });
  const drawn = diagram.elements.filter((e) => !passed_over.has(e.kind) && e.ends.length);
  for (const element of drawn) {
    const id = "element:" + element.name;
    graph.setNode(id, { width: 96, height: symbol_height });
    element.ends.forEach((bus, k) => (k === 0 && element.kind !== "source" && element.ends.length > 1) || (k === 0 && element.ends.length === 1 && element.kind !== "source")
      ? graph.setEdge("bus:" + bus, id) : graph.setEdge(id, "bus:" + bus));
  }
  dagre.layout(graph);
  const size = graph.graph();
  const places = new Map(graph.nodes().map((id) => [id, { x: graph.node(id).x, y: graph.node(id).y }]));
  const at = diagram.at || {};
  const placed = Object.keys(at);
  if (placed.length) {
    // Buses as the case has them; what lies between two stands in the middle, what hangs on one below it.
    const reach = { x: Math.max(600, 9 * width), y: 700 };
    for (const name of placed) places.set("bus:" + name, { x: (at[name][0] / 100) * reach.x, y: (at[name][1] / 100) * reach.y });
    const hanging = {};
    for (const element of drawn) {
      const ends = element.ends.map((bus) => places.get("bus:" + bus));
      const first = element.ends[0];
      if (ends.length > 1) places.set("element:" + element.name, { x: (ends[0].x + ends[1].x) / 2, y: (ends[0].y + ends[1].y) / 2 });
      else {
        const k = (hanging[first] = (hanging[first] || 0) + 1) - 1;
        places.set("element:" + element.name, { x: ends[0].x + (k - 0.5) * 60, y: ends[0].y + (element.kind === "source" ? -52 : 52) });
      }
    }
  }
  return { places, drawn, size };
}

/// From above or from the left, whichever is larger in the box.
function best(diagram, box) {
  const fit = ({ size }) => Math.min(box.width / size.width, box.height / size.height);
  const down = lay(diagram);
  if (Object.keys(diagram.at || {}).length || (diagram.buses.length > small && down.size.height > down.size.width)) return down;
  const across = lay(diagram, "LR");
  return fit(across) > 1.1 * fit(down) ? across : down;
}

export class Diagram extends Component {
  componentDidMount() {
    this.offs = [on("case", () => this.build()), on("values", () => this.live()), on("state", () => this.live()),
      on("place", () => this.live())];
    this.watch = new ResizeObserver(() => { this.measure(); if (this.view) this.show(); });
    this.watch.observe(this.drawing);
    this.build();
  }
  componentWillUnmount() { for (const off of this.offs) off(); this.watch.disconnect(); }
  shouldComponentUpdate() { return false; }

  build() {
    const { diagram } = state;
    const key = state.name + diagram.buses.length + diagram.elements.length;
    if (this.key === key) return this.live();
    this.key = key;
    this.measure();
    const { places, drawn } = best(diagram, { width: this.drawing.clientWidth || 380, height: this.drawing.clientHeight || 650 });
    this.parts = [];
    const wires = make("g", { class: "wires" }), things = make("g", {});
    this.items = [];
    const bus_places = new Map();
    for (const bus of diagram.buses) bus_places.set(bus.name, places.get("bus:" + bus.name));
    for (const element of drawn) {
      const at = places.get("element:" + element.name);
      element.ends.forEach((name, k) => {
        const bus = bus_places.get(name);
        const x = Math.max(bus.x - width / 2 + 6, Math.min(bus.x + width / 2 - 6, at.x));
        const above = bus.y < at.y;
        const wire = path(`M${x} ${bus.y}V${(bus.y + at.y + (above ? -12 : 12)) / 2}H${at.x}V${at.y + (above ? -12 : 12)}`);
        wires.append(wire);
        this.items.push({ node: wire, at: { x: (bus.x + at.x) / 2, y: (bus.y + at.y) / 2 }, w: Math.abs(bus.x - at.x) / 2, h: Math.abs(bus.y - at.y) / 2, seen: true });
      });
      const box = make("g", { transform: `translate(${at.x} ${at.y})`, class: "element " + element.kind });
      const drawing = make("g", { class: "symbol" });
      box.append(make("rect", { x: -14, y: -14, width: 28, height: 28, class: "touch" }), drawing);
      box.append(make("text", { x: 15, y: -2, class: "name" }, element.name));
      const value = make("text", { x: 15, y: 9, class: "value" });
      box.append(value);
      box.append(make("title", {}, `${element.name}, ${element.kind.replaceAll("_", " ")}`));
      const part = { element, box, drawing, value, closed: null };
      if (element.operated) {
        box.setAttribute("tabindex", "0");
        box.setAttribute("role", "switch");
        box.setAttribute("aria-label", element.name);
        box.classList.add("operated");
        const act = attempt(() => this.operate(part));
        box.addEventListener("click", act);
        box.addEventListener("keydown", (e) => { if (e.key === "Enter" || e.key === " ") { e.preventDefault(); act(); } });
      } else {
        box.addEventListener("click", () => element.along && tell("fault place", { on: element.name, at: 0.5 }));
        if (!symbols[element.kind] && kind_of(element) === "other") drawing.append(letter(element.kind[0].toUpperCase()));
      }
      drawing.append(...symbols[kind_of(element)](true));
      things.append(box);
      this.items.push({ node: box, at, seen: true });
      this.parts.push(part);
    }
    this.buses = diagram.buses.map((bus) => {
      const at = bus_places.get(bus.name);
      const box = make("g", { transform: `translate(${at.x} ${at.y})`, class: "bus", tabindex: "0", role: "button", "aria-label": "bus " + bus.name });
      box.append(make("rect", { x: -width / 2, y: -12, width, height: 24, class: "touch" }), path(`M${-width / 2} 0H${width / 2}`, { class: "bar" }));
      box.append(make("text", { x: -width / 2, y: -4, class: "name" }, bus.name));
      const value = make("text", { x: width / 2, y: -4, "text-anchor": "end", class: "value" });
      const struck = path("M-2-9L4-9L0-2L5-2L-4 10L-1 1L-6 1Z", { class: "struck", transform: "translate(0 14)" });
      box.append(value, struck, make("title", {}, `${bus.name}, ${shown(bus.nominal_V, "V")}: a click chooses it for a fault`));
      const choose = () => tell("fault place", { on: bus.name, at: null });
      box.addEventListener("click", choose);
      box.addEventListener("keydown", (e) => { if (e.key === "Enter") choose(); });
      things.append(box);
      this.items.push({ node: box, at, seen: true });
      return { bus, box, value, struck };
    });
    const all = [...places.values()];
    this.extent = { x: Math.min(...all.map((p) => p.x)) - 80, y: Math.min(...all.map((p) => p.y)) - 30 };
    this.extent.w = Math.max(...all.map((p) => p.x)) + 90 - this.extent.x;
    this.extent.h = Math.max(...all.map((p) => p.y)) + 40 - this.extent.y;
    this.drawing.replaceChildren(wires, things);
    this.whole();
    // Of a district that is unreadable as a whole, its beginning.
    const first = bus_places.get(diagram.buses[0].name);
    if (this.scale() < readable && first) {
      this.view = { x: first.x - 300, y: first.y - 300, w: 600, h: 600 };
      this.show();
    }
    this.live();
  }

  async operate(part) {
    const closed = state.values.on[part.element.name];
    const answer = await post("/run/ask", { what: part.element.name, value: closed ? 0 : 1 });
    if (answer.outcome === "refused") trouble(`${part.element.name}: ${answer.text}`);
  }

  // --- looking around: wheel, drag, keys ---
  whole() { this.view = { ...this.extent }; this.show(); }
  /// Of the box on the page, looked up when that changes: asking for it at each move would lay the page out anew.
  measure = () => { this.box = { w: this.drawing.clientWidth || 380, h: this.drawing.clientHeight || 600 }; };
  scale() { return Math.min(this.box.w / this.view.w, this.box.h / this.view.h); }
  show() {
    const { x, y, w, h } = this.view, scale = this.scale();
    this.drawing.setAttribute("viewBox", `${x} ${y} ${w} ${h}`);
    this.drawing.classList.toggle("far", scale < readable);
    // More than the view is in sight along the longer side of the box: left and right of it, or below.
    const left = x + w / 2 - this.box.w / scale / 2, right = left + this.box.w / scale, below = y + this.box.h / scale;
    for (const item of this.items) {
      const besides = around + (item.w || 0), beyond = around + (item.h || 0);
      const seen = item.at.x > left - besides && item.at.x < right + besides && item.at.y > y - beyond && item.at.y < below + beyond;
      if (seen !== item.seen) { item.seen = seen; item.node.style.display = seen ? "" : "none"; }
    }
  }
  zoom(factor, at) {
    const v = this.view, x = at ? at.x : v.x + v.w / 2, y = at ? at.y : v.y + v.h / 2;
    this.view = { x: x + (v.x - x) * factor, y: y + (v.y - y) * factor, w: v.w * factor, h: v.h * factor };
    this.show();
  }
  point(e) {
    const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(this.drawing.getScreenCTM().inverse());
    return { x: p.x, y: p.y };
  }
  wheel = (e) => { e.preventDefault(); this.zoom(e.deltaY > 0 ? 1.15 : 1 / 1.15, this.point(e)); };
  grab = (e) => {
    if (e.target.closest(".operated, .bus")) return;
    const from = { x: e.clientX, y: e.clientY }, view = { ...this.view }, scale = this.view.w / this.drawing.clientWidth;
    const move = (m) => { this.view = { ...view, x: view.x - (m.clientX - from.x) * scale, y: view.y - (m.clientY - from.y) * scale }; this.show(); };
    const end = () => { removeEventListener("pointermove", move); removeEventListener("pointerup", end); };
    addEventListener("pointermove", move);
    addEventListener("pointerup", end);
  };

  /// Voltages, flows, positions, faults; what is dead or earthed.
  live() {
    if (!this.parts) return;
    const going = state.run.case === state.name && state.run.state === "running";
    const { signals, on: points } = state.values;
    // What alternates is shown without what stands still, such as the charge left on a cable.
    const rms = (stem, direct) => {
      const pair = stem && going ? signals[stem + "a"] : null;
      if (!pair || pair[1] === null) return null;
      return direct ? pair[0] : Math.sqrt(Math.max(0, pair[1] ** 2 - pair[0] ** 2));
    };
    const earthed = new Set();
    for (const part of this.parts) {
      const { element } = part;
      if (element.operated) {
        const closed = going && element.name in points ? points[element.name] : true;
        if (closed !== part.closed) {
          part.closed = closed;
          part.drawing.replaceChildren(...symbols[kind_of(element)](closed));
          part.box.classList.toggle("open", !closed);
          part.box.setAttribute("aria-checked", String(closed));
        }
        if (going && closed && /earth/.test(element.kind)) element.ends.forEach((bus) => earthed.add(bus));
      }
      const value = rms(element.shows);
      if (!part.box.style || part.box.style.display === "none") continue;
      const says = value === null ? "" : value < 1e-3 ? "0 A" : shown(value, "A", 3);
      if (part.value.textContent !== says) part.value.textContent = says;
    }
    const struck = new Set();
    for (const place of state.about.places || []) {
      const flows = ["ia", "ib", "ic"].some((i) => (signals[`${place.name}.${i}`] || [0, 0])[1] > 1e-2);
      if (going && flows) struck.add(place.on);
    }
    for (const one of this.buses) {
      const value = rms(one.bus.shows, one.bus.phases[0] === "p");
      const nominal = one.bus.nominal_V / (one.bus.phases.length === 3 && one.bus.phases[0] === "a" ? Math.sqrt(3) : 1);
      const dc = one.bus.phases[0] === "p";
      const says = value === null ? "" : value < 1e-4 * nominal ? "0 V" : shown(dc || one.bus.phases.length < 3 ? value : value * Math.sqrt(3), "V", 4);
      if (one.value.textContent !== says) one.value.textContent = says;
      one.box.classList.toggle("dead", value !== null && value < 0.05 * nominal);
      one.box.classList.toggle("low", value !== null && value >= 0.05 * nominal && value < 0.8 * nominal);
      one.box.classList.toggle("earthed", earthed.has(one.bus.name));
      one.box.classList.toggle("has-fault", struck.has(one.bus.name));
    }
    for (const part of this.parts) part.box.classList.toggle("has-fault", struck.has(part.element.name));
  }

  render() {
    return html`<section class="panel diagram" aria-label="one-line diagram">
      <svg ref=${(n) => { this.drawing = n; if (n) n.addEventListener("wheel", this.wheel, { passive: false }); }} onPointerDown=${this.grab} preserveAspectRatio="xMidYMin meet"></svg>
      <div class="zoom"><button aria-label="nearer" onClick=${() => this.zoom(1 / 1.3)}>+</button><button aria-label="farther" onClick=${() => this.zoom(1.3)}>-</button><button aria-label="all of it" onClick=${() => this.whole()}>all</button><button aria-label="larger or smaller beside the scopes" onClick=${() => { this.drawing.closest("main").classList.toggle("large"); this.key = ""; this.build(); }}>wide</button></div>
    </section>`;
  }
}
