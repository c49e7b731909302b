"""The quay against relays in processes of their own, by the clock: verdicts, evidence, trip times by hand, interruption."""
import math
import signal
import subprocess
import time

from harness import *
import comtrade_reader

# all trials against relays in processes of their own
text = run_paced("test", demo / "veskar", "--out", "out", "--format", "ascii")
has(text, "8 of 8 trials passed", "start lateness", "overruns", "wire: ", "report: out/report.html")
expect((scratch / "out" / "01-three-phase-fault-close-on-cable-1.png").exists(), "figure of a trial")
has((scratch / "out" / "report.html").read_text(), "8 of 8 trials passed", "uPlot")


def rms_after(record, names, start, cycles):
    """Fundamental over whole cycles, by its own sums: largest single signal, and the sum of all."""
    rate, first = record["rate"], round(start * record["rate"])
    count = round(cycles * rate / 50)
    def magnitude(values):
        c = sum(v * math.cos(2 * math.pi * 50 * k / rate) for k, v in enumerate(values))
        s = sum(v * math.sin(2 * math.pi * 50 * k / rate) for k, v in enumerate(values))
        return math.hypot(c, s) * math.sqrt(2) / count
    columns = [record["analog"][n][first:first + count] for n in names]
    return max(map(magnitude, columns)), magnitude([sum(v) for v in zip(*columns)])


def iec(current, pickup, multiplier, k, alpha):
    return multiplier * k / ((current / pickup) ** alpha - 1)


# Trip times against a calculation of our own from the recorded fault current and the settings by hand.
by_hand = {
    "01-three-phase-fault-close-on-cable-1": lambda phase, earth: 0.05,
    "02-two-phase-fault-far-down-cable-1": lambda phase, earth: iec(phase, 420, 0.15, 0.14, 0.02),
    "03-earth-fault-through-20-ohm-on-cable-1": lambda phase, earth: iec(earth, 60, 0.2, 13.5, 1),
    "04-solid-earth-fault-on-cable-1": lambda phase, earth: 0.15,
    "05-two-phase-to-earth-fault-half-way-on-cable-1": lambda phase, earth: iec(phase, 420, 0.15, 0.14, 0.02),
}
for stem, expected in by_hand.items():
    record = comtrade_reader.read(scratch / "out" / stem)
    phase, earth = rms_after(record, ["CT1.ia", "CT1.ib", "CT1.ic"], record["trigger"] + 0.02, 1)
    trips = [k for k, v in enumerate(record["digital"]["R1.trip"]) if v]
    measured = trips[0] / record["rate"] - record["trigger"]
    late = measured - expected(phase, earth)
    print(f"{stem}: {phase:.0f} A, residual {earth:.0f} A: {expected(phase, earth):.3f} s by hand, {measured:.3f} s recorded")
    expect(-0.002 <= late <= 0.03, f"{stem}: {measured} s recorded, {expected(phase, earth)} s by hand")

# interrupted, as a terminal does it to the whole group: what ran is written and said, the relays end
def interrupt(words, ready):
    began = subprocess.Popen([tool, *map(str, words)], cwd=scratch, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                             text=True, start_new_session=True)
    lines = []
    while ready and ready not in "".join(lines[-1:]):
        lines.append(began.stdout.readline())
    time.sleep(0.4 if ready else 1.5)
    os.killpg(began.pid, signal.SIGINT)
    rest = began.communicate(timeout=30)[0]
    expect(began.returncode == 130, f"{words}: exit {began.returncode}\n{rest}")
    return "".join(lines) + rest


text = interrupt(["test", demo / "veskar", "--out", "cut", "--no-figures"], "pass three-phase fault")
has(text, "interrupted: ", " of 8 trials were run to their end", "report: cut/report.html", "interrupted at t = ")
expect((scratch / "cut" / "report.html").exists() and len(list((scratch / "cut").glob("*.cfg"))) >= 2, "no evidence kept")
expect(f"zavrek\0relay\0{demo}" not in "".join(p.read_text(errors="ignore") for p in pathlib.Path("/proc").glob("[0-9]*/cmdline")
                                             if p.exists()), "a relay is left behind")
has(interrupt(["run", demo / "veskar", "--for", "60 s", "--place", "plant", "--record", "cut.csv"], None), "interrupted at t = ")
expect(len((scratch / "cut.csv").read_text().splitlines()) > 1000, "no record of what ran")

# element tests of a relay in a process of its own: interrupted, what was tried to its end is kept
going = subprocess.Popen([tool, "inject", demo / "veskar" / "R1.toml", "--only", "phase2", "--place", "process", "--out", "cut-short", "--no-figures"], cwd=scratch,
                         stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
has(going.stdout.readline(), "R1 is in a process of its own, at its own pace")
time.sleep(5)
going.send_signal(signal.SIGINT)
said = going.communicate(timeout=60)[0]
expect(going.returncode == 130, f"inject: exit {going.returncode}\n{said}")
has(said, "interrupted after", "report: cut-short/report.html", "points")
kept = (scratch / "cut-short" / "points.csv").read_text().splitlines()[1:]
expect(kept and all(row.endswith(",1") for row in kept), f"kept: {kept}")

# the same trials where raw sockets are not allowed: frames in datagrams, and it says so
datagram = scratch / "datagram"
datagram.mkdir()
(datagram / "case.toml").write_text(f'network = "{demo}/veskar/network.toml"\ntrials = "{demo}/veskar/trials.toml"\n')
bench = (demo / "veskar" / "bench.toml").read_text().replace('interface = "lo"', 'interface = "lo"\nmedium = "datagram"')
(datagram / "bench.toml").write_text(bench.replace('settings = "', f'settings = "{demo}/veskar/'))
has(run_paced("test", datagram, "--only", "solid", "--out", "d", "--no-figures"), "frames in datagrams on loopback", "1 of 1 trials passed")

# fitness measures
has(run("fitness", "--for", "0.2 s", "--write", "settings.sh", code=None), "start lateness", "idle steps of 50 us", "held up /s",
    "half of it work", "what could be set", "settings.sh: read it")
expect((scratch / "settings.sh").read_text().startswith("#!/bin/sh"), "what is advised is no script")
expect(subprocess.run(["sh", "-n", scratch / "settings.sh"]).returncode == 0, "the shell cannot read what is advised")
found = as_json(run("fitness", "--for", "0.2 s", "--json", code=None))
expect(found["steps"] == 4000 and found["processors"] and found["processors"][0]["least_step_s"] >= 0,
       "fitness as JSON")
finish()
