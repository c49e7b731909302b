#!/usr/bin/env python3
"""What an engine costs a run, and how soon it is felt and seen: python3 benchmarks/live.py [SECONDS].

Runs demo/veskar paced at 50 us, in turn without viewers and with twenty, of whom one sleeps; each of the others does
what a page does (a stream of values, two scopes eight times a second). Then a breaker is operated again and again.
Prints overruns of each turn, and distributions in ms. Best on a computer that does nothing else."""
import http.client
import json
import pathlib
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request

root = pathlib.Path(__file__).resolve().parent.parent
seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 30
store = tempfile.mkdtemp()
engine = subprocess.Popen([root / "build/release/zavrek", "serve", root / "demo/veskar", "--port", "0", "--store", store], stdout=subprocess.PIPE, text=True)
base = engine.stdout.readline().split()[-1]
host = base.split("//")[1]


def call(path, body=None):
    request = urllib.request.Request(base + "/api/v1" + path, headers={"Content-Type": "application/json"},
                                     data=None if body is None else json.dumps(body).encode())
    with urllib.request.urlopen(request, timeout=30) as response:
        return json.load(response)


def watch(going):
    stream = http.client.HTTPConnection(host, timeout=30)
    stream.request("GET", "/api/v1/run/stream?values=true")
    response = stream.getresponse()
    polls = http.client.HTTPConnection(host, timeout=30)
    due = time.monotonic()
    while going.is_set():
        response.readline()
        if time.monotonic() >= due:
            due += 0.12
            for names in ("VT0.va,VT0.vb,VT0.vc", "CT1.ia,CT1.ib,CT1.ic"):
                polls.request("GET", f"/api/v1/run/scope?signals={names}&span=0.1&pixels=500")
                polls.getresponse().read()
    stream.close()


def turn(viewers):
    call("/cases/veskar/start", {"place": "plant"})
    time.sleep(1)
    going = threading.Event()
    going.set()
    threads = [threading.Thread(target=watch, args=(going,)) for _ in range(max(0, viewers - 1))]
    sleeper = http.client.HTTPConnection(host, timeout=30)
    if viewers:
        sleeper.request("GET", "/api/v1/run/stream?values=true&signals=VT0.va")
    for thread in threads:
        thread.start()
    time.sleep(seconds)
    going.clear()
    for thread in threads:
        thread.join()
    sleeper.close()
    run = call("/run/stop", {})
    return run["timing"]


def quantiles(values):
    values = sorted(values)
    at = lambda share: values[min(len(values) - 1, int(share * len(values)))]
    return {"median": round(at(0.5), 2), "90 %": round(at(0.9), 2), "99 %": round(at(0.99), 2), "most": round(values[-1], 2)}


try:
    for k in range(3):
        for viewers in (0, 20):
            timing = turn(viewers)
            print(f"{viewers:2d} viewers: {timing['overruns']:6d} of {timing['steps']} steps late, {timing['why']}; a step {timing['compute_us']}", flush=True)
    # From a change to the step that feels it, and from the step to who watches.
    call("/cases/veskar/start", {"place": "plant"})
    time.sleep(1)
    seen = {}
    zero = [1e9]

    def listen():
        stream = http.client.HTTPConnection(host, timeout=30)
        stream.request("GET", "/api/v1/run/stream?values=true")
        response, kind = stream.getresponse(), ""
        while len(seen) < 200 and response.fp:
            line = response.readline().decode().strip()
            if line.startswith("event: "):
                kind = line[7:]
            elif line.startswith("data: "):
                now, data = time.monotonic(), json.loads(line[6:])
                if kind == "status" and data["state"] == "running":
                    zero[0] = min(zero[0], now - data["time_s"])
                for one in data if kind == "events" else []:
                    if one["text"].startswith("Q3"):
                        seen[one["time_s"]] = now

    listener = threading.Thread(target=listen, daemon=True)
    listener.start()
    felt = []
    for k in range(100):
        began = time.monotonic()
        call("/run/ask", {"what": "Q3", "value": k % 2})
        felt.append(1e3 * (time.monotonic() - began))
        time.sleep(0.15 + 0.0007 * k)
    time.sleep(1)
    call("/run/stop", {})
    print("from a change that is asked to the answer that the plant has done it, ms:", quantiles(felt))
    print("from the step to who watches the stream, ms:", quantiles([1e3 * (wall - zero[0] - at) for at, wall in seen.items()]))
finally:
    engine.terminate()
    engine.wait()
