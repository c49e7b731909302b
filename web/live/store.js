// What all parts of the page know, and who wants to hear of it.
const listeners = new Map();

export const state = {
  engine: { cases: [] },   // what is loaded
  name: "",                // case in view
  about: null,             // what it has
  diagram: null,
  planes: [],
  board: { panels: [] },
  run: { state: "stopped", case: null, time_s: 0 },
  work: { state: "idle", results: [] },
  events: [],              // of the run, the oldest first
  acts: [],
  values: { signals: {}, on: {} },
  trouble: "",
};

export function on(kind, take) {
  if (!listeners.has(kind)) listeners.set(kind, new Set());
  listeners.get(kind).add(take);
  return () => listeners.get(kind).delete(take);
}
export function tell(kind, data) { for (const take of listeners.get(kind) || []) take(data); }

/// Does it, and says what went wrong.
export function attempt(action) {
  return async (...words) => {
    try {
      trouble("");
      return await action(...words);
    } catch (error) {
      trouble(error.message);
      return undefined;
    }
  };
}
export function trouble(text) {
  state.trouble = text;
  tell("trouble", text);
}

/// Of an axis: as many digits as tell neighbours apart, one prefix for all.
export function marks(ticks, unit) {
  const most = Math.max(...ticks.map(Math.abs)), step = ticks.length > 1 ? Math.abs(ticks[1] - ticks[0]) : most;
  return ticks.map((t) => shown(Math.abs(t) < step / 1e6 ? 0 : t, unit, Math.max(4, Math.ceil(Math.log10(most / step || 1)) + 2)));
}

/// "12.3 kV" of a number in SI units.
export function shown(value, unit, digits = 4) {
  if (value === null || value === undefined || !Number.isFinite(value)) return "-";
  const plain = ["", "deg", "%", "s", "ms"].includes(unit) || !unit;
  if (plain || value === 0) return Number(value.toPrecision(digits)) + (unit ? " " + unit : "");
  const power = Math.max(-2, Math.min(3, Math.floor(Math.log10(Math.abs(value)) / 3)));
  const prefix = { "-2": "u", "-1": "m", 0: "", 1: "k", 2: "M", 3: "G" }[power];
  return Number((value / 10 ** (3 * power)).toPrecision(digits)) + " " + prefix + unit;
}

/// Told apart by those who see colours otherwise too: by brightness, and by the dash.
export const colours = matchMedia("(prefers-color-scheme: dark)").matches
  ? ["#4aa3df", "#ff8c42", "#3cc49a", "#e79bc6", "#f0c040", "#8fd3f5", "#b5b5b5", "#c9a26b"]
  : ["#0072b2", "#d55e00", "#009e73", "#cc79a7", "#e69f00", "#56b4e9", "#7f7f7f", "#8c6d31"];
export const dashes = [[], [], [], [6, 3], [6, 3], [6, 3], [2, 3], [2, 3]];
export const runs = () => state.run.case === state.name && (state.run.state === "running" || state.run.state === "starting");
