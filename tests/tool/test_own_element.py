"""Elements of one's own: the example libraries against what they should do, and libraries that are wrong."""
import cmath
import math
import shutil

from harness import *

NETWORK = """title = "Lamps and a reactor"
frequency = "50 Hz"
step = "20 us"

[bus]
quay = "400 V"
berth = "400 V"
hall = "400 V"

[source.grid]
bus = "quay"

[own_element.reactor]
library = "libcoupled_reactor.so"
between = ["quay", "berth"]
parameters = ["self: 2 mH", "mutual: -0.4 mH", "resistance: 20 mohm"]

[load.crane]
bus = "berth"
active = "20 kW"
reactive = "0 var"

[breaker.Q1]
between = ["berth", "hall"]
closed = false

[own_element.lamps]
library = "libfilament.so"
between = ["hall", "ground"]
parameters = ["rated_power: 1 kW", "rated_voltage: 230 V"]
"""
case = scratch / "own"
case.mkdir()
(case / "network.toml").write_text(NETWORK)
(case / "bench.toml").write_text('points_per_cycle = 1000\n')
for name in ("filament", "coupled_reactor"):
    shutil.copy(build / "examples" / f"lib{name}.so", case)
has(run("run", case, "--for", "10 ms", code=2), "own_element.", "libraries = \"trusted\"")
has(run("check", case), "own_element.lamps: libfilament.so was not run", "own_element.reactor: libcoupled_reactor.so was not run")
(case / "bench.toml").write_text('libraries = "trusted"\npoints_per_cycle = 1000\n')
has(run("check", case, "--execute", "--signals"), "lamps.temperature_a", "reactor.ic")
run("run", case, "--for", "1.6 s", "--pace", "free", "--at", "0.1 s: close Q1", "--signals", "reactor.ia", "quay.va", "berth.va", "hall.va", "lamps.ia",
    "lamps.temperature_a", "--record", "own.csv")
rows = [line.split(",") for line in (scratch / "own.csv").read_text().splitlines()]
names = [name.split(" ")[0].strip('"') for name in rows[0]]
column = {name: [float(row[k]) for row in rows[1:]] for k, name in enumerate(names)}


def phasor(name, begin):
    """Over one cycle of 1,000 samples."""
    return sum(column[name][begin + k] * cmath.exp(-2j * math.pi * k / 1000) for k in range(1000)) / 500


# The reactor's positive sequence: self less mutual; j (2/h) tan(w h / 2) in place of j w.
s = 2 / 20e-6 * math.tan(2 * math.pi * 50 * 20e-6 / 2)
expected = (phasor("quay.va", 0) - phasor("berth.va", 0)) / (0.02 + 1j * s * 2.4e-3)
expect(abs(phasor("reactor.ia", 0) - expected) < 1e-6 * abs(expected), f"{phasor('reactor.ia', 0)} A, not {expected}")
# Cold lamps draw (300/2700)^-1.2 = 14 times; hot ones their rated power.
at = next(k for k, i in enumerate(column["lamps.ia"]) if abs(i) > 0.5)
cold = max(abs(i) for i in column["lamps.ia"][at:at + 500]) / (1000 / 230 * math.sqrt(2))
expect(7 < cold < 14.5, f"cold they draw {cold} times")
late = range(len(column["hall.va"]) - 1000, len(column["hall.va"]))
volts = math.sqrt(sum(column["hall.va"][k] ** 2 for k in late) / 1000)
power = sum(column["hall.va"][k] * column["lamps.ia"][k] for k in late) / 1000
kelvin = sum(column["lamps.temperature_a"][k] for k in late) / 1000
# What it takes is what it radiates: p = P (T/T1)^4, and R follows T.
expect(abs(power / (1000 * (kelvin / 2700) ** 4) - 1) < 0.02, f"{power} W at {kelvin} K")
expect(abs(volts ** 2 / power / (230 ** 2 / 1000 * (kelvin / 2700) ** 1.2) - 1) < 0.02, f"{volts} V, {power} W, {kelvin} K")

# Libraries that are wrong are named; one that gives no number ends the run with its name.
(case / "network.toml").write_text(NETWORK.replace("self: 2 mH", "selv: 2 mH"))
has(run("run", case, "--for", "10 ms", code=2), "own_element.reactor", 'did you mean "self"')
(case / "network.toml").write_text(NETWORK.replace("mutual: -0.4 mH", "mutual: -1.4 mH"))
has(run("run", case, "--for", "10 ms", code=2), "its conductance gives energy")
(case / "network.toml").write_text(NETWORK.replace("libfilament", "libnone"))
has(run("run", case, "--for", "10 ms", code=2), "libnone.so is not there; build it")
(case / "libnone.so").write_bytes(b"no library")
has(run("run", case, "--for", "10 ms", code=2), "libnone.so: cannot be loaded")
shutil.copy(build / "examples" / "libown_controller.so", case / "libnone.so")
has(run("run", case, "--for", "10 ms", code=2), "exports no function zavrek_element_describe")
code = (source / "examples/filament.c").read_text().replace("history[0] = 0;", "history[0] = span->until > 0.15 ? 0.0 / 0.0 : 0;")
(case / "broken.c").write_text(code)
subprocess.run(["g++", "-x", "c", "-shared", "-fPIC", "-w", "-I", str(source / "include"), "-o", str(case / "libnone.so"), str(case / "broken.c")], check=True)
has(run("run", case, "--for", "0.3 s", "--pace", "free", code=1), "own_element.lamps (what it gave is no number, or no conductance)")
has(run("export", case, code=2), "own_element", "code of its own")
finish()
