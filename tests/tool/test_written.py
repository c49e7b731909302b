"""A case written out as C, compiled by what compilers there are, beside the library of the same case; every demo that can be
written; within a test bench in SystemVerilog where Verilator is."""
import ctypes
import re
import shutil
from ctypes import c_char_p, c_double, c_void_p

from harness import *

strict = ["-std=c99", "-pedantic", "-Wall", "-Wextra", "-Werror"]


def numbers_of(header, name, kind):
    """Names of inputs ("in"), gates ("gate") or outputs ("out"), in the order of the header's enumeration."""
    return re.findall(rf"^  {name}_{kind}_\w+, /\* (.*?)(?:[:,] .*)? \*/$", header, re.M)


class Written:
    """NAME.c and NAME.h of the scratch folder, compiled; its memory is the caller's."""

    def __init__(self, name, compiler="gcc", best="-O1"):
        self.name, header = name, (scratch / f"{name}.h").read_text()
        self.names, self.inputs = numbers_of(header, name, "out"), numbers_of(header, name, "in")
        file = scratch / f"{name}-{compiler}.so"
        (scratch / "size.c").write_text(f'#include "{name}.h"\nconst unsigned long bytes = sizeof({name}_model);\n')
        done = subprocess.run([compiler, *strict, best, "-shared", "-fPIC", f"{name}.c", "size.c", "-o", file, "-lm"], capture_output=True, text=True, cwd=scratch)
        expect(done.returncode == 0, f"{compiler}, {name}: {done.stderr[:2000]}")
        self.code = ctypes.CDLL(str(file))
        self.call("get").restype = self.call("time").restype = c_double
        self.memory = ctypes.create_string_buffer(ctypes.c_ulong.in_dll(self.code, "bytes").value + 8)
        self.call("start")(self.memory)

    def call(self, what):
        return getattr(self.code, f"{self.name}_{what}")

    def set(self, name, value):
        return self.call("set")(self.memory, self.inputs.index(name), c_double(value))

    def step(self):
        return self.call("step")(self.memory)

    def outputs(self):
        return [self.call("get")(self.memory, k) for k in range(len(self.names))]


class Library:
    """The same case as a library, with the same outputs."""

    def __init__(self, case, name, outputs):
        file = scratch / f"{name}-library.so"
        run("export", case, "--as", "library", "--out", file, "--outputs", *outputs)
        self.code, self.count = ctypes.CDLL(str(file)), len(outputs)
        self.code.zavrek_model_open.restype = c_void_p
        self.code.zavrek_model_get.restype = c_double
        self.it = c_void_p(self.code.zavrek_model_open(None, 0))

    def set(self, name, value):
        kind, number = next((kind, at) for kind in (0, 1) if (at := self.code.zavrek_model_find(self.it, kind, c_char_p(name.encode()))) >= 0)
        return self.code.zavrek_model_set(self.it, kind, number, c_double(value))

    def step(self):
        return self.code.zavrek_model_step(self.it)

    def outputs(self):
        return [self.code.zavrek_model_get(self.it, 2, k) for k in range(self.count)]


def apart(written, library, steps, sets=(), every=1):
    """Peaks of all outputs, and how far they were apart; sets: (step, name, value)."""
    peaks, far = [0.0] * len(written.names), [0.0] * len(written.names)
    for k in range(steps):
        for at, name, value in sets:
            if at == k:
                expect(written.set(name, value) == 0 and library.set(name, value) == 0, f"{name} is set")
        if written.step() or library.step():
            expect(False, f"{written.name} ends behind {k} steps")
        if k % every:
            continue
        for n, (own, other) in enumerate(zip(written.outputs(), library.outputs())):
            peaks[n], far[n] = max(peaks[n], abs(other)), max(far[n], abs(own - other))
    return dict(zip(written.names, peaks)), dict(zip(written.names, far))


# --- the quay: breakers, lines, instrument transformers ------------------------------------------------
case = demo / "veskar"
names = ["CT1.ia", "quay.va", "T1.ia", "VT0.va", "cable3.ic", "Q1.closed"]
text = run("export", case, "--as", "c", "--out", scratch / "quay.c", "--outputs", *names)
has(text, "quay.c", "quay.h", "6 outputs", "a step of 50 us", "C99")
header, source_text = (scratch / "quay.h").read_text(), (scratch / "quay.c").read_text()
expect(numbers_of(header, "quay", "out") == names and "Q1" in numbers_of(header, "quay", "in"), "the header's numbers")
has(header, "/* CT1.ia, A */", "/* Q1: 1 closed, 0 open */", "struct quay_model {")
has(source_text, "==== lines of 3 phases", "/* line.infeed */", "trapezoidal    i = G v", "Where values stand")
expect("malloc" not in source_text and "static double" in source_text, "static memory")
for compiler in (c for c in ("gcc", "clang") if shutil.which(c)):
    model = Written("quay", compiler, "-O2")
    peaks, far = apart(model, Library(case, f"quay-beside-{compiler}", names), 6000, [(1000, "Q1", 0), (3500, "Q1", 1)])
    expect(all(far[name] < 1e-9 * peaks[name] for name in names), f"{compiler}: {far} of {peaks}")
    expect(model.outputs()[5] == 1, "Q1 is closed again")
    kept = model.memory.raw
    seen = []
    for _ in range(2):
        ctypes.memmove(model.memory, kept, len(kept))
        seen.append([(model.step(), *model.outputs()) for _ in range(300)])
    expect(seen[0] == seen[1], "a copy of its memory saves it")
    expect(model.set("Q1", float("nan")) == 1 and model.call("set")(model.memory, 999, c_double(0)) == 1 and model.call("fire")(model.memory, 0, 1, c_double(0)) == 1, "refused")
# --- what is not written ----------------------------------------------------------------------------------
has(run("export", demo / "amplifier", "--as", "c", code=2), "imposed_current.heater", "equations of its own", "not written out in C")
has(run("export", demo / "island", "--as", "c", code=2), "is averaged over its pulses")
has(run("export", demo / "battery", "--as", "c", "--outputs", "pll.frequncy", code=2), 'no signal of the network')
has(run("export", case, "--as", "c", "--trial", "busbar fault at the quai", code=2), 'did you mean "busbar fault at the quay"')
has(run("export", case, "--trial", "busbar fault at the quay", code=2), "go with --as c")
own = scratch / "own"
shutil.copytree(demo / "battery", own)
(own / "control.toml").write_text((own / "control.toml").read_text() + '\n[own.mine]\nlibrary = "libmine.so"\ninputs = ["v: C2.v"]\n')
has(run("export", own, "--as", "c", code=2), "own.mine", "code of its own")
# --- a network alone, its gates fired from outside; names of files ------------------------------------------
has(run("export", demo / "battery", "--as", "c", "--without-control", "--out", scratch / "alone.c"), "alone.c")
model = Written("alone")
expect(len(numbers_of((scratch / "alone.h").read_text(), "alone", "gate")) == 6 and "pll.frequency" not in model.names, "its gates, no control")
for gate in range(6):
    expect(model.call("fire")(model.memory, gate, gate % 2, c_double(1e-3)) == 0, "fired")
expect(model.call("fire")(model.memory, 6, 1, c_double(1e-3)) == 1, "no seventh gate")
told = json.loads(run("export", case, "--as", "c", "--json", "--out", scratch / "its-own.name.c", "--outputs", *names))
expect(told["header"] == str(scratch / "its-own.name.h") and "step_cost_s" not in told, f"{told}")
has((scratch / "its-own.name.c").read_text(), '#include "its-own.name.h"', "int its_own_name_step(")
# --- whatever ships and can be written, beside its library ---------------------------------------------------
# The plant of a library is condensed: voltages beside converters differ by some 1e-5 of their peaks, by some 1e-3 at the neutral of a d.c. line.
# Where a control begins late, what shall have moved by then is named.
how = {"battery": (30000, 1e-4, ("i.d", "measured.p", "L1.ia")), "compensator": (8000, 1e-4, ("compensator.q", "C5.v")), "transfer": (6000, 1e-4, ("whole", "QT.ia")),
       "crane": (30000, 1e-4, ("hoist.speed", "hoist.ia", "C1.v")), "wind": (20000, 1e-4, ("rotor.torque", "L6.ia", "feed.q")),
       "headland": (12000, 1e-4, ("gen.torque", "gen.ia_far", "rotor.p")), "sea-link": (6000, 5e-3, ("D1.ip", "head_V", "T1.ia")),
       "harbour": (4000, 1e-9, ("gen.ia", "pump.torque")), "link": (6000, 1e-4, ("upper_a.i", "R.ia"))}
written = []
for other in sorted(path for path in demo.iterdir() if (path / "case.toml").exists() or (path / "network.toml").exists()):
    name = "d_" + re.sub(r"\W", "_", other.name)
    done = subprocess.run([tool, "export", other, "--as", "c", "--out", scratch / f"{name}.c"], capture_output=True, text=True)
    if done.returncode:
        has(done.stderr + done.stdout, "not written out in C" if (other / "network.toml").exists() and other.name != "shore-relay" else "")
        continue
    steps, most, moved = how.get(other.name, (2000, 1e-4, ()))
    model = Written(name)
    peaks, far = apart(model, Library(other, name, model.names), steps, every=7)
    worst = max(model.names, key=lambda output: far[output] / max(peaks[output], 1))
    expect(far[worst] <= most * max(peaks[worst], 1), f"{other.name}: {worst} apart by {far[worst]:.1e} of {peaks[worst]:.3g}")
    expect(all(peaks[output] > 0.5 for output in moved), f"{other.name} moves: {peaks}")
    written.append(other.name)
expect(len(written) >= 22 and {"veskar", "line", "converter", "two-halls", "tractor", "roof", *how} <= set(written), f"{written}")
# --- a control's set points and gains, in a closed loop -------------------------------------------------------
run("export", demo / "crane", "--as", "c", "--out", scratch / "loop.c")
model = Written("loop")
expect({"drive.speed_wanted", "udc.gain", "C1.remaining"} <= set(model.inputs), f"{model.inputs}")
peaks, far = apart(model, Library(demo / "crane", "loop", model.names), 40000, [(20000, "drive.speed_wanted", 8), (30000, "C1.remaining", 0.7), (31000, "drive.speed_wanted", -3)], every=7)
expect(all(far[name] <= 1e-4 * max(peaks[name], 1) for name in model.names), f"{far} of {peaks}")
expect(peaks["drive.speed_ramp"] > 5.5, f"it follows what was set: {peaks}")
# --- in a test bench --------------------------------------------------------------------------------------------
if shutil.which("verilator"):
    done = subprocess.run([source / "examples" / "quay_bench" / "run", scratch / "bench"], capture_output=True, text=True, env=os.environ | {"ZAVREK": tool})
    expect(done.returncode == 0, done.stdout + done.stderr)
    has(done.stdout, "Q1 open", "pass")
finish()
