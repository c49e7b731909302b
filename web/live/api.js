// What the page asks of the engine. A token, where one is wanted, is kept for this tab alone.
let token = sessionStorage.getItem("token") || "";
let askForToken = () => {};

export function onTokenWanted(ask) { askForToken = ask; }
export function useToken(text) {
  token = text.trim();
  sessionStorage.setItem("token", token);
}
export function headers() { return token ? { Authorization: "Bearer " + token } : {}; }

export class EngineError extends Error {
  constructor(status, field, text) {
    super(field ? `${field}: ${text}` : text);
    this.status = status;
    this.field = field;
  }
}

async function checked(response) {
  if (response.ok) return response;
  let error = {};
  try { error = (await response.json()).error || {}; } catch (_) { /* no JSON: the status says it */ }
  if (response.status === 401) askForToken(error.text);
  throw new EngineError(response.status, error.field, error.text || `the engine answers ${response.status}`);
}

function query(fields) {
  const pairs = Object.entries(fields || {}).filter(([, value]) => value !== undefined && value !== null && value !== "");
  return pairs.length ? "?" + pairs.map(([k, v]) => `${k}=${encodeURIComponent(Array.isArray(v) ? v.join(",") : v)}`).join("&") : "";
}

/// GET with fields in the query.
export async function get(path, fields) {
  return (await checked(await fetch("/api/v1" + path + query(fields), { headers: headers() }))).json();
}
export async function post(path, body) {
  const response = await fetch("/api/v1" + path, {
    method: "POST", headers: { ...headers(), "Content-Type": "application/json" }, body: JSON.stringify(body || {}),
  });
  return (await checked(response)).json();
}
export async function text(path, fields) {
  return (await checked(await fetch("/api/v1" + path + query(fields), { headers: headers() }))).text();
}
/// A file of the engine, saved by the browser.
export async function download(path, fields, name) {
  const response = await checked(await fetch("/api/v1" + path + query(fields), { headers: headers() }));
  save(await response.blob(), name);
}
export function save(blob, name) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
/// A report, in a tab of its own.
export async function openPage(path) {
  const tab = window.open("", "_blank");
  const response = await checked(await fetch("/api/v1" + path, { headers: headers() }));
  const url = URL.createObjectURL(new Blob([await response.text()], { type: "text/html" }));
  if (tab) tab.location = url;
}

/// Server-sent events by fetch, which carries the token; begins again when the engine does.
export function follow(fields, take, lost) {
  const control = new AbortController();
  (async () => {
    while (!control.signal.aborted) {
      try {
        const response = await checked(await fetch("/api/v1/run/stream" + query(fields), { headers: headers(), signal: control.signal }));
        const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
        let rest = "";
        for (;;) {
          const { value, done } = await reader.read();
          if (done) break;
          rest += value;
          for (let end; (end = rest.indexOf("\n\n")) >= 0; rest = rest.slice(end + 2)) {
            const [kind, data] = rest.slice(0, end).split("\n");
            take(kind.slice(7), JSON.parse(data.slice(6)));
          }
        }
        lost("the engine has ended");
      } catch (error) {
        if (control.signal.aborted) return;
        lost(error instanceof EngineError ? error.message : "no answer from the engine");
      }
      await new Promise((r) => setTimeout(r, 700));
    }
  })();
  return () => control.abort();
}
