// Real time: how long steps take, how late they begin, why some end late; what ports count; memory.
import { html, Component } from "/page/standalone.module.js";
import { get } from "/page/api.js";
import { colours, on, state } from "/page/store.js";

function Histogram({ title, classes, step_us, colour }) {
  const W = 560, H = 210, m = { l: 44, r: 10, t: 10, b: 30 };
  const low = 0.01, high = 1e5;
  const x = (us) => m.l + (Math.log10(Math.max(us, low) / low) / Math.log10(high / low)) * (W - m.l - m.r);
  const total = classes.reduce((sum, [, count]) => sum + count, 0) || 1;
  const y = (count) => H - m.b - (Math.log10(Math.max(1, count)) / Math.log10(Math.max(10, total))) * (H - m.t - m.b);
  const quantile = (share) => { let seen = 0; for (const [edge, count] of classes) { seen += count; if (seen >= share * total) return edge; } return 0; };
  const us = (v) => (v >= 1000 ? (v / 1000).toPrecision(3) + " ms" : v.toPrecision(3) + " us");
  return html`<section class="panel"><div class="row"><b>${title}</b><span class="grow"></span><span class="soft">median ${us(quantile(0.5))}, 99.9 % ${us(quantile(0.999))}, most ${us(quantile(1))}</span></div>
    <svg viewBox=${`0 0 ${W} ${H}`}>
      ${[0.01, 0.1, 1, 10, 100, 1e3, 1e4, 1e5].map((t) => html`<line class="grid" x1=${x(t)} x2=${x(t)} y1=${m.t} y2=${H - m.b} /><text class="tick" x=${x(t)} y=${H - m.b + 14} text-anchor="middle">${t >= 1000 ? t / 1000 + " ms" : t + " us"}</text>`)}
      ${[1, 10, 100, 1e3, 1e4, 1e5, 1e6, 1e7].filter((n) => n <= 10 * total).map((n) => html`<text class="tick" x=${m.l - 4} y=${y(n) + 4} text-anchor="end">${n >= 1000 ? n / 1000 + " k" : n}</text>`)}
      ${classes.map(([edge, count]) => html`<rect x=${x(edge / 1.19)} y=${y(count)} width=${Math.max(2, x(edge) - x(edge / 1.19) - 0.5)} height=${Math.max(1, H - m.b - y(count))} fill=${colour}><title>up to ${us(edge)}: ${count}</title></rect>`)}
      ${step_us > 0 && html`<line class="zero" x1=${x(step_us)} x2=${x(step_us)} y1=${m.t} y2=${H - m.b} /><text class="tick" x=${x(step_us) + 3} y=${m.t + 10}>step ${us(step_us)}</text>`}
    </svg></section>`;
}

export class RealTime extends Component {
  state = { data: null, said: "" };
  componentDidMount() { this.timer = setInterval(() => this.poll(), 500); this.off = on("began", () => this.setState({ data: null })); this.poll(); }
  componentWillUnmount() { clearInterval(this.timer); this.off(); }
  async poll() {
    if (document.hidden) return;
    try { this.setState({ data: await get("/run/timing"), said: "" }); } catch (error) { this.setState({ said: error.message }); }
  }
  render(_, { data, said }) {
    if (!data) return html`<main class="timing"><p class="soft">${said || "Nothing has run yet."}</p></main>`;
    const ports = data.ports || [];
    return html`<main class="timing">
      <${Histogram} title="Work of a step" classes=${data.compute_us} step_us=${data.step_us} colour=${colours[0]} />
      <${Histogram} title="Begun behind its tick" classes=${data.lateness_us} step_us=${data.step_us} colour=${colours[4]} />
      <section class="panel"><b>Steps that ended late</b><table class="list" id="why"><tr><td>of ${data.steps.toLocaleString("en")}</td><td><b>${data.overruns.toLocaleString("en")}</b></td><td class="soft">the worst by ${data.worst_overrun_us.toFixed(0)} us</td></tr>
        ${Object.entries(data.why).map(([why, count]) => html`<tr><td>${why}</td><td>${count.toLocaleString("en")}</td><td></td></tr>`)}</table>
        <p class="soft">Memory of the engine: ${data.memory_MiB.toFixed(0)} MiB. ${state.run.bound ? "Somebody outside lives by the clock of this run." : "Nobody outside lives by the clock of this run."}</p></section>
      <section class="panel"><b>Ports</b>${ports.length === 0 ? html`<p class="soft">None that counts.</p>` : html`<div class="scroll"><table class="list"><tr><th>port</th><th>carries</th><th>sent</th><th>received</th><th>lost</th><th>late</th><th>refused</th></tr>
        ${ports.map((p) => html`<tr><td>${p.port}</td><td class="soft">${p.carries}</td><td>${p.sent}</td><td>${p.received}</td><td class=${p.lost ? "bad" : ""}>${p.lost}</td><td>${p.late}</td><td>${p.refused}</td></tr>`)}</table></div>`}</section>
    </main>`;
  }
}
