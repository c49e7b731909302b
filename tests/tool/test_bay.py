"""The bay of a feeder: a merging unit between terminals and frames, a relay on its samples, a drive, a panel.
What the merging unit sends is read by tshark."""
import shutil
import threading
import time

from harness import *

case = demo / "bay"
if os.geteuid() != 0:
    print("skipped: raw frames need root")
    sys.exit(77)


def verdicts(*options):
    text = run_paced("test", case, "--json", *options)
    return {t["name"]: t for t in as_json(text)["trials"]}


# The same trials with everything in the plant's process: the same verdicts, times within 15 ms.
paced, free = verdicts("--out", "paced"), verdicts("--out", "free", "--place", "plant", "--pace", "free")
expect(len(paced) == 7 and paced.keys() == free.keys(), "seven trials")
for name, trial in paced.items():
    expect(trial["passed"] and free[name]["passed"], name)
    for one, other in zip(trial["verdicts"], free[name]["verdicts"]):
        if one["measured"].endswith(" s"):
            apart = abs(float(one["measured"][:-2]) - float(other["measured"][:-2]))
            expect(apart < 0.015, f"{name}, {one['expectation']}: {one['measured']} and {other['measured']}")
captures = sorted(f.parent.name for f in (scratch / "paced").glob("*/DR1-*.cfg"))
expect(len(set(captures)) == 7, f"every trial has a capture: {captures}")

# Nothing is open or wrong in its wiring.
has(run("wiring", case), "MU1      X2:5-6", "VT1.vc")
has(run_paced("prove", case), "14 of 16 proven, 0 wrong")

# A load at a power amplifier, as a process of its own: judged beforehand, and as it then is.
amplifier = demo / "amplifier"
has(run("check", amplifier), "power_cut.heating: stable")
has(run_paced("test", amplifier, "--out", "amplifier"), "2 of 2 trials passed")
loose = scratch / "loose"
shutil.copytree(amplifier, loose)
(loose / "bench.toml").write_text((loose / "bench.toml").read_text().replace('resistance = "10 ohm"', 'resistance = "20 mohm"').replace('inductance = "8 mH"', 'inductance = "0 H"'))
has(run("check", loose), "power_cut.heating: unstable at", "share")
has(run("test", loose, "--out", "loose", code=1), "power_cut.heating: unstable at", "even_unstable")

# A panel in another process works the breaker, remote and at hand, and sees what comes of it.
orders = """order_open press
wait 400 ms
order_close press
wait 500 ms
remote off
order_open press
wait 300 ms
hand_open press
wait 500 ms
lamp on
show
"""


def at_the_panel():
    """What the desk saw, what the run printed, its exit code, and the capture of the meantime."""
    going = subprocess.Popen([tool, "run", str(case), "--for", "7 s"], cwd=scratch, stdout=subprocess.PIPE, text=True)
    capture = None
    if shutil.which("tshark"):
        capture = subprocess.Popen(["tshark", "-i", "lo", "-f", "ether proto 0x88ba or (vlan and ether proto 0x88ba)", "-a", "duration:6",
                                    "-w", str(scratch / "mu.pcap")], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(2)
    desk = subprocess.run([tool, "panel", str(case), "desk"], input=orders, capture_output=True, text=True, timeout=30, cwd=scratch)
    out = going.communicate(timeout=30)[0]
    if capture:
        capture.wait(timeout=20)
    return desk, out, going.returncode, capture is not None


def samples():
    """Of each frame in the capture: time, count, synchronisation, identifier, what is malformed."""
    fields = subprocess.run(["tshark", "-r", str(scratch / "mu.pcap"), "-Y", 'sv.svID == "VSKMU1S"', "-T", "fields", "-e", "frame.time_epoch",
                             "-e", "sv.smpCnt", "-e", "sv.smpSynch", "-e", "sv.appid", "-e", "_ws.malformed"],
                            capture_output=True, text=True).stdout.split("\n")
    return [f.split("\t") for f in fields if f]


def numbers_skipped(rows):
    """Each frame stands once in the capture of the loopback, or twice, as it leaves and as it comes."""
    counts = [int(row[1]) for row in rows]
    seen = [c for k, c in enumerate(counts) if k == 0 or c != counts[k - 1]]
    return [step for step in ((b - a) % 4000 for a, b in zip(seen, seen[1:])) if step != 1]


def wanted_of(out):
    """By IRIG-B at a terminal, which says how good the bench's own clock is."""
    return {"0" if "clock, not synchronised" in out else "2"}


# A computer that holds the merging unit back for longer than the relay waits ends the run, and by some milliseconds
# spoils a second of the time code: then once more.
desk = out = captured = rows = None


def kept_time():
    global desk, out, captured, rows
    desk, out, code, captured = at_the_panel()
    rows = samples() if captured and code == 0 else []
    synchronised = {row[2] for row in rows[-2000:]}
    fine = code == 0 and (not captured or synchronised == wanted_of(out) and all(step <= 40 for step in numbers_skipped(rows)))
    return fine or None, f"exit {code}, smpSynch {synchronised}, not {wanted_of(out)}, jumps {numbers_skipped(rows)[:8]}\n{out}"


attempts(kept_time)
expect(desk.returncode == 0, desk.stderr)
lines = [line.split("s  ", 1)[1] for line in desk.stdout.splitlines() if "s  " in line]
q1 = [line for line in lines if line.startswith("Q1 ")]
expect(q1 == ["Q1 on", "Q1 off", "Q1 on", "Q1 off"], f"{q1}\n{desk.stdout}")
has(desk.stdout, 'no switch "lamp"', "lamp Q1 off")
has(out, "bench.remote open", "Q1D: ".replace(": ", ""), "opened 2, closed 1 times")
events = [line.split("  ")[-1].strip() for line in out.splitlines()]
at = events.index("bench.remote open")
expect("Q1 open" not in events[at:events.index("bench.hand_open closed")], "a remote order is not obeyed at hand")

if captured:
    expect(len(rows) > 12_000, f"{len(rows)} frames of samples")
    # On a busy computer the capture itself may lack a frame.
    jumps = numbers_skipped(rows)
    expect(len(jumps) <= 5 and all(2 <= step <= 40 for step in jumps), f"counts that jump: {jumps[:8]}")
    expect(not any(row[4] for row in rows), "frames that are malformed")
    # The number says the instant within its second, once it has settled.
    late = sorted(((float(row[0]) % 1) - int(row[1]) / 4000 + 0.5) % 1 - 0.5 for row in rows[8000:])
    expect(abs(late[len(late) // 2]) < 600e-6, f"samples lie {late[len(late) // 2] * 1e6:.0f} us behind their numbers")
finish()
