"""The engine as a script meets it: the standard library of Python, and nothing of ours."""
import atexit
import http.client
import shutil
import time
import urllib.error
import urllib.request

from harness import *

(scratch / "look").write_text("a token that may look\n")
(scratch / "act").write_text("a token that may act\n")


begun = []
atexit.register(lambda: [engine.kill() for engine in begun])


def begin(*words):
    engine = subprocess.Popen([tool, "serve", "--port", "0", *map(str, words)], cwd=scratch, stdout=subprocess.PIPE, text=True)
    begun.append(engine)
    line = engine.stdout.readline()
    expect(line.startswith("engine at http://127.0.0.1:"), line)
    return engine, line.split()[-1]


def ask(base, path, body=None, code=200, **headers):
    request = urllib.request.Request(base + path, data=None if body is None else (body if isinstance(body, bytes) else json.dumps(body).encode()))
    if body is not None:
        request.add_header("Content-Type", "application/json")
    for name, value in headers.items():
        request.add_header(name.replace("_", "-"), value)
    try:
        with urllib.request.urlopen(request, timeout=20) as response:
            status, text = response.status, response.read().decode()
    except urllib.error.HTTPError as error:
        status, text = error.code, error.read().decode()
    expect(status == code, f"{path}: {status}, wanted {code}\n{text[:500]}")
    return json.loads(text)


def until(truth, what, within_s=10):
    deadline = time.time() + within_s
    while not truth():
        expect(time.time() < deadline, what)
        time.sleep(0.05)


engine, base = begin(demo / "bay", demo / "veskar")
state = ask(base, "/api/v1/engine")
expect([c["name"] for c in state["cases"]] == ["bay", "veskar"] and state["run"]["case"] is None, state)
bay = ask(base, "/api/v1/cases/bay")
expect({"name": "VT1.va", "unit": "V"} in bay["signals"] and "Q1" in bay["points"], "signals and points")
expect(any(a["name"] == "Q1" and a["operated"] for a in bay["asks"]), "what is operated")

# Errors name the field and the cure.
has(ask(base, "/api/v1/cases/bai", code=404)["error"]["text"], "did you mean \"bay\"")
has(ask(base, "/api/v1/nothing", code=404)["error"]["text"], "openapi.json")
ask(base, "/api/v1/run/stop", code=405)
expect(ask(base, "/api/v1/cases/bay/start", {"fro": "1 s"}, code=400)["error"]["field"] == "fro", "field")
has(ask(base, "/api/v1/cases/bay/start", {"for": "1 V"}, code=400)["error"]["text"], "1 V")
ask(base, "/api/v1/cases/bay/start", {"for": 3}, code=400)
ask(base, "/api/v1/cases/bay/start", b"{", code=400)
ask(base, "/api/v1/run/values", code=409)

# A run, in the plant's process, locked to the clock: watched, operated, set.
ask(base, "/api/v1/cases/bay/start", {"place": "plant"})
ask(base, "/api/v1/cases/veskar/start", {}, code=409)
until(lambda: ask(base, "/api/v1/run")["time_s"] > 0.3, "it does not begin")
values = ask(base, "/api/v1/run/values?names=VT1.va,Q1")
expect(values["values"]["Q1"] is True and abs(values["values"]["VT1.va"]) < 200 and values["age_s"] < 0.5, values)
expect(ask(base, "/api/v1/run/ask", {"what": "bench.order_open", "value": 1})["outcome"] == "done", "asked")
wanted = {"bench.order_open closed", "MU1 open", "Q1 open", "Q1D b", "DR1 triggered off"}
until(lambda: wanted <= {e["text"] for e in ask(base, "/api/v1/run/events")["events"]}, f"{wanted} among the events")
events = ask(base, "/api/v1/run/events")
expect(ask(base, f"/api/v1/run/events?from={events['next']}")["events"] == [], "nothing new")
expect(ask(base, "/api/v1/run/values?names=Q1")["values"]["Q1"] is False, "the breaker is open")
expect(ask(base, "/api/v1/run/ask", {"what": "E1", "value": 1})["outcome"] == "done", "earthed")
time.sleep(0.3)
expect(ask(base, "/api/v1/run/ask", {"what": "Q1", "value": "1"})["outcome"] in ("done", "refused"), "asked")
has(ask(base, "/api/v1/run/ask", {"what": "Q1D.late", "value": "1 km"}, code=400)["error"]["text"], "1 km")
ask(base, "/api/v1/run/ask", {"what": "Q1D.late", "value": 100}, code=400)
ask(base, "/api/v1/run/ask", {"what": "Q7", "value": 1}, code=404)
traces = ask(base, "/api/v1/run/traces?signals=VT1.va,CT1.ia&seconds=0.2&pixels=100")
expect(len(traces["time_s"]) == 100 and [c["unit"] for c in traces["curves"]] == ["V", "A"], traces)
expect(max(traces["curves"][0]["greatest"]) > 85 and all(a <= b for a, b in zip(traces["curves"][0]["least"], traces["curves"][0]["greatest"])), "curves")

# The stream: ten pieces a second, of what is asked for; two viewers, of whom one sleeps, cost the run nothing.
host = base.split("//")[1]
sleeper = http.client.HTTPConnection(host, timeout=20)
sleeper.request("GET", "/api/v1/run/stream?signals=VT1.va")
watcher = http.client.HTTPConnection(host, timeout=20)
watcher.request("GET", "/api/v1/run/stream?signals=VT1.va,CT1.ia")
stream, kinds, deadline, pixels = watcher.getresponse(), {}, time.time() + 1.5, 0
while time.time() < deadline:
    line = stream.readline().decode().strip()
    if line.startswith("event: "):
        kind = line[7:]
        kinds[kind] = kinds.get(kind, 0) + 1
    elif line.startswith("data: ") and kind == "traces":
        pixels += len(json.loads(line[6:])["time_s"])
expect(kinds.get("traces", 0) >= 4 and kinds.get("status", 0) >= 4 and pixels > 200, f"{kinds}, {pixels} pixels")
# Forty may watch; the others are told.
crowd = []
for k in range(45):
    one = http.client.HTTPConnection(host, timeout=20)
    one.request("GET", "/api/v1/run/stream")
    crowd.append(one)
    if k >= 40:
        answer = one.getresponse()
        expect(answer.status == 503 and "too many watch" in json.loads(answer.read())["error"]["text"], answer.status)
for one in crowd:
    one.close()
until(lambda: ask(base, "/api/v1/run")["state"] == "running", "it goes on")
ask(base, "/api/v1/run/record", code=409)
ended = ask(base, "/api/v1/run/stop", {})
expect(ended["state"] == "ended" and ended["failure"] == "" and any(p["port"] == "beside.engine" for p in ended["ports"]), ended)
has(ask(base, "/api/v1/run/record")["csv"][:2000], "time_s", "VT1.va")
# Again, without building or loading; free, and for a time.
ask(base, "/api/v1/cases/bay/start", {"place": "plant", "free": True, "for": "2 s"})
until(lambda: ask(base, "/api/v1/run")["state"] == "ended", "it does not end", 20)
expect(abs(ask(base, "/api/v1/run")["time_s"] - 2) < 1e-3, "two seconds")

# The description has every call; a page from elsewhere, or by another name of this computer, gets nothing.
paths = ask(base, "/api/v1/openapi.json")["paths"]
expect("/api/v1/cases/{case}/start" in paths and "what" in paths["/api/v1/run/ask"]["post"]["requestBody"]["content"]["application/json"]["schema"]["properties"], paths.keys())
ask(base, "/api/v1/run/stop", {}, code=403, Origin="http://example.org")
ask(base, "/api/v1/engine", code=421, Host="example.org")
ask(base, "/api/v1/run/ask", b"{" + b" " * 100_000 + b"}", code=413)
ask(base, "/api/v1/run/values?names=" + "x" * 9000, code=414)
plain = urllib.request.Request(base + "/api/v1/run/stop", data=b"{}", headers={"Content-Type": "text/plain"})
try:
    urllib.request.urlopen(plain)
    expect(False, "a form of another page was taken")
except urllib.error.HTTPError as error:
    expect(error.code == 415, error.code)
import random
rng = random.Random(3)
for k in range(300):
    connection = http.client.HTTPConnection(host, timeout=10)
    connection.sock = None
    connection.connect()
    noise = bytes(rng.randrange(256) for _ in range(rng.randrange(1, 400)))
    if k % 2:
        noise = b"POST /api/v1/run/ask HTTP/1.1\r\nHost: " + host.encode() + b"\r\nContent-Type: application/json\r\nContent-Length: " + str(len(noise)).encode() + b"\r\n\r\n" + noise
    connection.sock.sendall(noise)
    connection.close()
ask(base, "/api/v1/engine")
expect(engine.poll() is None, "it lives")
engine.terminate()
expect(engine.wait(timeout=10) == 0, "it ends as it is told")

# The page, in a real browser: started, watched, operated by the keyboard, told of a knob beyond its bounds.
engine, base = begin(demo / "bay")
browser = subprocess.run(["node", str(source / "tests/tool/live_page.mjs"), base, str(source / "web")], capture_output=True, text=True, timeout=150)
expect(browser.returncode == 0, browser.stdout + browser.stderr)
page = json.loads(browser.stdout)
expect(page["faults"] == [] and page["curves"] == 2, page)
expect(any("bench.order_open closed" in line for line in page["events"]) and any("Q1 open" in line for line in page["events"]), page)
has(page["trouble"], "Q1D.late is not between 0 and 10")
engine.terminate()
engine.wait(timeout=10)

# The example of a script, and the tool itself as a client.
engine, base = begin(demo / "veskar")
told = subprocess.run([sys.executable, str(source / "examples/strike.py"), base, "veskar"], capture_output=True, text=True, timeout=60)
expect(told.returncode == 0, told.stderr)
struck = told.stdout.splitlines()
for wanted in ("R1 start", "R1 trip", "Q1 open"):
    expect(any(line.endswith(wanted) for line in struck), f"{wanted} in\n{told.stdout}")
has(run("target", "--at", base, "list"), "veskar", "ended")
has(run("target", "--at", base, "start", "veskar", "--place", "plant", "--for", "1.5 s"), "veskar: starting")
has(run("target", "--at", base, "watch", "VT0.va"), "veskar: running", "VT0.va", "veskar: ended")
has(run("target", "--at", base, "start", "veskra", code=2), "did you mean")
has(run("target", "--at", base, "start", "veskar", "--place", "plant"), "veskar: starting")
time.sleep(0.8)
has(run("target", "--at", base, "set", "Q1", "0"), "done")
has(run("target", "--at", base, "strike"), "done")
has(run("target", "--at", base, "stop"), "veskar: ended", "steps")
run("target", "--at", base, "record", "live.csv")
has((scratch / "live.csv").read_text()[:300], "time_s")
expect(as_json(run("target", "--at", base, "list", "--json"))["run"]["state"] == "ended", "as JSON")
engine.terminate()
engine.wait(timeout=10)
has(run("target", "--at", base, "list", code=2), "no engine answers", "zavrek serve")

# Tokens: one looks, the other acts.
engine, base = begin(demo / "bay", "--viewer-token", "look", "--operator-token", "act")
ask(base, "/api/v1/engine", code=401)
ask(base, "/api/v1/engine", code=401, Authorization="Bearer something else here")
looks, acts = {"Authorization": "Bearer a token that may look"}, {"Authorization": "Bearer a token that may act"}
ask(base, "/api/v1/engine", **looks)
ask(base, "/api/v1/cases/bay/start", {"place": "plant"}, code=403, **looks)
ask(base, "/api/v1/cases/bay/start", {"place": "plant", "for": "0.1 s"}, **acts)
engine.terminate()
engine.wait(timeout=10)
(scratch / "short").write_text("short\n")
has(run("serve", demo / "bay", "--operator-token", "short", code=2), "16 letters")
has(run("serve", demo / "none", code=2), "none")
finish()
