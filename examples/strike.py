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
call("/api/v1/run/ask", {"what": "fault", "value": 1})
time.sleep(1)
call("/api/v1/run/ask", {"what": "fault", "value": 0})
call("/api/v1/run/stop", {})
for event in call("/api/v1/run/events")["events"]:
    print(f"{event['time_s']:9.4f} s  {event['text']}")
