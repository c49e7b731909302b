"""The engine as a script meets it: the standard library of Python, and nothing of ours."""
import atexit
import hashlib
import http.client
import io
import random
import shutil
import signal
import ssl
import tarfile
import threading
import time
import urllib.error
import urllib.request

from harness import *

(scratch / "look").write_text("a token that may look\n")
(scratch / "act").write_text("a token that may act\n")


begun = []
atexit.register(lambda: [engine.kill() for engine in begun])


def begin(*words):
    if "--store" not in words:
        words += ("--store", scratch / f"store{len(begun)}")
    if "--port" not in words:
        words += ("--port", "0")
    engine = subprocess.Popen([tool, "serve", *map(str, words)], cwd=scratch, stdout=subprocess.PIPE, text=True)
    begun.append(engine)
    line = engine.stdout.readline()
    expect(line.startswith("engine at http"), line)
    return engine, line.split()[-1]


def end(engine):
    engine.terminate()
    expect(engine.wait(timeout=10) == 0, "it ends as it is told")


def ask(base, path, body=None, code=200, kind="application/json", context=None, raw=False, **headers):
    request = urllib.request.Request(base + path, data=None if body is None else (body if isinstance(body, bytes) else json.dumps(body).encode()))
    if body is not None:
        request.add_header("Content-Type", kind)
    for name, value in headers.items():
        request.add_header(name.replace("_", "-"), value)
    try:
        with urllib.request.urlopen(request, timeout=20, context=context) as response:
            status, text = response.status, response.read()
    except urllib.error.HTTPError as error:
        status, text = error.code, error.read()
    expect(status == code, f"{path}: {status}, wanted {code}\n{text[:500]}")
    return text if raw else json.loads(text)


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
ask(base, "/api/v1/cases/bay/start", {"for": []}, code=400)
ask(base, "/api/v1/cases/bay/start", b"{", code=400)
ask(base, "/api/v1/run/values", code=409)

# A run, in the plant's process, locked to the clock: watched, operated, set.
ask(base, "/api/v1/cases/bay/start", {"place": "plant"})
ask(base, "/api/v1/cases/veskar/start", {}, code=409)
until(lambda: ask(base, "/api/v1/run")["time_s"] > 0.3, "it does not begin")
values = ask(base, "/api/v1/run/values?names=VT1.va,Q1")
expect(values["values"]["Q1"] is True and abs(values["values"]["VT1.va"]) < 10e3 and values["age_s"] < 0.5, values)
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
expect(8e3 < max(traces["curves"][0]["greatest"]) < 10e3 and all(a <= b for a, b in zip(traces["curves"][0]["least"], traces["curves"][0]["greatest"])), "curves")

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
ask(base, "/api/v1/cases", b"x" * 100, code=400, kind="application/octet-stream")
ask(base, "/api/v1/cases", b"x" * 100, code=415)
ask(base, "/api/v1/run/values?names=" + "x" * 9000, code=414)
plain = urllib.request.Request(base + "/api/v1/run/stop", data=b"{}", headers={"Content-Type": "text/plain"})
try:
    urllib.request.urlopen(plain)
    expect(False, "a form of another page was taken")
except urllib.error.HTTPError as error:
    expect(error.code == 415, error.code)
rng = random.Random(3)
# Whatever is sent: an answer with a reason, or none; the engine goes on. (docs/live.md has the count of a longer run.)
for k in range(300):
    connection = http.client.HTTPConnection(host, timeout=10)
    connection.connect()
    noise = bytes(rng.randrange(256) for _ in range(rng.randrange(1, 400)))
    if k % 2:
        noise = b"POST /api/v1/run/ask HTTP/1.1\r\nHost: " + host.encode() + b"\r\nContent-Type: application/json\r\nContent-Length: " + str(len(noise)).encode() + b"\r\n\r\n" + noise
    connection.sock.sendall(noise)
    connection.close()
ask(base, "/api/v1/engine")
expect(engine.poll() is None, "it lives")
told = subprocess.run([sys.executable, str(source / "tests/tool/fuzz_engine.py"), base, "1000"], capture_output=True, text=True, timeout=100)
expect(told.returncode == 0, told.stdout + told.stderr)
expect(json.loads(told.stdout)["with a reason"] > 500 and engine.poll() is None, told.stdout)
end(engine)

# Faults of any kind at any place, in a run that nobody outside lives by; going back; what was done as a trial.
engine, base = begin(demo / "veskar")
ask(base, "/api/v1/cases/veskar/start", {"place": "plant", "set": ["S1.delay = 0.5 ms"]})
until(lambda: ask(base, "/api/v1/run")["time_s"] > 0.4, "it begins")
knob = [k for k in ask(base, "/api/v1/run/knobs")["knobs"] if k["name"] == "S1.delay"][0]
expect(knob["present"] == 0.0005 and knob["initial"] == 0 and knob["unit"] == "s", knob)
struck = ask(base, "/api/v1/run/strike", {"on": "berth1", "phases": "AG", "resistance": "2 ohm", "angle": "90 deg", "lasts": "300 ms"})
at = struck["inception_s"]
until(lambda: any(v["expectation"] == "R1 trip" and v["passed"] and v["measured"].endswith(" s") for v in ask(base, "/api/v1/run/faults")["faults"][0]["verdicts"]), "R1 trips as its settings say")
verdict = [v for v in ask(base, "/api/v1/run/faults")["faults"][0]["verdicts"] if v["expectation"] == "R1 trip"][0]
expect("earth2" in verdict["expected"], verdict)
# The voltage stands where it was asked to: a quarter of a cycle behind its rising zero, its greatest value.
curve = ask(base, f"/api/v1/run/scope?signals=fault%40berth1.va&around={at}&span=0.02&pre=0.5&pixels=80")
before = [g for t, g in zip(curve["time_s"], curve["curves"][0]["greatest"]) if t < at - 1e-9]
expect(before[-1] > 0.995 * max(before) and before[-1] > 8e3, before[-5:])
until(lambda: "Q1 open" in {e["text"] for e in ask(base, "/api/v1/run/events")["events"]}, "Q1 opens")
seen = "/api/v1/run/scope?signals=CT1.ia&trigger=R1.trip&span=0.1&pre=0.5"
until(lambda: ask(base, seen)["triggered"], "what lies behind the trigger")
triggered = ask(base, seen)
trip = [e["time_s"] for e in ask(base, "/api/v1/run/events")["events"] if e["text"] == "R1 trip"][0]
expect(triggered["triggered"] and abs(triggered["at_s"] - trip) < 1e-9, triggered["at_s"])
level = ask(base, "/api/v1/run/scope?signals=VT0.va&trigger=VT0.va&level=5000&slope=falling&span=0.04")
expect(level["triggered"], "a level")
expect(not ask(base, "/api/v1/run/scope?signals=VT0.va&trigger=VT0.va&level=1e6&span=0.04")["triggered"], "no such level")
ask(base, "/api/v1/run/scope?signals=VT0.va&trigger=VT9.va&span=0.04", code=404)
# Wrong wishes.
expect(ask(base, "/api/v1/run/strike", {"on": "berth9"}, code=404)["error"]["text"].endswith('did you mean "berth1"?'), "nearest")
ask(base, "/api/v1/run/strike", {"on": "berth1", "phases": "XY"}, code=400)
ask(base, "/api/v1/run/strike", {"on": "cable1", "at": "130 %"}, code=400)
ask(base, "/api/v1/run/strike", {"on": "berth1", "resistance": "-1 ohm"}, code=400)
# A way to a value within a time.
expect(ask(base, "/api/v1/run/ask", {"what": "S1.delay", "value": "1.5 ms", "over": "400 ms"})["outcome"] == "done", "asked")
until(lambda: 0.0005 < [k for k in ask(base, "/api/v1/run/knobs")["knobs"] if k["name"] == "S1.delay"][0]["present"] < 0.0015, "on its way", 1)
until(lambda: [k for k in ask(base, "/api/v1/run/knobs")["knobs"] if k["name"] == "S1.delay"][0]["present"] == 0.0015, "there")
expect(ask(base, "/api/v1/run/patch")["set"] == ["S1.delay = 0.0015 s"], "the patch")
# What was done is a trial that the tool carries out; the same relay trips at the same time.
worked = scratch / "worked"
shutil.copytree(demo / "veskar", worked)
toml = ask(base, "/api/v1/run/trial", raw=True).decode()
(worked / "trials.toml").write_text(toml)
told = as_json(run("test", worked, "--place", "plant", "--pace", "free", "--out", "worked-out", "--no-figures", "--json"))
again = [v for v in told["trials"][0]["verdicts"] if v["expectation"] == "R1 trip"][0]
expect(told["passed"] and abs(float(again["measured"][:-2]) - float(verdict["measured"][:-2])) < 0.002, f"{again} and {verdict}")
# The latest seconds as a record that others read.
archive = scratch / "capture.zip"
archive.write_bytes(ask(base, f"/api/v1/run/capture?seconds=0.5&until={at + 0.35}&trigger={at}", raw=True))
shutil.unpack_archive(archive, scratch / "capture")
has(run("judge", worked, scratch / "capture" / "capture.cfg", "--trial", "as it was worked"), "pass R1 trip")
expect(ask(base, "/api/v1/run/capture?seconds=0.1&as=csv", raw=True).startswith(b"time_s,"), "as CSV")
ask(base, "/api/v1/run/capture?as=pdf", code=400)
# Back to before the fault: what was asked is gone, the way that was left is still there; the same until then, to the bit.
wanted = f"/api/v1/run/traces?signals=VT0.va,CT1.ia&from={at - 0.2}&seconds=0.15&pixels=4000"
first = ask(base, wanted)
ask(base, "/api/v1/run/back", {"to": at - 0.02})
until(lambda: ask(base, "/api/v1/run")["again_until_s"] == 0 and ask(base, "/api/v1/run")["time_s"] > at + 0.1, "it goes on")
second, left = ask(base, wanted), ask(base, wanted + "&way=before")
expect(len(first["time_s"]) >= 600 and first["curves"] == second["curves"] == left["curves"], "the same until then")
other = f"/api/v1/run/traces?signals=CT1.ia&from={at + 0.01}&seconds=0.05&pixels=400"
expect(max(ask(base, other)["curves"][0]["greatest"]) < 0.9 * max(ask(base, other + "&way=before")["curves"][0]["greatest"]), "another way")
expect(ask(base, "/api/v1/run/faults")["faults"] == [], "no fault on this way")
ask(base, "/api/v1/run/back", {"to": "1000 s"}, code=400)
# What ports count is told while they do.
counted = {p["port"]: p for p in ask(base, "/api/v1/run")["ports"]}
expect(ask(base, "/api/v1/run")["state"] == "running" and counted["beside.engine"]["received"] > 0, counted)
# Phasors, spectrum, trends, timing.
phasors = ask(base, "/api/v1/run/phasors?signals=VT0.va,VT0.vb,VT0.vc")
expect(abs(phasors["phasors"][1]["angle_deg"] + 120) < 0.1 and phasors["sequences"][0]["negative"]["rms"] < 1e-3 * phasors["sequences"][0]["positive"]["rms"], phasors)
spectrum = ask(base, "/api/v1/run/spectrum?signal=VT0.va&cycles=5")
expect(abs(spectrum["rms"][1] - phasors["phasors"][0]["rms"]) < 1 and spectrum["distortion"] < 0.01, spectrum)
until(lambda: len(ask(base, "/api/v1/run/trend?signals=VT0.va&minutes=1")["time_s"]) >= 2, "seconds")
trend = ask(base, "/api/v1/run/trend?signals=VT0.va&minutes=1")["curves"][0]
expect(abs(trend["rms"][-1] - phasors["phasors"][0]["rms"]) < 10 and abs(trend["mean"][-1]) < 10, trend)
timing = ask(base, "/api/v1/run/timing")
expect(timing["steps"] > 1000 and timing["step_us"] == 50 and sum(c for _, c in timing["compute_us"]) <= timing["steps"], timing["steps"])
acts = ask(base, "/api/v1/run/acts")["acts"]
expect(any("fault AG on berth1" in a["text"] and a["who"] == "anybody at 127.0.0.1" for a in acts) and any("went back" in a["text"] for a in acts), acts)
diagram = ask(base, "/api/v1/cases/veskar/diagram")
q1 = [e for e in diagram["elements"] if e["name"] == "Q1"][0]
expect(q1["ends"] == ["quay", "feed1"] and q1["operated"] and len(diagram["buses"]) == 10, q1)
ask(base, "/api/v1/run/stop", {})

# Trials: told one by one, kept with report and records; a killed engine leaves nobody behind and loses nothing.
ask(base, "/api/v1/cases/veskar/test", {"place": "plant", "free": True, "trials": ["no such"]}, code=400)
ask(base, "/api/v1/cases/veskar/test", {"place": "plant", "free": True})
ask(base, "/api/v1/cases/veskar/start", {}, code=409)
until(lambda: ask(base, "/api/v1/work")["state"] == "ended", "they end", 60)
work = ask(base, "/api/v1/work")
expect(work["done"] == work["of"] == 8 and all(r["passed"] for r in work["results"]) and work["failure"] == "", work)
kept = ask(base, f"/api/v1/results/{work['result']}")
expect(kept["passed"] == 8 and "report.html" in kept["files"], kept["files"])
has(ask(base, f"/api/v1/results/{work['result']}/files/report.html", raw=True).decode()[:3000], "Veskar quay")
for path in ("..%2f..%2fengine.lock", "%2e%2e%2fresult.json", "..", "nothing"):
    ask(base, f"/api/v1/results/{work['result']}/files/{path}", code=404, raw=True)
ask(base, "/api/v1/results/000000", code=404)
ask(base, "/api/v1/cases/veskar/start", {})
until(lambda: ask(base, "/api/v1/run")["time_s"] > 0.2, "it begins")


def children():
    found = []
    for stat in pathlib.Path("/proc").glob("[0-9]*/stat"):
        try:
            if int(stat.read_text().rsplit(")", 1)[1].split()[1]) == engine.pid:
                found.append(int(stat.parent.name))
        except OSError:  # it has ended meanwhile
            pass
    return found


# Somebody outside lives by its clock: no going back, and no place that was not made ready.
has(ask(base, "/api/v1/run/back", {"to": 0.1}, code=409)["error"]["text"], "lives by the clock")
has(ask(base, "/api/v1/run/strike", {"on": "berth3"}, code=409)["error"]["text"], 'faults = ["berth3"]')
relays = children()
expect(len(relays) >= 1, "relays in processes of their own")
engine.send_signal(signal.SIGKILL)
engine.wait()
until(lambda: not any(pathlib.Path(f"/proc/{pid}").exists() and b"zavrek" in pathlib.Path(f"/proc/{pid}/cmdline").read_bytes() for pid in relays), "they end with it")
engine, base = begin(demo / "veskar", "--store", scratch / f"store{len(begun) - 1}")
kinds = [(r["kind"], r["case"]) for r in ask(base, "/api/v1/results")["results"]]
expect(kinds[0] == ("trials", "veskar") and ("run", "veskar") in kinds[1:], kinds)
# The page, in a real browser: two viewers, one asleep; worked from the diagram to the verdicts.
sleeper = http.client.HTTPConnection(base.split("//")[1], timeout=20)
sleeper.request("GET", "/api/v1/run/stream?signals=VT0.va&values=true")
browser = subprocess.run(["node", str(source / "tests/tool/live_page.mjs"), base, str(source / "web")], capture_output=True, text=True, timeout=200)
expect(browser.returncode == 0, browser.stdout + browser.stderr)
page = json.loads(browser.stdout)
expect(page["faults"] == [] and page["scopes"] == 2 and page["buses"] == 10, page)
expect(page["chosen"] == "berth1" and "R1 trip" in page["struck"] and "earth2" in page["struck"], page["struck"])
expect(page["after_back"][1] < page["after_back"][0] + 3, page["after_back"])
expect(any("Q3 open" in line for line in page["events"]) and any("went back" in line for line in page["events"]), page["events"])
expect("apart" in page["by_keys"] and page["by_keys"] != page["reading"] and "apart" not in page["reading"], f"{page['reading']} {page['by_keys']}")
expect(page["kept"] >= 1 and page["first_kept"] == "0.000", f"{page['kept']} {page['first_kept']}")
has(page["trouble"], "S1.loss is not between 0 and 1")
has(page["trial"], "[[trial]]")
expect(page["record"] > 10_000 and page["gauges"] > 3, page)
has(page["verdicts"], "fault on cable 2", "R2 trip")
sleeper.close()
# The engine restarts below a page that stays open: it comes back by itself.
reconnect = subprocess.Popen(["node", str(source / "tests/tool/live_again.mjs"), base, str(source / "web")], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
expect(reconnect.stdout.readline() == "there\n", "the page")
port = base.split(":")[-1]
end(engine)
expect(reconnect.stdout.readline().startswith("lost"), "it tells")
engine, base = begin(demo / "veskar", "--port", port)
expect(reconnect.stdout.readline() == "there again\n", "it comes back")
reconnect.wait(timeout=20)
end(engine)

# The examples of scripts, and the tool itself as a client.
engine, base = begin(demo / "veskar")
told = subprocess.run([sys.executable, str(source / "examples/strike.py"), base, "veskar"], capture_output=True, text=True, timeout=60)
expect(told.returncode == 0, told.stderr)
lines = told.stdout.splitlines()
for wanted in ("R1 start", "R1 trip", "Q1 open"):
    expect(any(line.endswith(wanted) for line in lines), f"{wanted} in\n{told.stdout}")
if shutil.which("curl"):
    told = subprocess.run(["sh", str(source / "examples/watch.sh"), base, "veskar"], capture_output=True, text=True, timeout=60)
    expect(told.returncode == 0 and "event: traces" in told.stdout and '"state":"ended"' in told.stdout, told.stdout[-600:] + told.stderr)
os.environ["XDG_CONFIG_HOME"] = str(scratch / "config")
has(run("target", "name", "desk", base), "desk", base)
has(run("target", "--at", "desk", "list"), "veskar", "ended")
has(run("target", "--at", "dusk", "list", code=2), 'did you mean "desk"')
has(run("target", "--at", base, "start", "veskar", "--place", "plant", "--for", "1.5 s"), "veskar: running")
has(run("target", "--at", base, "watch", "VT0.va"), "veskar: running", "VT0.va", "veskar: ended")
has(run("target", "--at", base, "restart", "--for", "0.2 s"), "veskar: ")
until(lambda: ask(base, "/api/v1/run")["state"] == "ended", "shorter")
has(run("target", "--at", base, "start", "veskra", code=2), "did you mean")
has(run("target", "--at", base, "start", "veskar", "--place", "plant"), "veskar: running")
time.sleep(0.8)
has(run("target", "--at", base, "set", "Q3", "0"), "done")
has(run("target", "--at", base, "strike", "cable1:5%", "BCG", "--angle", "30 deg", "--lasts", "100 ms"), "BCG on cable1", "30.0 deg")
time.sleep(0.3)
has(run("target", "--at", base, "clear"), "done")
run("target", "--at", base, "capture", "live.zip")
has(run("target", "--at", base, "stop"), "veskar: ended", "steps")
run("target", "--at", base, "record", "live.csv")
has((scratch / "live.csv").read_text()[:300], "time_s")
expect(as_json(run("target", "--at", base, "list", "--json"))["run"]["state"] == "ended", "as JSON")

# A case that is sent: one file, bit for bit, with the case that is its base; run there by its name.
small = scratch / "small"
small.mkdir()
(small / "case.toml").write_text('base = "../worked"\n')
(small / "trials.toml").write_text((demo / "veskar" / "trials.toml").read_text())
has(run("target", "--at", base, "send", small), "small")
has(run("target", "--at", base, "list"), "small", "(sent)")
has(run("run", small, "--on", "desk", "--for", "0.3 s", "--place", "plant", "--record", "small.csv"), "small: ended")
has((scratch / "small.csv").read_text()[:300], "time_s", "VT0.va")
has(run("target", "--at", base, "test", "small", "fault on cable 2 is no business of R1", "--place", "plant", "--pace", "free"), "pass fault on cable 2", "1 of 1")
has(run("target", "--at", base, "results"), "trials", "1 of 1 passed")
bundle = ask(base, "/api/v1/cases/small/bundle", raw=True)
with tarfile.open(fileobj=io.BytesIO(bundle)) as archive:
    contents = json.load(archive.extractfile("bundle.json"))
    for one in contents["files"]:
        expect(hashlib.sha256(archive.extractfile(one["path"]).read()).hexdigest() == one["sha256"], one["path"])
    expect(archive.extractfile("worked/network.toml").read() == (worked / "network.toml").read_bytes(), "bit for bit")


def forged(change, name="evil"):
    """The same bundle with something else in it."""
    out = io.BytesIO()
    with tarfile.open(fileobj=io.BytesIO(bundle)) as old, tarfile.open(fileobj=out, mode="w:gz") as new:
        for member in old.getmembers():
            data = old.extractfile(member).read()
            member, data = change(member, data)
            if member is not None:
                member.size = len(data)
                new.addfile(member, io.BytesIO(data))
        extra = change(None, None)
        if extra:
            new.addfile(*extra)
    return out.getvalue()


def renamed(to):
    def change(member, data):
        if member is None:
            return None
        if member.name == "worked/R1.toml":
            member.name = to
        return member, data
    return change


def linked(member, data):
    if member is None:
        link = tarfile.TarInfo("worked/link.toml")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        return (link,)
    return member, data


def spoiled(member, data):
    if member is None:
        return None
    return member, data + b"# more" if member.name == "worked/R1.toml" else data


for what, text in ((forged(renamed("../../evil.toml")), "leads out of it"), (forged(renamed("/tmp/evil.toml")), "leads out of it"),
                   (forged(linked), "no plain file"), (forged(spoiled), "not what it says"), (bundle[:len(bundle) // 2], "the bundle"), (b"", "the body holds it")):
    has(ask(base, "/api/v1/cases?name=evil", what, code=400, kind="application/octet-stream")["error"]["text"], text)
expect(not pathlib.Path("/tmp/evil.toml").exists() and not list(scratch.rglob("evil*")), "nothing was written")
ask(base, "/api/v1/cases?name=..%2fevil", bundle, code=400, kind="application/octet-stream")
ask(base, "/api/v1/cases?name=veskar", bundle, code=409, kind="application/octet-stream")
# One that reads what is not its own, and one with a library of its own.
for name, text, file in (("outside", '\n[device.R9]\nsettings = "../../../../etc/passwd"\nreads = "S1"\n', "bench.toml"), ("driver", '\n[card.board]\nlibrary = "driver.so"\n', "bench.toml")):
    bad = scratch / name
    shutil.copytree(demo / "veskar", bad)
    (bad / file).write_text((bad / file).read_text() + text)
    has(run("target", "--at", base, "send", bad, code=2), "leads out of the case" if name == "outside" else "--own-libraries")
has(run("target", "--at", base, "remove", "small"), "removed small")
has(run("target", "--at", base, "remove", "veskar", code=2), "engine's own")
has(run("target", "--at", base, "send", small, "smaller"), "smaller")
end(engine)
engine, base = begin(demo / "veskar", "--store", scratch / f"store{len(begun) - 1}")
expect("smaller" in [c["name"] for c in ask(base, "/api/v1/engine")["cases"]], "what was sent is there for the next engine")
has(run("serve", "--port", "0", "--store", scratch / f"store{len(begun) - 2}", code=2), "another engine's")
end(engine)
has(run("target", "--at", base, "list", code=2), "no engine answers", "zavrek serve")

# A programme, told as it goes and kept with its report; buses where page.toml puts them.
swept = scratch / "swept"
shutil.copytree(demo / "line", swept)
(swept / "trials.toml").write_text("""
[[sweep]]
name = "near and far"
prefault = "0.1 s"
postfault = "0.02 s"
fault = { on = "infeed", phases = "AG", lasts = "0.4 s" }
vary = [ { field = "fault.at", values = ["10 %", "40 %", "60 %"] }, { field = "fault.resistance", values = ["0 ohm", "5 ohm"] } ]
expect = [ { device = "DM", output = "trip", time = "from settings", value_tolerance = "5 %", tolerance = ["5 %", "35 ms"] } ]
""")
(swept / "page.toml").write_text("[place.moor]\nx = 10\ny = 20\n[place.shore]\nx = 80\ny = 20\n")
engine, base = begin(swept)
expect(ask(base, "/api/v1/cases/swept/diagram")["at"] == {"moor": [10, 20], "shore": [80, 20]}, "places")
expect(ask(base, "/api/v1/cases/swept")["sweeps"] == ["near and far"], "its sweeps")
ask(base, "/api/v1/cases/swept/test", {}, code=400)
ask(base, "/api/v1/cases/swept/programme", {"place": "plant", "free": True})
until(lambda: ask(base, "/api/v1/work")["state"] == "ended", "it ends", 60)
work = ask(base, "/api/v1/work")
expect(work["done"] == work["of"] == 6 and len(work["results"]) == 6 and work["failure"] == "", work)
kept = ask(base, f"/api/v1/results/{work['result']}")
expect(kept["kind"] == "programme" and kept["of"] == 6 and kept["passed"] == sum(r["passed"] for r in work["results"]), kept)
has(ask(base, f"/api/v1/results/{work['result']}/files/report.html", raw=True).decode(), "near and far")
# The same from the page: begun by its button, told as it goes, kept.
clicked = subprocess.run(["node", str(source / "tests/tool/live_programme.mjs"), base, str(source / "web"), "swept"], capture_output=True, text=True, timeout=90)
expect(clicked.returncode == 0, clicked.stdout + clicked.stderr)
told = json.loads(clicked.stdout)
expect(told["faults"] == [] and told["verdicts"] == 6 and "6 of 6" in told["kept"] and "near and far" in told["first"], told)
expect([r["kind"] for r in ask(base, "/api/v1/results")["results"]][:2] == ["programme", "programme"], "both are kept")

# States of a run are kept: going back takes up the latest before, not the start.
ask(base, "/api/v1/cases/swept/start", {"place": "plant", "free": True})
until(lambda: ask(base, "/api/v1/run")["time_s"] > 12, "it runs", 60)
ask(base, "/api/v1/run/stop", {})
instants = ask(base, "/api/v1/run/back")
expect(instants["instants_s"][0] == 0 and len(instants["instants_s"]) > 10 and instants["most_bytes"] > 0, instants)
expect(all(0.9 < b - a < 1.2 for a, b in zip(instants["instants_s"][:10], instants["instants_s"][1:11])), instants)
ask(base, "/api/v1/run/back", {"to": 10.4})
until(lambda: ask(base, "/api/v1/run")["time_s"] > 10.5 and ask(base, "/api/v1/run")["again_until_s"] == 0, "it goes on", 20)
ask(base, "/api/v1/run/stop", {})
for a in (2.0, 9.0, 10.1):
    seen = f"/api/v1/run/traces?signals=VTM.va,CTM.ia&from={a}&seconds=0.2&pixels=4000"
    now, left = ask(base, seen), ask(base, seen + "&way=before")
    expect(len(now["time_s"]) >= 800 and now["curves"] == left["curves"], f"the same at {a} s")
behind = ask(base, "/api/v1/run/back")["instants_s"]
expect(behind[:10] == instants["instants_s"][:10], "what is kept before stays")
end(engine)

# Tokens: one looks, the other acts; the page asks for one.
engine, base = begin(demo / "bay", "--viewer-token", "look", "--operator-token", "act")
ask(base, "/api/v1/engine", code=401)
ask(base, "/api/v1/engine", code=401, Authorization="Bearer something else here")
looks, acts = {"Authorization": "Bearer a token that may look"}, {"Authorization": "Bearer a token that may act"}
ask(base, "/api/v1/engine", **looks)
ask(base, "/api/v1/cases/bay/start", {"place": "plant"}, code=403, **looks)
ask(base, "/api/v1/cases/bay/start", {"place": "plant", "for": "0.1 s"}, **acts)
until(lambda: ask(base, "/api/v1/run", **acts)["state"] == "ended", "it ends")
expect(ask(base, "/api/v1/run/acts", **looks)["acts"][-1]["who"] == "operator at 127.0.0.1", "who did it")
asked = subprocess.run(["node", str(source / "tests/tool/live_token.mjs"), base, str(source / "web"), "a token that may look"], capture_output=True, text=True, timeout=60)
expect(asked.returncode == 0 and json.loads(asked.stdout) == {"before": 0, "wrong": "the token is wrong", "cases": ["bay"], "refused": "this token may look, not act"}, asked.stdout + asked.stderr)
end(engine)
(scratch / "short").write_text("short\n")
has(run("serve", demo / "bay", "--operator-token", "short", code=2), "16 letters")
has(run("serve", demo / "none", code=2), "none")

# Elsewhere than on the loopback: only with TLS and tokens.
has(run("serve", demo / "bay", "--listen", "0.0.0.0", code=2), "TLS alone")
subprocess.run(["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", str(scratch / "key.pem"), "-out", str(scratch / "cert.pem"), "-days", "2",
                "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1"], check=True, capture_output=True)
has(run("serve", demo / "bay", "--listen", "0.0.0.0", "--certificate", "cert.pem", "--key", "key.pem", code=2), "token are wanted")
has(run("serve", demo / "bay", "--certificate", "look", "--key", "key.pem", code=2), "belong together")
engine, base = begin(demo / "bay", "--listen", "0.0.0.0", "--name", "localhost", "--certificate", "cert.pem", "--key", "key.pem", "--viewer-token", "look", "--operator-token", "act")
expect(base.startswith("https://localhost:"), base)
trusting = ssl.create_default_context(cafile=str(scratch / "cert.pem"))
expect([c["name"] for c in ask(base, "/api/v1/engine", context=trusting, **looks)["cases"]] == ["bay"], "by TLS")
ask(base, "/api/v1/engine", context=trusting, code=401)
try:
    urllib.request.urlopen(base + "/api/v1/engine")
    expect(False, "a certificate that nobody vouches for was taken")
except urllib.error.URLError as error:
    expect("CERTIFICATE_VERIFY_FAILED" in str(error), error)
has(run("target", "--at", base, "--authority", "cert.pem", "--token", "act", "start", "bay", "--place", "plant", "--for", "0.1 s"), "bay: ")
has(run("target", "--at", base, "--token", "act", "list", code=2), "no engine answers")
end(engine)
finish()
