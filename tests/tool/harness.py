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


def run(*words, code=0, timeout=300, cwd=None):
    """What the tool prints; `code` None: however it ends."""
    done = subprocess.run([tool, *map(str, words)], capture_output=True, text=True, timeout=timeout, cwd=cwd or scratch)
    expect(code is None and done.returncode in (0, 1) or done.returncode == code, f"{' '.join(map(str, words))}: exit {done.returncode}, wanted {code}\n{done.stdout}{done.stderr}")
    return done.stdout + done.stderr


def stolen_s():
    """For how long somebody else has had this computer's processors since it began: what the host took, in seconds of one."""
    with open("/proc/stat") as counts:
        return int(counts.readline().split()[8]) / os.sysconf("SC_CLK_TCK")


began_s, stolen_before_s = time.monotonic(), stolen_s()


def stolen_share():
    """Since this test began, of one processor."""
    return (stolen_s() - stolen_before_s) / (time.monotonic() - began_s)


paced_until_s = began_s + 200  # behind that a test begins no further attempt


def attempts(once, tries=6):
    """What is bound to the clock shares the machine with others, who may hold a relay's process back for longer than a
    tolerance. `once` gives whether it went well (None: it was spoiled, and says nothing), and what it has to say; this gives
    the words of the first that went well. It counts as failed when it does so `tries` times in a row, and as not to be judged
    (exit 77) where it was spoiled and, meanwhile, the host took more than 1 % of a processor away, which is read from the
    kernel and not from what is tested."""
    spoiled = False
    for attempt in range(1, tries + 1):
        fine, says = once()
        spoiled |= fine is None
        if fine or attempt == tries or time.monotonic() > paced_until_s:
            break
    note_attempts(attempt)
    if not fine and spoiled and stolen_share() > 0.01:
        print(f"NOT JUDGED: the host of this computer took {stolen_share():.1%} of a processor; {attempt} times in a row:\n{says[-3000:]}")
        sys.exit(77)
    expect(fine, says)
    return says


def tried(command, timeout=120, code=0, env=None, cwd=None):
    """Runs a command once: whether it ended with `code` (None: any), and what it said. It was spoiled where it is not done
    in time, or says itself that it could not be judged; other verbs than `test` have no word for that."""
    words = list(map(str, command))
    try:
        done = subprocess.run(words, capture_output=True, text=True, timeout=timeout, cwd=cwd or scratch, env=env)
    except subprocess.TimeoutExpired as late:
        return None, f"{late.cmd}: not done after {timeout} s\n{(late.stdout or b'').decode(errors='replace')}"
    says = done.stdout + done.stderr
    if code in (None, done.returncode):
        return True, says
    return False if words[1] == "test" and done.returncode != 3 else None, \
        f"{' '.join(words)}: exit {done.returncode}, wanted {code}\n{says}"


def run_paced(*words, tries=6, code=0):
    """What the tool prints in the first attempt that ends as it shall."""
    return attempts(lambda: tried([tool, *words], code=code), tries)


def note_attempts(count):
    """How many a paced run took, for the sum that `./dev test` prints."""
    if "ZAVREK_ATTEMPTS" in os.environ:
        with open(os.environ["ZAVREK_ATTEMPTS"], "a") as tally:
            tally.write(f"{count}\n")


def expect(truth, message):
    global checks
    checks += 1
    if truth:
        return
    # Of tests that live by the clock (tests/CMakeLists.txt lists them), as tests/pace/held_back.cpp has it.
    if "ZAVREK_BOUND_TO_CLOCK" in os.environ and stolen_share() > 0.1:
        print(f"NOT JUDGED: the host of this computer took {stolen_share():.0%} of a processor: {message}")
        sys.exit(77)
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
