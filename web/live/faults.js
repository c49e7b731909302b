// The fault panel: where, what, when; and what came of the last ones, against the settings.
import { html, Component } from "/page/standalone.module.js";
import { get, post } from "/page/api.js";
import { attempt, on, runs, shown, state, tell } from "/page/store.js";

const kinds = ["AG", "BG", "CG", "AB", "BC", "CA", "ABG", "BCG", "CAG", "ABC", "ABCG"];

function usual() {
  const first = (state.about.trials.find((t) => t.fault) || {}).fault;
  const bus = state.about.places[0];
  const form = { on: first ? first.on : bus ? bus.on : state.diagram.buses[0].name, at: first && first.at !== null ? Math.round(100 * first.at) : 50,
    phases: first ? first.phases : "ABC", resistance: first ? String(first.resistance_ohm) : "0", angle: "", lasts: "200 ms", then: "", after: "50 ms" };
  return form;
}
let form = null, form_of = "";

export class Faults extends Component {
  state = { list: [] };
  componentDidMount() {
    this.offs = [on("fault place", ({ on: place, at }) => { form.on = place; if (at !== null) form.at = Math.round(100 * at); this.setState({}); }),
      on("began", () => this.setState({ list: [] })), on("events", () => this.late()), on("acts", () => this.late()), on("case", () => this.setState({}))];
    this.late();
  }
  componentWillUnmount() { for (const off of this.offs) off(); clearTimeout(this.timer); }
  /// A moment behind what happened: what devices did is judged then.
  late() {
    clearTimeout(this.timer);
    this.timer = setTimeout(async () => {
      if (!state.run.case) return;
      try { this.setState({ list: (await get("/run/faults")).faults }); } catch (_) { /* nothing has run */ }
    }, 500);
  }
  strike = attempt(async () => {
    const body = { on: form.on, phases: form.phases, resistance: /[a-z]/i.test(form.resistance) ? form.resistance : form.resistance + " ohm", lasts: form.lasts.trim() === "0" ? 0 : form.lasts };
    if (this.along()) body.at = form.at + " %";
    if (form.angle.trim()) body.angle = /[a-z]/i.test(form.angle) ? form.angle : form.angle + " deg";
    if (form.then) Object.assign(body, { then: form.then, after: form.after });
    await post("/run/strike", body);
    setTimeout(() => this.late(), 700);
  });
  along() {
    const element = state.diagram.elements.find((e) => e.name === form.on);
    return element && element.along;
  }
  render(_, { list }) {
    if (form_of !== state.name) { form = usual(); form_of = state.name; }
    const set = (name) => (e) => { form[name] = e.target.value; this.setState({}); };
    const places = [...state.diagram.buses.map((b) => b.name), ...state.diagram.elements.filter((e) => e.along).map((e) => e.name)];
    const ready = state.about.places.some((p) => p.on === form.on && (!this.along() || Math.abs(100 * p.at - form.at) < 1e-6));
    return html`<form class="fields" id="fault" onSubmit=${(e) => { e.preventDefault(); this.strike(); }}>
      <label>on <select id="fault-on" value=${form.on} onChange=${set("on")}>${places.map((p) => html`<option value=${p}>${p}</option>`)}</select></label>
      ${this.along() && html`<label>along it <span><input id="fault-at" type="range" min="1" max="99" value=${form.at} onInput=${set("at")} /> ${form.at} %</span></label>`}
      <label>phases <select id="fault-phases" value=${form.phases} onChange=${set("phases")}>${kinds.map((p) => html`<option value=${p}>${p}</option>`)}</select></label>
      <label>resistance <input id="fault-resistance" value=${form.resistance} onInput=${set("resistance")} placeholder="0 ohm" /></label>
      <label>angle <input id="fault-angle" value=${form.angle} onInput=${set("angle")} placeholder="at once" /></label>
      <label>lasts <input id="fault-lasts" value=${form.lasts} onInput=${set("lasts")} placeholder="0: until cleared" /></label>
      <label>becomes <span><select value=${form.then} onChange=${set("then")}><option value="">-</option>${kinds.map((p) => html`<option value=${p}>${p}</option>`)}</select>
        ${form.then && html` after <input size="6" value=${form.after} onInput=${set("after")} />`}</span></label>
      <div class="row"><button id="strike" class="strong" disabled=${!runs()}>strike</button>
        <button type="button" id="clear" disabled=${!runs()} onClick=${attempt(() => post("/run/clear"))}>clear</button>
        ${!ready && html`<span class="soft">${state.run.bound && runs() ? "not made ready for this run" : "made ready when struck: the run is gone through again up to now"}</span>`}</div>
    </form>
    <h2>Struck</h2>
    ${list.length === 0 && html`<p class="soft">None in this run.</p>`}
    <ol class="struck">${list.map((one) => html`<li>
      <button title="fill in the same again" onClick=${() => { Object.assign(form, { on: one.on, phases: one.phases, resistance: String(one.resistance_ohm), angle: one.angle_deg.toFixed(1), lasts: one.lasts_s + " s", then: one.then, after: one.after_s + " s" });
        if (one.at !== null) form.at = Number((100 * one.at).toFixed(4)); this.setState({}); }}>${one.phases}${one.then ? " to " + one.then : ""} on ${one.on}${one.at !== null ? ` at ${Number((100 * one.at).toFixed(2))} %` : ""}</button>
      <span class="soft">${one.inception_s.toFixed(3)} s, ${one.angle_deg.toFixed(0)} deg${one.resistance_ohm ? ", " + shown(one.resistance_ohm, "ohm") : ""}</span>
      <table>${one.verdicts.map((v) => html`<tr class=${v.passed ? "good" : "bad"}><td>${v.passed ? "+" : "x"} ${v.expectation}</td><td>${v.measured}</td><td>${v.expected}</td></tr>`)}</table></li>`)}</ol>`;
  }
}
