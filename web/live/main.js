// The page of an engine: what stands at the top, and the views below.
import { html, render, Component } from "/page/standalone.module.js";
import { follow, get, onTokenWanted, post, useToken } from "/page/api.js";
import { attempt, on, runs, state, tell, trouble } from "/page/store.js";
import { Diagram } from "/page/diagram.js";
import { Scopes } from "/page/scopes.js";
import { Faults } from "/page/faults.js";
import { Switches, Knobs } from "/page/knobs.js";
import { Planes } from "/page/planes.js";
import { Trials } from "/page/trials.js";
import { RealTime } from "/page/timing.js";
import { Board } from "/page/board.js";

const most_events = 2000;
const views = { work: "Work", planes: "Planes", trials: "Trials", timing: "Real time", board: "Board" };

async function loadCase(name) {
  state.name = name;
  const path = "/cases/" + encodeURIComponent(name);
  [state.about, state.diagram, state.planes, state.board] = await Promise.all(
    [get(path), get(path + "/diagram"), get(path + "/planes"), get(path + "/page")]);
  tell("case");
}

async function look() {
  state.engine = await get("/engine");
  if (state.engine.run) state.run = state.engine.run;
  const names = state.engine.cases.map((c) => c.name);
  const wanted = names.includes(state.name) ? state.name : state.run.case || names[0] || "";
  if (wanted) await loadCase(wanted);
  tell("engine");
}

const retake = attempt(look);

function take(kind, data) {
  if (kind === "status") {
    const before = state.run;
    state.run = data;
    if (before.state !== data.state || before.case !== data.case) tell("state");
    tell("status");
  } else if (kind === "began") {
    state.events = [];
    tell("began", data);
    // What was made ready may be other than before: places of faults, and with them signals.
    if (data.case === state.name || !state.name) retake();
  } else if (kind === "events") {
    state.events.push(...data);
    if (state.events.length > most_events) state.events.splice(0, state.events.length - most_events);
    tell("events", data);
  } else if (kind === "acts") {
    state.acts.push(...data);
    if (state.acts.length > 300) state.acts.splice(0, state.acts.length - 300);
    tell("acts");
  } else if (kind === "values") {
    state.values = data;
    tell("values");
  } else if (kind === "work") {
    state.work = data;
    tell("work");
  } else if (kind === "error") trouble(data.text);
}

class Head extends Component {
  componentDidMount() {
    for (const kind of ["status", "engine", "case", "lost", "work"]) on(kind, () => this.setState({}));
  }
  start = attempt(async () => {
    const body = {};
    const length = this.length.value.trim();
    if (length) body.for = length;
    if (this.plant.checked) body.place = "plant";
    if (this.free.checked) body.free = true;
    await post("/cases/" + encodeURIComponent(state.name) + "/start", body);
  });
  render() {
    const { run, engine } = state;
    const going = run.state === "running" || run.state === "starting";
    const what = !run.case ? "nothing runs" : `${run.case}: ${run.again_until_s ? "again, " : ""}${run.state}`;
    return html`<header>
      <h1>Zavrek</h1>
      <label>case <select id="case" value=${state.name} onChange=${(e) => attempt(loadCase)(e.target.value)}>
        ${engine.cases.map((c) => html`<option value=${c.name}>${c.name}</option>`)}</select></label>
      <label>for <input id="for" size="6" placeholder="no end" ref=${(n) => (this.length = n)} /></label>
      <label title="all devices in the plant's process: nobody outside lives by the clock"><input type="checkbox" id="plant" ref=${(n) => (this.plant = n)} /> devices here</label>
      <label title="as fast as it goes"><input type="checkbox" id="free" ref=${(n) => (this.free = n)} /> free</label>
      <button id="start" onClick=${this.start} disabled=${going}>start</button>
      <button id="stop" onClick=${attempt(() => post("/run/stop"))} disabled=${!going}>stop</button>
      <button id="restart" onClick=${attempt(() => post("/run/restart"))} disabled=${!run.case}>again</button>
      <span id="state" role="status" class=${run.failure ? "bad" : ""}>${state.lost || html`${what} <b>${(run.time_s || 0).toFixed(2)} s</b>${run.late_steps ? `, ${run.late_steps} steps late` : ""}${run.failure ? ", " + run.failure : ""}`}</span>
    </header>`;
  }
}

class Trouble extends Component {
  componentDidMount() { on("trouble", () => this.setState({})); }
  render() {
    return state.trouble && html`<p id="trouble" role="alert">${state.trouble} <button aria-label="seen" onClick=${() => trouble("")}>seen</button></p>`;
  }
}

class Token extends Component {
  state = { wanted: "" };
  componentDidMount() { onTokenWanted((why) => this.setState({ wanted: why || "a token is wanted" })); }
  render(_, { wanted }) {
    if (!wanted) return null;
    const use = (e) => {
      e.preventDefault();
      useToken(this.box.value);
      this.setState({ wanted: "" });
      trouble("");
      begin();
    };
    return html`<form id="token" class="row" onSubmit=${use}><label>${wanted}: <input type="password" ref=${(n) => (this.box = n)} size="36" autofocus /></label><button>use it</button></form>`;
  }
}

class Events extends Component {
  componentDidMount() {
    for (const kind of ["events", "began", "acts"]) on(kind, () => this.setState({}));
  }
  render() {
    const all = [...state.events.map((e) => ({ at: e.time_s, text: e.text })),
      ...state.acts.filter((a) => state.run.case).map((a) => ({ at: a.time_s, text: a.text, who: a.who }))]
      .sort((a, b) => b.at - a.at).slice(0, 150);
    return html`<ol id="events" aria-live="off">${all.map((e) => html`<li class=${e.who ? "act" : ""} title=${e.who || ""}>
      <time>${e.at.toFixed(4)} s</time> ${e.text}</li>`)}</ol>`;
  }
}

class Side extends Component {
  state = { tab: "fault" };
  render(_, { tab }) {
    const tabs = { fault: "Fault", switches: "Switches", knobs: "Knobs", events: "Events" };
    return html`<aside class="panel">
      <div class="tabs" role="tablist">${Object.entries(tabs).map(([id, says]) => html`<button role="tab" id=${"tab-" + id}
        aria-selected=${tab === id} onClick=${() => this.setState({ tab: id })}>${says}</button>`)}</div>
      <div class="scroll">${tab === "fault" ? html`<${Faults} />` : tab === "switches" ? html`<${Switches} />`
        : tab === "knobs" ? html`<${Knobs} />` : html`<${Events} />`}</div>
      <${BackBar} />
    </aside>`;
  }
}

/// Back to an instant, and the run as a trial or a record. What is kept of the run stands along a slider.
class BackBar extends Component {
  state = { to: "", kept: [] };
  componentDidMount() {
    this.off = on("status", () => this.setState({}));
    this.timer = setInterval(() => this.look(), 2000);
    this.look();
  }
  componentWillUnmount() { this.off(); clearInterval(this.timer); }
  async look() {
    if (document.hidden || !state.run.case || state.run.bound) return;
    try { this.setState({ kept: (await get("/run/back")).instants_s }); } catch { this.setState({ kept: [] }); }
  }
  render(_, { to, kept }) {
    const now = state.run.time_s || 0;
    const nearest = (t) => kept.reduce((best, one) => (Math.abs(one - t) < Math.abs(best - t) ? one : best), kept[0]);
    const back = attempt(async () => { await post("/run/back", { to: to.match(/[a-z]/i) ? to : to + " s" }); });
    return html`<div class="row foot">
      <label>back to <input id="back-to" size="6" value=${to} placeholder="1.5 s" onInput=${(e) => this.setState({ to: e.target.value })} /></label>
      ${kept.length > 1 && html`<input id="back-along" type="range" min="0" max=${now} step="any" list="kept" aria-label="kept instants" style="width:90px"
        title=${`${kept.length} states are kept, sparser the longer ago; it goes through the time behind them again`}
        value=${to ? parseFloat(to) : now} onInput=${(e) => this.setState({ to: nearest(Number(e.target.value)).toFixed(3) })} />
        <datalist id="kept">${kept.map((t) => html`<option value=${t} />`)}</datalist>`}
      <button id="back" onClick=${back} disabled=${!state.run.case || state.run.bound || !to}
        title=${state.run.bound ? "somebody outside lives by the clock of this run" : "the same again up to there, and on from there"}>go back</button>
      <button id="save-trial" onClick=${attempt(async () => { const { text, save } = await import("/page/api.js"); save(new Blob([await text("/run/trial")]), "trial.toml"); })} disabled=${!state.run.case}>as a trial</button>
      <button id="save-record" onClick=${attempt(async () => { const { download } = await import("/page/api.js"); await download("/run/capture", { seconds: 10 }, "capture.zip"); })} disabled=${!state.run.case}
        title="the latest seconds at the full rate, as COMTRADE">record</button></div>`;
  }
}

class Page extends Component {
  state = { view: (location.hash || "#work").slice(1) };
  componentDidMount() {
    on("case", () => this.setState({}));
    window.onhashchange = () => this.setState({ view: location.hash.slice(1) || "work" });
  }
  render(_, { view }) {
    const at = views[view] ? view : "work";
    return html`<${Head} /><${Token} /><${Trouble} />
      <nav>${Object.entries(views).map(([id, says]) => html`<a href=${"#" + id} aria-current=${at === id ? "page" : undefined}>${says}</a>`)}
        <span class="title">${state.about ? state.about.title : ""}</span></nav>
      ${!state.about ? html`<p class="empty">No case is loaded. Send one: <code>zavrek target send FOLDER</code></p>`
        : at === "work" ? html`<main class="work"><${Diagram} /><${Scopes} /><${Side} /></main>`
        : at === "planes" ? html`<${Planes} />` : at === "trials" ? html`<${Trials} />`
        : at === "timing" ? html`<${RealTime} />` : html`<${Board} />`}`;
  }
}

let ending = null;
function begin() {
  if (ending) ending();
  retake();
  let was_lost = false;
  ending = follow({ values: true }, (kind, data) => {
    if (was_lost) { was_lost = false; retake(); }
    if (state.lost) { state.lost = ""; tell("lost"); }
    take(kind, data);
  }, (why) => { was_lost = true; state.lost = why; tell("lost"); });
}

render(html`<${Page} />`, document.getElementById("page"));
begin();
window.zavrek = { state, runs };
