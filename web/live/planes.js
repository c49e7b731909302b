// What relays see: impedances among their zones, differential against restraint; phasors, sequence values, spectrum.
import { html, Component } from "/page/standalone.module.js";
import { get } from "/page/api.js";
import { colours, dashes, shown, state } from "/page/store.js";

const poll_ms = 200;
const loops = ["AG", "BG", "CG", "AB", "BC", "CA"];

/// Asks again and again while it can be seen; what it says of trouble stays below the drawing.
class Polled extends Component {
  state = { data: null, said: "" };
  componentDidMount() { this.timer = setInterval(() => this.poll(), poll_ms); }
  componentWillUnmount() { clearInterval(this.timer); }
  async poll() {
    if (this.busy || this.state.held || document.hidden || state.run.case !== state.name) return;
    this.busy = true;
    try { this.setState({ data: await this.ask(), said: "" }); } catch (error) { this.setState({ said: error.message }); }
    this.busy = false;
  }
}

const Hold = ({ of }) => html`<button aria-pressed=${!!of.state.held} onClick=${() => of.setState({ held: !of.state.held })}>${of.state.held ? "go on" : "hold"}</button>`;

/// Least, greatest and a round step for an axis.
function ticks(low, high) {
  const raw = (high - low) / 6, power = 10 ** Math.floor(Math.log10(raw || 1));
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= raw) || raw;
  const list = [];
  for (let t = Math.ceil(low / step) * step; t <= high + step / 1e6; t += step) list.push(Number(t.toPrecision(10)));
  return list;
}

class Plane extends Polled {
  state = { data: null, said: "", seconds: 0.5, earth: true };
  ask() { return get("/run/trajectory", { device: this.props.device.name, seconds: this.state.seconds }); }
  render({ device }, { data, said, seconds, earth }) {
    const impedance = device.zones.length > 0;
    const W = 520, H = 400, m = { l: 52, r: 12, t: 12, b: 34 };
    const outlines = impedance ? device.zones.filter((z) => z[earth ? "earth" : "phase"]).map((z) => ({ name: z.name, points: z[earth ? "earth" : "phase"] }))
      : device.differentials.map((d) => ({ name: d.name, points: d.threshold }));
    const all = outlines.flatMap((o) => o.points);
    let low = [Math.min(0, ...all.map((p) => p[0])), Math.min(0, ...all.map((p) => p[1]))], high = [Math.max(...all.map((p) => p[0])), Math.max(...all.map((p) => p[1]))];
    const pad = [0.12 * (high[0] - low[0]), 0.12 * (high[1] - low[1])];
    low = [low[0] - (impedance ? pad[0] : 0), low[1] - (impedance ? pad[1] : 0)];
    high = [high[0] + pad[0], high[1] + pad[1]];
    if (impedance) { // one ohm is as long either way
      const scale = Math.max((high[0] - low[0]) / (W - m.l - m.r), (high[1] - low[1]) / (H - m.t - m.b));
      const grow = (k, size) => { const more = (scale * size - (high[k] - low[k])) / 2; low[k] -= more; high[k] += more; };
      grow(0, W - m.l - m.r); grow(1, H - m.t - m.b);
    }
    const x = (v) => m.l + ((v - low[0]) / (high[0] - low[0])) * (W - m.l - m.r);
    const y = (v) => H - m.b - ((v - low[1]) / (high[1] - low[1])) * (H - m.t - m.b);
    const names = impedance ? loops.filter((l) => (earth ? l.endsWith("G") : !l.endsWith("G"))) : ["A", "B", "C"];
    const inside = (p) => p && p[0] >= low[0] && p[0] <= high[0] && p[1] >= low[1] && p[1] <= high[1];
    const ways = data && data.plane === (impedance ? "impedance" : "differential") ? data.ways : {};
    return html`<section class="panel plane"><div class="row"><b>${device.name}: ${impedance ? "impedances and zones (primary ohm)" : "differential over restraint (of rated)"}</b><span class="grow"></span>
        ${impedance && html`<select aria-label="loops" value=${earth ? "earth" : "phase"} onChange=${(e) => this.setState({ earth: e.target.value === "earth" })}><option value="earth">loops to earth</option><option value="phase">loops between phases</option></select>`}
        <select aria-label="how much" value=${seconds} onChange=${(e) => this.setState({ seconds: Number(e.target.value) })}>${[0.2, 0.5, 1, 2, 5].map((s) => html`<option value=${s}>${s} s</option>`)}</select><${Hold} of=${this} /></div>
      <svg viewBox=${`0 0 ${W} ${H}`}>
        ${ticks(low[0], high[0]).map((t) => html`<line class="grid" x1=${x(t)} x2=${x(t)} y1=${m.t} y2=${H - m.b} /><text class="tick" x=${x(t)} y=${H - m.b + 14} text-anchor="middle">${t}</text>`)}
        ${ticks(low[1], high[1]).map((t) => html`<line class="grid" x1=${m.l} x2=${W - m.r} y1=${y(t)} y2=${y(t)} /><text class="tick" x=${m.l - 6} y=${y(t) + 4} text-anchor="end">${t}</text>`)}
        <line class="zero" x1=${x(0)} x2=${x(0)} y1=${m.t} y2=${H - m.b} /><line class="zero" x1=${m.l} x2=${W - m.r} y1=${y(0)} y2=${y(0)} />
        ${outlines.map((o, k) => html`<polyline class="zone" stroke-dasharray=${["", "7 3", "2 3"][k % 3]} points=${o.points.map((p) => `${x(p[0])},${y(p[1])}`).join(" ")} />
          <text class="tick" x=${x(o.points[Math.floor(o.points.length / 2)][0]) + 4} y=${y(o.points[Math.floor(o.points.length / 2)][1]) - 4}>${o.name}</text>`)}
        ${names.map((name, k) => {
          const way = ways[name] || [];
          const parts = [[]];
          for (const p of way) if (inside(p)) parts[parts.length - 1].push(p); else if (parts[parts.length - 1].length) parts.push([]);
          const last = way[way.length - 1];
          return html`${parts.map((part) => html`<polyline fill="none" stroke=${colours[k]} stroke-width="1.6" points=${part.map((p) => `${x(p[0])},${y(p[1])}`).join(" ")} />`)}
            ${inside(last) && html`<circle cx=${x(last[0])} cy=${y(last[1])} r="4" fill=${colours[k]} /><text x=${x(last[0]) + 6} y=${y(last[1]) - 5} class="tick">${name}</text>`}`;
        })}
      </svg>
      <div class="reading">${said || names.map((name, k) => {
        const way = ways[name] || [], last = way[way.length - 1];
        return html`<span class="key" style=${"color:" + colours[k]}>${name}</span> ${last ? (impedance ? `${last[0].toFixed(2)} + j${last[1].toFixed(2)} ohm` : `${last[1].toFixed(3)} at ${last[0].toFixed(3)}`) : "-"}${inside(last) || !last ? "" : " (outside)"} `;
      })}</div></section>`;
  }
}

class Phasors extends Polled {
  names() { return this.props.stems.flatMap((s) => ["a", "b", "c"].map((p) => s + p)).filter((n) => state.about.signals.some((s) => s.name === n)); }
  ask() { return get("/run/phasors", { signals: this.names() }); }
  render(_, { data, said }) {
    const R = 150, c = 170;
    const all = data ? data.phasors : [];
    const most = {};
    for (const p of all) most[p.unit] = Math.max(most[p.unit] || 1e-9, p.rms);
    return html`<section class="panel phasors"><div class="row wide-row"><b>Phasors</b><span class="grow"></span><${Hold} of=${this} /></div>
      <svg viewBox="0 0 340 340"><circle cx=${c} cy=${c} r=${R} class="grid" fill="none" /><circle cx=${c} cy=${c} r=${R / 2} class="grid" fill="none" />
        <line class="grid" x1=${c - R} x2=${c + R} y1=${c} y2=${c} /><line class="grid" y1=${c - R} y2=${c + R} x1=${c} x2=${c} />
        ${all.map((p, k) => {
          const r = (p.unit === "V" ? 1 : 0.72) * R * (p.rms / most[p.unit]), a = (p.angle_deg * Math.PI) / 180;
          const x = c + r * Math.cos(a), y = c - r * Math.sin(a);
          const wing = (t) => `${x - 8 * Math.cos(a + t)},${y + 8 * Math.sin(a + t)}`;
          return html`<line x1=${c} y1=${c} x2=${x} y2=${y} stroke=${colours[k % colours.length]} stroke-width="2" stroke-dasharray=${dashes[k % dashes.length].join(" ")} /><polygon fill=${colours[k % colours.length]} points=${`${x},${y} ${wing(0.35)} ${wing(-0.35)}`} /><text class="tick" x=${x + 5} y=${y - 5}>${p.name}</text>`;
        })}</svg>
      <table class="numbers"><tr><th>signal</th><th>rms</th><th>angle</th></tr>
        ${all.map((p, k) => html`<tr><td style=${"color:" + colours[k % colours.length]}>${p.name}</td><td>${shown(p.rms, p.unit)}</td><td>${p.angle_deg.toFixed(1)} deg</td></tr>`)}
        ${(data ? data.sequences : []).flatMap((s) => ["positive", "negative", "zero"].map((q) => html`<tr><td>${s.stem}: ${q}</td><td>${shown(s[q].rms, /\.i$/.test(s.stem) ? "A" : "V")}</td><td>${s[q].rms > 1e-6 * Math.max(s.positive.rms, 1e-9) ? s[q].angle_deg.toFixed(1) + " deg" : "-"}</td></tr>`))}</table>
      <div class="reading">${said}</div></section>`;
  }
}

class Spectrum extends Polled {
  state = { data: null, said: "", signal: this.props.first };
  ask() { return get("/run/spectrum", { signal: this.state.signal, cycles: 10 }); }
  render(_, { data, said, signal }) {
    const W = 520, H = 190, m = { l: 46, b: 24, t: 10 };
    const one = data && data.signal === signal ? data : null;
    const unit = (state.about.signals.find((s) => s.name === signal) || {}).unit;
    const most = one ? Math.max(...one.rms, 1e-12) : 1;
    return html`<section class="panel spectrum"><div class="row"><b>Spectrum</b><select aria-label="signal" value=${signal} onChange=${(e) => this.setState({ signal: e.target.value })}>${state.about.signals.map((s) => html`<option value=${s.name}>${s.name}</option>`)}</select>
        <span class="grow"></span>${one && one.distortion !== null && html`total distortion ${(100 * one.distortion).toFixed(2)} %`}<${Hold} of=${this} /></div>
      <svg viewBox=${`0 0 ${W} ${H}`}>
        ${[0.01, 0.1, 1].map((share) => { const y = H - m.b - ((Math.log10(share) + 3) / 3) * (H - m.b - m.t); return html`<line class="grid" x1=${m.l} x2=${W} y1=${y} y2=${y} /><text class="tick" x=${m.l - 4} y=${y + 4} text-anchor="end">${100 * share} %</text>`; })}
        ${(one ? one.rms : []).map((v, h) => {
          const height = Math.max(0, (Math.log10(Math.max(v / most, 1e-3)) + 3) / 3) * (H - m.b - m.t);
          const x = m.l + 8 + h * ((W - m.l - 8) / 26);
          return html`<rect x=${x} y=${H - m.b - height} width="12" height=${height} fill=${colours[0]}><title>${h}: ${shown(v, unit)}</title></rect>${h % 5 === 0 && html`<text class="tick" x=${x + 6} y=${H - 8} text-anchor="middle">${h}</text>`}`;
        })}</svg><div class="reading">${said || (one ? `fundamental ${shown(one.rms[1], unit)}, mean ${shown(one.rms[0], unit)}; bars: share of the greatest` : "")}</div></section>`;
  }
}

export class Planes extends Component {
  state = { stems: null };
  render(_, { stems }) {
    const with_signals = state.planes.filter((d) => d.signals.length);
    const known = [...new Set(state.about.signals.filter((s) => /[.]?[vi][abc]$/.test(s.name) && !s.name.startsWith("fault@")).map((s) => s.name.slice(0, -1)))]
      .filter((s) => ["a", "b", "c"].every((p) => state.about.signals.some((x) => x.name === s + p)));
    const first = stems || (with_signals[0] ? [with_signals[0].signals[0].voltage, with_signals[0].signals[0].current] : [known.find((s) => /v$/.test(s)), known.find((s) => /i$/.test(s))]).filter((s) => known.includes(s));
    const pick = (k) => (e) => { const next = [...first]; next[k] = e.target.value; this.setState({ stems: next }); };
    return html`<main class="planes">
      ${with_signals.map((d) => html`<${Plane} key=${d.name} device=${d} />`)}
      <div><div class="row">${[0, 1].map((k) => first[k] && html`<select aria-label="three phases" value=${first[k]} onChange=${pick(k)}>${known.map((s) => html`<option value=${s}>${s}</option>`)}</select>`)}</div>
      <${Phasors} key=${first.join()} stems=${first} /></div>
      ${state.about.signals.length > 0 && html`<${Spectrum} first=${(first[1] || first[0] || "") + "a" in Object.fromEntries(state.about.signals.map((s) => [s.name, 1])) ? (first[1] || first[0]) + "a" : state.about.signals[0].name} />`}
      ${with_signals.length === 0 && html`<p class="soft">No relay of this case has zones or a differential.</p>`}
    </main>`;
  }
}
