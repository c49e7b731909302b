"""Runs the tool as a person does and checks what comes back."""
import json
import os
import pathlib
import subprocess
import sys
import tempfile
import time

tool = os.environ["ZAVREK"]
source = pathlib.Path(os.environ["ZAVREK_SOURCE"])
build = pathlib.Path(os.environ["ZAVREK_BUILD"])
demo = source / "demo"
scratch = pathlib.Path(tempfile.mkdtemp(prefix="zavrek-"))
checks = 0


def run(*words, code=0, timeout=120, cwd=None):
    """What the tool prints; `code` None: however it ends."""
    done = subprocess.run([tool, *map(str, words)], capture_output=True, text=True, timeout=timeout, cwd=cwd or scratch)
    expect(code is None and done.returncode in (0, 1) or done.returncode == code, f"{' '.join(map(str, words))}: exit {done.returncode}, wanted {code}\n{done.stdout}{done.stderr}")
    return done.stdout + done.stderr


def run_paced(*words, tries=6):
    """A paced run shares the machine with others, which may hold a relay's process back for longer than a
    tolerance: it counts as failed when it fails six times in a row."""
    for attempt in range(1, tries):
        done = subprocess.run([tool, *map(str, words)], capture_output=True, text=True, timeout=120, cwd=scratch)
        if done.returncode == 0:
            note_attempts(attempt)
            return done.stdout + done.stderr
    note_attempts(tries)
    return run(*words)


def note_attempts(count):
    """How many a paced run took, for the sum that `./dev test` prints."""
    if "ZAVREK_ATTEMPTS" in os.environ:
        with open(os.environ["ZAVREK_ATTEMPTS"], "a") as tally:
            tally.write(f"{count}\n")


def expect(truth, message):
    global checks
    checks += 1
    if not truth:
        print(f"FAILED: {message}")
        sys.exit(1)


def has(text, *parts):
    for part in parts:
        expect(part in text, f"no \"{part}\" in:\n{text[:20000]}")


def clock_turns(within_s=0.5):
    """By how many seconds somebody turns this computer's clock in that time."""
    def ahead():
        return time.clock_gettime_ns(time.CLOCK_REALTIME) - time.clock_gettime_ns(time.CLOCK_MONOTONIC)
    before = ahead()
    time.sleep(within_s)
    return abs(ahead() - before) * 1e-9


def as_json(text):
    return json.loads(text)


def finish():
    print(f"{checks} checks passed")
