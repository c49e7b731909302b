#!/usr/bin/env python3
"""Works a run from a script, with Python's standard library alone:

    zavrek serve demo/veskar                    # prints its address
    examples/strike.py http://127.0.0.1:41200 veskar

Starts the case with its relays in the plant's process, strikes the fault of its first trial, and tells what happened."""
import json
import sys
import time
import urllib.request


def call(path, body=None):
    request = urllib.request.Request(engine + path, headers={"Content-Type": "application/json"},
                                     data=None if body is None else json.dumps(body).encode())
    with urllib.request.urlopen(request) as response:
        return json.load(response)


engine, case = sys.argv[1:3]
call(f"/api/v1/cases/{case}/start", {"place": "plant"})
while call("/api/v1/run")["time_s"] < 0.5:
    time.sleep(0.05)
struck = call("/api/v1/run/strike", {"angle": "90 deg", "lasts": "300 ms"})
print(f"{struck['inception_s']:9.4f} s  {struck['phases']} on {struck['on']}")
time.sleep(1)
for verdict in call("/api/v1/run/faults")["faults"][0]["verdicts"]:
    print(f"           {verdict['expectation']}: {verdict['measured']}, by the settings {verdict['expected']}")
call("/api/v1/run/stop", {})
for event in call("/api/v1/run/events")["events"]:
    print(f"{event['time_s']:9.4f} s  {event['text']}")
