// Trials and programmes: chosen, carried out, verdicts as they come; records and reports of what is kept.
import { html, Component } from "/page/standalone.module.js";
import { download, get, openPage, post } from "/page/api.js";
import { attempt, on, state } from "/page/store.js";

export class Trials extends Component {
  state = { chosen: new Set(), place: true, free: true, results: [], open: null };
  componentDidMount() {
    this.offs = [on("work", () => { this.setState({}); if (state.work.state !== "running") this.load(); }), on("case", () => this.setState({ chosen: new Set() })), on("state", () => this.load())];
    this.load();
  }
  componentWillUnmount() { for (const off of this.offs) off(); }
  load = attempt(async () => { this.setState({ results: (await get("/results")).results }); });
  begin = attempt(async (kind) => {
    const body = {};
    if (this.state.place) body.place = "plant";
    if (this.state.free) body.free = true;
    if (kind === "test" && this.state.chosen.size) body.trials = [...this.state.chosen];
    await post(`/cases/${encodeURIComponent(state.name)}/${kind}`, body);
  });
  render(_, { chosen, place, free, results, open }) {
    const { work } = state;
    const running = work.state === "running", busy = running || state.run.state === "running" || state.run.state === "starting";
    const toggle = (name) => { const next = new Set(chosen); if (!next.delete(name)) next.add(name); this.setState({ chosen: next }); };
    const of = new Map((work.case === state.name ? work.results : []).map((r) => [r.name, r]));
    return html`<main class="trials">
      <section class="panel"><div class="row"><b>Trials of ${state.name}</b><span class="grow"></span>
          <label><input type="checkbox" checked=${place} onChange=${(e) => this.setState({ place: e.target.checked })} /> devices here</label>
          <label><input type="checkbox" checked=${free} onChange=${(e) => this.setState({ free: e.target.checked })} /> free</label></div>
        <div class="row"><button id="run-trials" class="strong" disabled=${busy || !state.about.trials.length} onClick=${() => this.begin("test")}>${chosen.size ? `carry out ${chosen.size}` : "carry out all"}</button>
          <button id="run-programme" disabled=${busy || !state.about.sweeps.length} onClick=${() => this.begin("programme")} title=${state.about.sweeps.length ? state.about.sweeps.join(", ") : "the case has no sweeps"}>the programme</button>
          <button disabled=${!running} onClick=${attempt(() => post("/work/stop"))}>stop</button>
          ${running && html`<progress max=${work.of || 1} value=${work.done}></progress> ${work.done} of ${work.of}`}
          ${work.failure && html`<span class="bad">${work.failure}</span>`}</div>
        <table class="list"><tr><th></th><th>trial</th><th>fault</th><th>verdict</th></tr>${state.about.trials.map((t) => {
          const r = of.get(t.name);
          return html`<tr><td><input type="checkbox" aria-label=${t.name} checked=${chosen.has(t.name)} onChange=${() => toggle(t.name)} /></td><td>${t.name}</td>
            <td class="soft">${t.fault ? `${t.fault.phases} on ${t.fault.on}${t.fault.at !== null ? ` at ${Number((100 * t.fault.at).toFixed(2))} %` : ""}` : "-"}</td>
            <td class=${r ? (r.passed ? "good" : "bad") : ""}>${r ? (r.passed ? "+ pass" : "x FAIL") : ""}</td></tr>`;
        })}</table></section>
      <section class="panel"><b>Verdicts</b>
        ${work.results.length === 0 && html`<p class="soft">Nothing has been carried out since this engine began.</p>`}
        <div class="scroll"><table class="list" id="verdicts">${[...work.results].reverse().map((r) => html`<tr class="head"><td colspan="4" class=${r.passed ? "good" : "bad"}>${r.passed ? "+" : "x"} ${r.name}${r.failure ? ": " + r.failure : ""}
            ${work.result && r.record && html`<button onClick=${attempt(() => download(`/results/${work.result}/records/${encodeURIComponent(r.record)}`, {}, r.record + ".zip"))}>record</button>`}</td></tr>
          ${r.verdicts.map((v) => html`<tr class=${v.passed ? "" : "bad"}><td>${v.expectation}</td><td>${v.measured}</td><td class="soft">${v.expected}</td><td class="soft">${v.margin}</td></tr>`)}`)}</table></div></section>
      <section class="panel"><b>What is kept</b><div class="scroll"><table class="list" id="results"><tr><th>no.</th><th>what</th><th>case</th><th>when</th><th></th></tr>
        ${results.map((r) => html`<tr><td>${Number(r.id)}</td><td>${r.kind === "run" ? `run, ${r.time_s.toFixed(2)} s` : `${r.kind}: ${r.passed} of ${r.of}${r.interrupted ? ", interrupted" : ""}`}${r.failure ? ", " + r.failure : ""}</td><td>${r.case}</td>
          <td class="soft">${new Date(r.at_utc_ns / 1e6).toISOString().slice(0, 19).replace("T", " ")}</td>
          <td>${r.report && html`<button onClick=${attempt(() => openPage(`/results/${r.id}/files/${r.report}`))}>report</button>`}
            ${typeof r.record === "string" && html`<button onClick=${attempt(() => download(`/results/${r.id}/records/${r.record}`, {}, r.case + ".zip"))}>record</button>`}</td></tr>`)}</table></div></section>
    </main>`;
  }
}
