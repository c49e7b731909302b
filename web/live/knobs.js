// Switches and knobs: all that can be operated and set, grouped by what it belongs to.
import { html, Component } from "/page/standalone.module.js";
import { get, post, save } from "/page/api.js";
import { attempt, on, runs, shown, state, trouble } from "/page/store.js";

const owner = (name) => name.split(".")[0];
const hidden = (name) => name.startsWith("fault@");

export class Switches extends Component {
  componentDidMount() { this.offs = [on("values", () => this.setState({})), on("case", () => this.setState({})), on("state", () => this.setState({}))]; }
  componentWillUnmount() { for (const off of this.offs) off(); }
  operate = attempt(async (name, closed) => {
    const answer = await post("/run/ask", { what: name, value: closed ? 0 : 1 });
    if (answer.outcome === "refused") trouble(`${name}: ${answer.text}`);
  });
  render() {
    const all = state.about.asks.filter((a) => a.operated && !hidden(a.name));
    const going = runs();
    return html`<div class="switches">${all.map((a) => {
      const closed = a.name in state.values.on ? state.values.on[a.name] : a.initial > 0.5;
      return html`<button class=${closed ? "is-on" : "is-off"} disabled=${!going} aria-pressed=${closed} data-name=${a.name} onClick=${() => this.operate(a.name, closed)}>
        ${a.name} <small>${a.name.startsWith("bench.") ? (closed ? "on" : "off") : closed ? "closed" : "open"}</small></button>`;
    })}</div>`;
  }
}

/// How a value is written into a field: with the prefix that reads best.
const digits = (value, unit) => shown(value, unit, 6);

export class Knobs extends Component {
  state = { knobs: [], find: "", ramp: "", changed: false };
  componentDidMount() {
    this.offs = [on("acts", () => this.load()), on("began", () => this.load()), on("case", () => this.load())];
    this.load();
  }
  componentWillUnmount() { for (const off of this.offs) off(); }
  async load() {
    if (!runs()) {
      return this.setState({ knobs: state.about.asks.filter((a) => !a.operated).map((a) => ({ ...a, present: a.initial })) });
    }
    try { this.setState({ knobs: (await get("/run/knobs")).knobs }); } catch (_) { /* it has just ended */ }
  }
  turn = attempt(async (knob, text) => {
    const value = typeof text === "string" && (/[a-z%]/i.test(text) || !knob.unit) ? text : Number(text);
    const body = { what: knob.name, value: typeof value === "string" && !Number.isNaN(Number(value)) ? Number(value) : value };
    const ramp = this.state.ramp.trim();
    if (ramp) body.over = /[a-z]/i.test(ramp) ? ramp : ramp + " s";
    await post("/run/ask", body);
    this.load();
  });
  reset = attempt(async () => {
    for (const k of this.state.knobs) if (k.initial !== null && k.present !== k.initial) await post("/run/ask", { what: k.name, value: k.initial });
    this.load();
  });
  patch = attempt(async () => { save(new Blob([JSON.stringify(await get("/run/patch"), null, 1) + "\n"]), "patch.json"); });
  render(_, { knobs, find, ramp, changed }) {
    const going = runs();
    const wanted = knobs.filter((k) => !hidden(k.name) && k.name.toLowerCase().includes(find.toLowerCase()) && (!changed || k.present !== k.initial));
    const groups = new Map();
    for (const k of wanted) groups.set(owner(k.name), [...(groups.get(owner(k.name)) || []), k]);
    const differs = knobs.filter((k) => k.initial !== null && k.present !== k.initial).length;
    return html`<div class="row"><input size="8" placeholder="find" aria-label="find a knob" value=${find} onInput=${(e) => this.setState({ find: e.target.value })} />
        <label>within <input id="ramp" size="5" placeholder="at once" value=${ramp} onInput=${(e) => this.setState({ ramp: e.target.value })} /></label></div>
      <div class="row"><label><input type="checkbox" checked=${changed} onChange=${(e) => this.setState({ changed: e.target.checked })} /> changed (${differs})</label>
        <button onClick=${this.reset} disabled=${!going || !differs}>as the files say</button><button onClick=${this.patch} disabled=${!differs}>save changes</button></div>
      ${[...groups].map(([name, list]) => html`<fieldset class="knobs"><legend>${name}</legend>${list.map((k) => this.row(k, going))}</fieldset>`)}
      ${wanted.length === 0 && html`<p class="soft">${knobs.length ? "None of that name." : "This case has none."}</p>`}`;
  }
  row(k, going) {
    const name = k.name.slice(owner(k.name).length + 1) || k.name;
    const bounded = k.least !== null && k.greatest !== null;
    const differs = k.initial !== null && k.present !== k.initial;
    const is_flag = bounded && !k.unit && k.least === 0 && k.greatest === 1 && (k.present === 0 || k.present === 1);
    if (is_flag) return html`<label class=${differs ? "differs" : ""} title=${k.name}><span>${name}</span><input type="checkbox" data-knob=${k.name} disabled=${!going} checked=${k.present > 0.5} onChange=${(e) => this.turn(k, e.target.checked ? 1 : 0)} /></label>`;
    return html`<label class=${differs ? "differs" : ""} title=${`${k.name}: ${k.least === null ? "any" : digits(k.least, k.unit)} to ${k.greatest === null ? "any" : digits(k.greatest, k.unit)}; by the files ${digits(k.initial, k.unit)}`}>
      <span>${name}</span>
      ${bounded && k.greatest - k.least < 1e9 ? html`<input type="range" min=${k.least} max=${k.greatest} step=${(k.greatest - k.least) / 200} value=${k.present} disabled=${!going} tabindex="-1" aria-hidden="true" onChange=${(e) => this.turn(k, Number(e.target.value))} />` : html`<i></i>`}
      <input data-knob=${k.name} value=${k.present === null ? "" : digits(k.present, k.unit)} disabled=${!going} onChange=${(e) => this.turn(k, e.target.value)} /></label>`;
  }
}
