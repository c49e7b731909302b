"""A case written out as C, compiled by what compilers there are, beside the library of the same case; within a test bench in
SystemVerilog where Verilator is."""
import ctypes
import re
import shutil
from ctypes import byref, c_char_p, c_double, c_int, c_void_p

from harness import *

case = demo / "veskar"
names = ["CT1.ia", "quay.va", "T1.ia", "VT0.va", "cable3.ic", "Q1.closed"]
text = run("export", case, "--as", "c", "--out", scratch / "quay.c", "--outputs", *names)
has(text, "quay.c", "quay.h", "6 outputs", "a step of 50 us", "C99")
run("export", case, "--as", "library", "--out", scratch / "quay.so", "--outputs", *names)
header = (scratch / "quay.h").read_text()
numbers = {}
for kind, body in re.findall(r"enum \{\n((?:  quay_(in|out)_.*\n)+)", header):
    numbers[body] = [re.search(r"/\* (.*?)[:,] ", line)[1] for line in kind.splitlines()]
expect(numbers["out"] == names and "Q1" in numbers["in"], f"the header's numbers {numbers}")
has(header, "/* CT1.ia, A */", "/* Q1: 1 closed, 0 open */", "struct quay_model {")
source_text = (scratch / "quay.c").read_text()
has(source_text, "==== lines of 3 phases", "/* line.infeed */", "trapezoidal    i = G v", "Where values stand")
expect("malloc" not in source_text and "static double" in source_text, "static memory")
(scratch / "size.c").write_text('#include "quay.h"\nconst unsigned long quay_bytes = sizeof(quay_model);\n')


class Written:
    def __init__(self, compiler):
        file = scratch / f"quay-{compiler}.so"
        done = subprocess.run([compiler, "-std=c99", "-pedantic", "-Wall", "-Wextra", "-Werror", "-O2", "-shared", "-fPIC", "quay.c", "size.c", "-o", file, "-lm"],
                              capture_output=True, text=True, cwd=scratch)
        expect(done.returncode == 0, f"{compiler}: {done.stderr[:2000]}")
        self.code = ctypes.CDLL(str(file))
        self.code.quay_get.restype = self.code.quay_time.restype = c_double
        self.memory = ctypes.create_string_buffer(ctypes.c_ulong.in_dll(self.code, "quay_bytes").value + 8)
        self.code.quay_start(self.memory)

    def set(self, name, value):
        return self.code.quay_set(self.memory, numbers["in"].index(name), c_double(value))

    def step(self):
        return self.code.quay_step(self.memory)

    def outputs(self):
        return [self.code.quay_get(self.memory, k) for k in range(len(names))]


class Library:
    def __init__(self):
        self.code = ctypes.CDLL(str(scratch / "quay.so"))
        self.code.zavrek_model_open.restype = c_void_p
        self.code.zavrek_model_get.restype = c_double
        self.it = c_void_p(self.code.zavrek_model_open(None, 0))

    def set(self, name, value):
        return self.code.zavrek_model_set(self.it, 0, self.code.zavrek_model_find(self.it, 0, name.encode()), c_double(value))

    def step(self):
        return self.code.zavrek_model_step(self.it)

    def outputs(self):
        return [self.code.zavrek_model_get(self.it, 2, k) for k in range(len(names))]


def walk(model, steps=6000):
    seen = []
    for k in range(steps):
        if k in (1000, 3500):
            expect(model.set("Q1", 0 if k == 1000 else 1) == 0, "Q1 moves")
        expect(model.step() == 0, "steps")
        seen.append(model.outputs())
    return seen


exact = walk(Library())
peaks = [max(abs(row[k]) for row in exact) for k in range(len(names))]
expect(min(row[5] for row in exact) == 0 and exact[-1][5] == 1, "Q1 opened and closed")
compilers = [c for c in ("gcc", "clang") if shutil.which(c)]
for compiler in compilers:
    model = Written(compiler)
    seen = walk(model)
    worst = max(abs(a - b) / peak for mine, other in zip(seen, exact) for a, b, peak in zip(mine, other, peaks))
    expect(worst < 1e-9, f"{compiler}: {worst:.1e} of a peak")
    kept = model.memory.raw
    more = walk(model, 300)
    ctypes.memmove(model.memory, kept, len(kept))
    expect(walk(model, 300) == more, "a copy of its memory saves it")
    expect(model.set("Q1", float("nan")) == 1 and model.code.quay_set(model.memory, 999, c_double(0)) == 1 and model.code.quay_fire(model.memory, 0, 1, c_double(0)) == 1, "refused")
# --- what is not written --------------------------------------------------------------------------
has(run("export", demo / "amplifier", "--as", "c", code=2), "imposed_current.heater", "equations of its own", "not written out in C")
has(run("export", demo / "island", "--as", "c", code=2), "is averaged over its pulses")
has(run("export", case, "--as", "c", "--trial", "busbar fault at the quai", code=2), 'did you mean "busbar fault at the quay"')
has(run("export", case, "--trial", "busbar fault at the quay", code=2), "go with --as c")
has(run("export", demo / "battery", "--as", "c", "--without-control", "--out", scratch / "battery.c"), "battery.c")
expect("battery_gate_" in (scratch / "battery.h").read_text(), "its gates are fired from outside")
done = subprocess.run(["gcc", "-std=c99", "-pedantic", "-Wall", "-Wextra", "-Werror", "-c", "battery.c"], capture_output=True, text=True, cwd=scratch)
expect(done.returncode == 0, done.stderr[:2000])
told = json.loads(run("export", case, "--as", "c", "--json", "--out", scratch / "its-own.name.c", "--outputs", *names))
expect(told["header"] == str(scratch / "its-own.name.h") and "step_cost_s" not in told, f"{told}")
has((scratch / "its-own.name.c").read_text(), '#include "its-own.name.h"', "int its_own_name_step(")
# Whatever ships and can be written compiles, and goes its way for some steps.
(scratch / "some.c").write_text("""#include "it.h"
#include <stdio.h>
static it_model m;
int main(void) {
  int k;
  double sum = 0;
  it_start(&m);
  for (k = 0; k < 2000; ++k)
    if (it_step(&m)) return printf("not finite behind %g s\\n", it_time(&m)), 1;
  for (k = 0; k < IT_OUTS; ++k) sum += it_get(&m, k);
  return printf("%g\\n", sum), sum - sum != 0;
}
""")
written = []
for other in sorted(path for path in demo.iterdir() if (path / "case.toml").exists() or (path / "network.toml").exists()):
    done = subprocess.run([tool, "export", other, "--as", "c", "--out", scratch / "it.c"], capture_output=True, text=True)
    if done.returncode:
        has(done.stderr + done.stdout, "not written out in C")
        continue
    done = subprocess.run(["gcc", "-std=c99", "-pedantic", "-Wall", "-Wextra", "-Werror", "-O1", "some.c", "it.c", "-o", "some", "-lm"], capture_output=True, text=True, cwd=scratch)
    expect(done.returncode == 0, f"{other.name}: {done.stderr[:1000]}")
    done = subprocess.run(["./some"], capture_output=True, text=True, cwd=scratch)
    expect(done.returncode == 0, f"{other.name}: {done.stdout}")
    written.append(other.name)
expect(len(written) >= 22 and {"veskar", "line", "converter", "two-halls", "crane", "tractor", "roof", "sea-link", "headland", "harbour", "link"} <= set(written), f"{written}")
# --- control ----------------------------------------------------------------------------------------
# Closed loops, beside the library: the plant is condensed there, so that voltages differ by some 1e-5.
for other, steps, moved in (("battery", 30000, ("i.d", "measured.p", "L1.ia")), ("compensator", 8000, ("compensator.q", "C5.v")), ("transfer", 6000, ("whole", "QT.ia")),
                             ("crane", 30000, ("hoist.speed", "hoist.ia", "C1.v")), ("wind", 20000, ("rotor.torque", "L6.ia", "feed.q"))):
    run("export", demo / other, "--as", "c", "--out", scratch / "loop.c")
    outputs = re.findall(r"^  loop_out_\w+, /\* (.*?), ", (scratch / "loop.h").read_text(), re.M)
    run("export", demo / other, "--as", "library", "--out", scratch / "loop_library.so", "--outputs", *outputs)
    (scratch / "loop_size.c").write_text('#include "loop.h"\nconst unsigned long bytes = sizeof(loop_model);\n')
    own = scratch / f"loop-{other}.so"
    done = subprocess.run(["gcc", "-std=c99", "-O1", "-shared", "-fPIC", "loop.c", "loop_size.c", "-o", own, "-lm"], capture_output=True, text=True, cwd=scratch)
    expect(done.returncode == 0, done.stderr[:1000])
    mine, its = ctypes.CDLL(str(own)), ctypes.CDLL(str((scratch / "loop_library.so").rename(scratch / f"loop_library_{other}.so")))
    mine.loop_get.restype = its.zavrek_model_get.restype = c_double
    its.zavrek_model_open.restype = c_void_p
    memory, it = ctypes.create_string_buffer(ctypes.c_ulong.in_dll(mine, "bytes").value), c_void_p(its.zavrek_model_open(None, 0))
    mine.loop_start(memory)
    peaks, apart = [0.0] * len(outputs), [0.0] * len(outputs)
    for _ in range(steps):
        if mine.loop_step(memory) or its.zavrek_model_step(it):
            expect(False, f"{other} ends")
        for n in range(len(outputs)):
            value = its.zavrek_model_get(it, 2, n)
            peaks[n], apart[n] = max(peaks[n], abs(value)), max(apart[n], abs(value - mine.loop_get(memory, n)))
    worst = max(a / max(p, 1e-3) for a, p in zip(apart, peaks))
    expect(worst < 1e-4, f"{other}: {worst:.1e} of a peak, {outputs[apart.index(max(apart))]}")
    expect(all(peaks[outputs.index(name)] > 0.5 for name in moved), f"{other}: {dict(zip(outputs, peaks))}")
# --- in a test bench -------------------------------------------------------------------------------
if shutil.which("verilator"):
    done = subprocess.run([source / "examples" / "quay_bench" / "run", scratch / "bench"], capture_output=True, text=True, env=os.environ | {"ZAVREK": tool})
    expect(done.returncode == 0, done.stdout + done.stderr)
    has(done.stdout, "Q1 open", "pass")
finish()
