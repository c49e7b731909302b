"""Every verb of the tool on the demo: what it prints, the files it leaves, its exit code."""
import math
import shutil
import signal
import subprocess
import time

from harness import *
import comtrade_reader

# check
has(run("check", demo / "veskar"), "Veskar quay, 11 kV shore supply", "36 unknown, 3 imposed by sources", "travel time of the shortest line",
    "a step here", "with a discontinuity")
checked = as_json(run("check", demo / "veskar", "--json"))
expect(checked["partitions"] == 2, "partitions in JSON")
expect(0 < checked["measured_step_s"] < checked["measured_discontinuous_step_s"] < checked["measured_bound_s"], "times of a step")
has(run("check", demo / "veskar", "--signals"), "cable1.ia_far  A", "quay.va        V", "Q1.closed")
has(run("check", scratch / "nowhere", code=2), "is no folder; a case is a folder with network.toml in it")

# every fault of a case at once, exit 2
bad = scratch / "bad"
bad.mkdir()
(bad / "network.toml").write_text('[bus]\nquay = "11"\n[cable.c]\nbetween = ["quay", "quay"]\n')
text = run("check", bad, code=2)
has(text, 'network.toml:2: bus.quay, voltage: "11" has no unit; a voltage is wanted, such as "11 kV"',
    'network.toml:4: cable.c, between: both ends are bus "quay"', "network.toml:3: cable.c, length: missing")

# the steady state: a published feeder's voltages, powers that add up
text = run("steady", source / "tests" / "data" / "feeder13")
has(text, "13-node test feeder: the state that runs start in, rms", "per unit of nominal", "unbalance", "lost kW", "reg.tap_a 10")
state = as_json(run("steady", source / "tests" / "data" / "feeder13", "--json"))
at_671 = next(b for b in state["buses"] if b["bus"] == "n671")
expect(abs(at_671["v"]["a"]["rms"] / at_671["nominal_V"] - 0.9900) < 1e-3, f"n671 at {at_671}")
expect(abs(at_671["v"]["ab"]["rms"] / 4160 - 1) < 0.06, "between phases")
ends = {}
for end in state["ends"]:
    ends.setdefault(end["element"], []).append(end["active_W"])
expect(all(sum(powers) > -1 for powers in ends.values() if len(powers) == 2), "nothing between two buses gives power")
has(run("steady", demo / "harbour", "--between-phases"), "a-b, b-c, c-a: kV and degrees", "gen", "pump")
has(run("steady", scratch / "nowhere", code=2), "is no folder")
rest = scratch / "rest"
rest.mkdir()
(rest / "network.toml").write_text('start = "zero"\n[bus]\na = "11 kV"\n[source.s]\nbus = "a"\nshort_circuit = "100 MVA"\n')
has(run("steady", rest), "everything is at rest")

# describe
has(run("describe"), "cable", "stage", "trial")
has(run("describe", "breaker"), "opening_time            a time in ms; default 0 ms")
has(run("describe", "cabel", code=2), 'nothing is called "cabel", did you mean "cable"?')

# line constants, and a cross-section that cannot be
has(run("line", demo / "veskar" / "quay-cable.toml", "--length", "12 km", "--in-phases"), "fit in phases over frequency, 12 km", ": passive")
fitted = as_json(run("line", demo / "veskar" / "infeed-line.toml", "--length", "22 km", "--in-phases", "--json"))["fit"]
expect(fitted["passive"] and fitted["propagation_error"] < 1e-3 and len(fitted["fronts"]) >= 1, "a fit in phases as JSON")
has(run("line", demo / "veskar" / "infeed-line.toml", "--in-phases", "--figure", "x.png", code=2), "leave --in-phases out")
has(run("line", demo / "veskar" / "infeed-line.toml"), "series impedance, ohm/km", 'r1 = "0.12', "waves travel 1 km in 3.")
constants = as_json(run("line", demo / "veskar" / "infeed-line.toml", "--json"))
expect(abs(constants["x1_ohm_per_m"] - 0.40e-3) < 0.02e-3, f"x1 of {constants['x1_ohm_per_m']}")
text = run("line", demo / "veskar" / "infeed-line.toml", "--length", "22 km", "--figure", "line.png")
has(text, "fit over frequency, 22 km with 14 poles: passive", "propagation error")
expect((scratch / "line.png").read_bytes()[:4] == b"\x89PNG", "figure of a line")
cable = as_json(run("line", demo / "veskar" / "quay-cable.toml", "--length", "2.4 km", "--json"))
expect(cable["fit"]["passive"] and cable["fit"]["modes"][0]["propagation_error"] < 1e-3, "fit of a cable")
has(run("line", demo / "veskar" / "quay-cable.toml"), "3 cables at 50 Hz", "screens bonded both ends")
has(run("line", demo / "veskar" / "quay-cable.toml", "--length", "0 km", code=2), "a length above zero is wanted")
(scratch / "wire.toml").write_text('[wire.a]\nphase = "d"\nheigth = "3 m"\n')
has(run("line", "wire.toml", code=2), 'wire.toml:2: wire.a, phase: "d" is none of', 'heigth: no such field, did you mean "height"?')

# a converter under control: what the control is made of, a trial of it, and a control that cannot be
has(run("check", demo / "battery", "--knobs"), "battery.voltage V", "no line sets a bound")
has(run("describe", "modulator"), "dead_time", "carrier")
has(run("test", demo / "battery", "--pace", "free", "--no-figures", "--only", "no longer fires"), "L1.ia mean", "1 of 1 trials passed")
loop = scratch / "loop"
shutil.copytree(demo / "battery", loop)
(loop / "control.toml").write_text('[sum.a]\ninputs = ["b"]\n[sum.b]\ninputs = ["a"]\n[pi.c]\nproportionl = 2\n')
has(run("check", loop, code=2), 'control.toml:5: pi.c, input: missing', 'proportionl: no such field, did you mean "proportional"?')
(loop / "control.toml").write_text('[sum.a]\ninputs = ["b"]\n[sum.b]\ninputs = ["a"]\n')
has(run("check", loop, code=2), "stands in an algebraic loop: a <- b <- a; put a delay into it")

# usage
run("frobnicate", code=2)
run("test", code=2)
has(run("--help"), "check", "relay", "fitness")

# run and plot
text = run("run", demo / "veskar", "--for", "0.2 s", "--place", "plant", "--pace", "free", "--record", "run.csv", "--figure", "run.png")
has(text, "times real time", "compute time")
expect((scratch / "run.csv").read_text().startswith("time_s,CT0.ia A,CT0.ib A"), "CSV header")
expect((scratch / "run.png").read_bytes()[:4] == b"\x89PNG", "figure")
# Open-ended: interrupted, it ends well, and the record holds the latest part.
endless = subprocess.Popen([tool, "run", demo / "veskar", "--until-stopped", "--keep", "0.2 s", "--place", "plant", "--pace", "free", "--record", "latest.csv"],
                           stdout=subprocess.PIPE, text=True, cwd=scratch)
time.sleep(2)
endless.send_signal(signal.SIGINT)
text = endless.communicate(timeout=60)[0]
expect(endless.returncode == 0, f"run --until-stopped: exit {endless.returncode}")
has(text, "of the plant in each", "times real time")
times = [float(line.split(",")[0]) for line in (scratch / "latest.csv").read_text().splitlines() if line[:1].isdigit()]
expect(abs(times[-1] - times[0] - 0.2) < 0.01 and times[-1] > 0.5, f"the latest 0.2 s are wanted, not {times[0]} to {times[-1]}")
has(run("run", demo / "veskar", "--until-stopped", "--for", "1 s", code=2), "--for excludes --until-stopped")
has(run("run", demo / "veskar", "--for", "0.4 s", "--place", "plant", "--pace", "free", "--at", "0.1 s: open Q1", "--at", "0.25 s: close Q1"), "Q1 closed")
has(run("run", demo / "veskar", "--at", "0.1 s: shut Q1", code=2), '"0.1 s: shut Q1" is no operation')
has(run("run", demo / "veskar", "--at", "0.1 s: open Q11", code=2), 'did you mean "Q1"?')
has(run("run", demo / "veskar", "--for", "2 km", code=2), '"2 km" is a length; a time is wanted')
for wrong in ("0 s", "-1 s"):
    for words in (("run", demo / "veskar"), ("reference", demo / "veskar"), ("steps", demo / "veskar"), ("fitness",)):
        has(run(*words, f"--for={wrong}", code=2), f'--for: "{wrong}" is no time above zero')
has(run("plot", "run.csv", "--figure", "from-csv.svg"), "from-csv.svg")
# without a bench: as long as told, all voltages and currents, or those asked for
has(run("run", source / "tests" / "data" / "feeder13", "--for", "0.1 s", "--pace", "free", "--record", "all.csv"), "2000 steps of 50 us: 100 ms")
header = (scratch / "all.csv").read_text().split("\n")[0].split(",")
expect("n671.va V" in header and len(header) > 100, f"all voltages and currents: {header[:4]}")
run("run", source / "tests" / "data" / "feeder13", "--for", "0.1 s", "--pace", "free", "--record", "two.csv", "--signals", "n671.va", "reg.tap_a")
expect((scratch / "two.csv").read_text().startswith("time_s,n671.va V,reg.tap_a"), "the signals asked for")
has(run("run", source / "tests" / "data" / "feeder13", "--record", "x.csv", "--signals", "n671.vx", code=2), 'no signal "n671.vx"')

# judging the step: reference, steps, compare
trial = "earth fault through 20 ohm on cable 1"
text = run("reference", demo / "veskar", "--trial", trial, "--for", "0.25 s", "--figure", "ref.png", "--record", "ref.csv")
has(text, "variable steps (precision 1e-8)", "5000 of 50 us", "nrmse")
expect((scratch / "ref.png").read_bytes()[:4] == b"\x89PNG", "overlay figure")
quiet = as_json(run("reference", demo / "veskar", "--for", "0.06 s", "--json"))
expect(quiet["passed"] and max(s["nrmse"] for s in quiet["signals"]) < 1e-3, "a quiet network agrees to 0.1 %")
has(run("steps", demo / "veskar", "--for", "0.05 s", "--signals", "quay.va", "cable1.ia"), "largest step that keeps 1 % rms of the peak: 74.89 us", "beyond 74.89 us waves cross a line within a step: not tried",
    "the error falls with the step to the power of", "fastest modes", "kHz")
has(run("reference", demo / "veskar", "--trial", "earth fault", code=2), 'no trial "earth fault"')
has(run("reference", demo / "veskar", "--signals", "quay.vq", code=2), 'no signal "quay.vq", did you mean')
has(run("reference", demo / "veskar", "--precision", "0.5", code=2), "--precision: from 1e-12 to 1e-2 is wanted")
shifted = "time_s,x V\n" + "".join(f"{k * 1e-3},{math.sin(0.1 * k - 0.05)}\n" for k in range(400))
(scratch / "one.csv").write_text("time_s,x V\n" + "".join(f"{k * 1e-3},{math.sin(0.1 * k)}\n" for k in range(400)))
(scratch / "two.csv").write_text(shifted)
has(run("compare", "one.csv", "two.csv", code=1), "FAILED: 0 of 1 signals")
has(run("compare", "one.csv", "two.csv", "--shift", "2 ms", "--figure", "cmp.svg"), "the second late by 500.", "passed: 1 of 1")
expect("svg" in (scratch / "cmp.svg").read_text(), "overlay as SVG")
expect(as_json(run("compare", "ref.csv", "ref.csv", "--json"))["passed"], "a record agrees with itself")
has(run("compare", "one.csv", "ref.csv", code=2), "the two records have no signal of the same name")
(scratch / "bad.csv").write_text("time_s,x V\n0,1\n0,2\n")
has(run("compare", "one.csv", "bad.csv", code=2), "bad.csv:3: time does not rise")

# all trials without devices of their own
result = as_json(run("test", demo / "veskar", "--out", "out", "--json", "--pace", "free", "--place", "plant"))
expect(result["passed"] and len(result["trials"]) == 8, "JSON verdicts")

# a disk that is full: every trial is run and said, nothing is left half written, and the exit tells
small = scratch / "small"
small.mkdir()
if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=300k", "none", small], capture_output=True).returncode == 0:
    try:
        text = run("test", demo / "veskar", "--place", "plant", "--pace", "free", "--out", small / "out", "--no-figures", code=3)
        has(text, "8 of 8 trials passed", "cannot be written (No space left on device)", "not all evidence was written")
        left = [path for path in (small / "out").iterdir()]
        expect(all(not path.name.startswith(".") for path in left), f"left behind: {left}")
        has(run("plot", "out/02-two-phase-fault-far-down-cable-1.cfg", "--figure", small / "again.png", code=2), "again.png")
        expect(not (small / "again.png").exists(), "half a figure")
    finally:
        subprocess.run(["umount", small], check=True)
# a place that is a symbolic link is replaced, not followed
(scratch / "precious").write_text("kept")
(scratch / "linked.csv").symlink_to(scratch / "precious")
run("run", demo / "veskar", "--for", "0.1 s", "--place", "plant", "--pace", "free", "--record", "linked.csv")
expect((scratch / "precious").read_text() == "kept" and not (scratch / "linked.csv").is_symlink(), "a link was followed")
expect(run("run", demo / "veskar", "--for", "0.1 s", "--place", "plant", "--pace", "free", "--record", "/dev/null", code=0) != "", "/dev/null")

# every encoding of a record holds the same, peaks included
stem = "02-two-phase-fault-far-down-cable-1"
kept = {}
for encoding in ("ascii", "binary", "binary32", "float32"):
    run("test", demo / "veskar", "--place", "plant", "--pace", "free", "--only", "two-phase fault far", "--format", encoding,
        "--out", encoding, "--no-figures")
    kept[encoding] = comtrade_reader.read(scratch / encoding / next((scratch / encoding).glob("*.cfg")).stem)
    expect(kept[encoding]["encoding"] == encoding.upper(), kept[encoding]["encoding"])
    expect(kept[encoding]["digital"] == kept["ascii"]["digital"], f"{encoding}: states differ")
for encoding, share in (("binary", 4e-5), ("binary32", 1.1e-5), ("float32", 1.1e-5)):
    for name, values in kept["ascii"]["analog"].items():
        peak = max(abs(v) for v in values)
        other = kept[encoding]["analog"][name]
        expect(None not in other, f"{encoding}: {name} lost samples")
        expect(max(abs(a - b) for a, b in zip(values, other)) <= share * peak, f"{encoding}: {name} differs")

# the wrong setting is found
text = run("test", demo / "wrong-setting", "--out", "wrong", "--place", "plant", "--pace", "free", code=1)
has(text, "FAIL two-phase fault far down cable 1", "margin -7", "1 of 2 trials passed")
has(run("test", demo / "veskar", "--only", "tsunami", code=2), 'no trial has "tsunami" in its name')

# the plot of a record, and records that are none
has(run("plot", "out/02-two-phase-fault-far-down-cable-1.cfg", "--figure", "again.svg"), "again.svg")
has(run("plot", "none.cfg", "--figure", "x.png", code=2), "none.cfg: cannot be read")
(scratch / "broken.cfg").write_text("a,b,1999\n2,1A,1D\n")
(scratch / "broken.dat").write_text("")
has(run("plot", "broken.cfg", "--figure", "x.png", code=2), "broken.cfg:2: ends before its analogue channels")

# the stand-in refuses settings that cannot work
(scratch / "R.toml").write_text('[stage.s]\npickup = "100 A"\n')
has(run("relay", "R.toml", code=2), "R.toml:1: stage.s, delay: missing")
finish()
