"""Exported models driven by parties that share no code with ours: a C program and ctypes, from zavrek/model.h and from the Functional
Mock-up Interface 2.0 and 3.0 as the standard has them; beside a run of the same case."""
import array
import ctypes
import re
import shutil
import xml.etree.ElementTree as xml
import zipfile
from ctypes import byref, c_bool, c_char_p, c_double, c_int, c_size_t, c_uint, c_uint32, c_void_p

from harness import *

INPUT, PARAMETER, OUTPUT = 0, 1, 2
case = demo / "island"
names = ["low.va", "battery.p", "watch.frequency", "cells.charge", "L1.ia", "sun.state"]
# --- as a run of the tool ------------------------------------------------------------------------
text = run("export", case, "--as", "library", "--out", scratch / "island.so", "--outputs", *names)
has(text, "island.so", "6 outputs", "a step of 20 us took")
run("run", case, "--place", "plant", "--pace", "free", "--for", "0.4 s", "--at", "0.2 s: open Q0", "--at", "0.3 s: battery_wanted = 50 kW",
    "--record", scratch / "run.h5")


def dumped(what):
    """Doubles of a record, as another program reads them."""
    subprocess.run(["h5dump", "-d", what, "-b", "LE", "-o", scratch / "dump", scratch / "run.h5"], check=True, capture_output=True)
    return array.array("d", (scratch / "dump").read_bytes())


times, samples = dumped("/time_s"), dumped("/analogs")
channels = re.findall(r'\(\d+\): \{\s*"([^"]+)"', subprocess.run(["h5dump", "-d", "/analog_channels", scratch / "run.h5"], capture_output=True, text=True).stdout)
expect(len(samples) == len(times) * len(channels), "a row of doubles for each instant")


class Model:
    def __init__(self, file):
        self.code = ctypes.CDLL(str(file))
        f = self.code
        for name, result, arguments in (("open", c_void_p, [c_char_p, c_size_t]), ("close", None, [c_void_p]), ("step_length", c_double, [c_void_p]),
                                        ("time", c_double, [c_void_p]), ("count", c_int, [c_void_p, c_int]), ("name", c_char_p, [c_void_p, c_int, c_int]),
                                        ("unit", c_char_p, [c_void_p, c_int, c_int]), ("find", c_int, [c_void_p, c_int, c_char_p]),
                                        ("set", c_int, [c_void_p, c_int, c_int, c_double]), ("get", c_double, [c_void_p, c_int, c_int]),
                                        ("step", c_int, [c_void_p]), ("text", c_char_p, [c_void_p]), ("state_size", c_size_t, [c_void_p]),
                                        ("save", c_int, [c_void_p, c_char_p, c_size_t]), ("restore", c_int, [c_void_p, c_char_p, c_size_t]),
                                        ("reset", c_int, [c_void_p]), ("manifest", c_char_p, []), ("version", c_int, [])):
            one = getattr(f, "zavrek_model_" + name)
            one.restype, one.argtypes = result, arguments
            setattr(self, "_" + name, one)
        why = ctypes.create_string_buffer(300)
        self.it = self._open(why, 300)
        self.why = why.value.decode()

    def __getattr__(self, name):
        call = self.__dict__["_" + name]
        return lambda *words: call(self.it, *words)

    def set_by_name(self, kind, name, value):
        number = self.find(kind, name.encode())
        expect(number >= 0 and self.set(kind, number, value) == 0, f"{name} = {value}")

    def outputs(self):
        return [self.get(OUTPUT, k) for k in range(self.count(OUTPUT))]


def walk(model, steps, script=()):
    """Values after each step; `script`: what is set ahead of a step."""
    seen = []
    for k in range(steps):
        for at, kind, name, value in script:
            if at == k:
                model.set_by_name(kind, name, value)
        expect(model.step() == 0, model.text())
        seen.append(model.outputs())
    return seen


model = Model(scratch / "island.so")
expect(model.it and model._version() == 1, model.why)
step = model.step_length()
expect(abs(step - 20e-6) < 1e-15 and model.time() == 0, f"its step {step}")
manifest = json.loads(model._manifest())
expect(manifest["step_s"] == step and [o["name"] for o in manifest["outputs"]] == names and abs(manifest["control_period_s"] - 100e-6) < 1e-12, "the manifest")
expect(next(i for i in manifest["inputs"] if i["name"] == "Q0") == {"name": "Q0", "unit": "", "start": 1.0, "least": 0.0, "most": 1.0, "switch": True}, "Q0")
expect(next(i for i in manifest["inputs"] if i["name"] == "battery_wanted")["unit"] == "W", "a set point is an input")
expect(next(p for p in manifest["parameters"] if p["name"] == "roof.irradiance")["start"] == 900, "a knob of the plant is a parameter")
expect(model.unit(OUTPUT, 0) == b"V" and model.name(OUTPUT, 1) == b"battery.p", "names and units")
script = [(round(0.2 / step), INPUT, "Q0", 0), (round(0.3 / step), INPUT, "battery_wanted", 50e3)]
seen = walk(model, round(0.4 / step), script)
peaks = [max(abs(values[column]) for values in seen) for column in range(len(names))]
checked = 0
for row, time in enumerate(times):
    k = round(time / step)
    if 1 <= k <= len(seen) and abs(time - k * step) < 1e-9:
        for column, value in enumerate(seen[k - 1]):
            by_tool = samples[row * len(channels) + channels.index(names[column])]
            # A record reads on the line between the ends of a step, where its time is rounded.
            expect(abs(by_tool - value) <= 1e-10 * peaks[column], f"{names[column]} at {time} s: {by_tool!r} by the tool, {value!r} by the library")
            checked += 1
expect(checked > 4000, f"{checked} values")
# --- states, instances, refusals -----------------------------------------------------------------
size = model.state_size()
kept = ctypes.create_string_buffer(size)
expect(model.save(kept, size) == 0, "saved")
after = walk(model, 500)
expect(model.restore(kept.raw, size) == 0 and walk(model, 500) == after, "what follows a restored state is the same to the bit")
other = Model(scratch / "island.so")
expect(other.restore(kept.raw, size) == 0 and walk(other, 500) == after, "in another instance too")
expect(other.reset() == 0 and other.time() == 0 and walk(other, 3000) == seen[:3000], "back to the start")
spoiled = bytearray(kept.raw)
spoiled[size // 2] ^= 1
expect(model.restore(bytes(spoiled), size) == 4 and model.restore(kept.raw[:100], 100) == 4, "no state of its own")
expect(model.set(INPUT, 0, float("nan")) == 2 and model.set(INPUT, 9999, 0) == 1 and model.set(OUTPUT, 0, 1) == 1 and model.find(INPUT, b"Q99") == -1, "refused")
expect(model.get(OUTPUT, 99) != model.get(OUTPUT, 99) and model.name(7, 0) is None, "nothing there")
many = [Model(scratch / "island.so") for _ in range(10)]
for k, one in enumerate(many):
    one.set_by_name(PARAMETER, "roof.irradiance", 100 * k)
ends = [walk(one, 2000)[-1] for one in many]
expect(len({tuple(e) for e in ends}) == 10, "ten at once, each its own")
for one in [model, other, *many]:
    one.close()
damaged = (scratch / "island.so").read_bytes()
(scratch / "damaged.so").write_bytes(damaged[:-40] + bytes(40))
expect(Model(scratch / "damaged.so").why.endswith("carries no model; export it again"), "a library that was cut")
needed = subprocess.run(["ldd", scratch / "island.so"], capture_output=True, text=True).stdout
expect(all(any(known in line for known in ("libc.so", "libm.so", "ld-linux", "vdso")) for line in needed.splitlines() if line.strip()), needed)
# --- from C, as its header stands ----------------------------------------------------------------
(scratch / "main.c").write_text("""#include <stdio.h>
#include <zavrek/model.h>
int main(void) {
  char why[200];
  int k;
  zavrek_model* m = zavrek_model_open(why, sizeof why);
  if (!m) return printf("%s\\n", why), 1;
  zavrek_model_set(m, ZAVREK_INPUT, zavrek_model_find(m, ZAVREK_INPUT, "Q0"), 0);
  for (k = 0; k < 1000; ++k)
    if (zavrek_model_step(m) != ZAVREK_WELL) return printf("%s\\n", zavrek_model_text(m)), 1;
  printf("%.17g\\n", zavrek_model_get(m, ZAVREK_OUTPUT, zavrek_model_find(m, ZAVREK_OUTPUT, "low.va")));
  zavrek_model_close(m);
  return 0;
}
""")
done = subprocess.run(["gcc", "-std=c99", "-pedantic", "-Wall", "-Wextra", "-Werror", "-I", source / "include", "main.c", "./island.so", "-Wl,-rpath,.", "-o", "main"],
                      capture_output=True, text=True, cwd=scratch)
expect(done.returncode == 0, done.stderr)
said = subprocess.run(["./main"], capture_output=True, text=True, cwd=scratch)
expect(said.returncode == 0, said.stdout)
mine = Model(scratch / "island.so")
expect(float(said.stdout) == walk(mine, 1000, [(0, INPUT, "Q0", 0)])[-1][0], "the same from C")

# --- Functional Mock-up Units --------------------------------------------------------------------
LOG2 = ctypes.CFUNCTYPE(None, c_void_p, c_char_p, c_int, c_char_p, c_char_p, c_char_p)
LOG3 = ctypes.CFUNCTYPE(None, c_void_p, c_int, c_char_p, c_char_p)
heard = []
log2 = LOG2(lambda environment, name, status, category, form, text: heard.append(text.decode()))
log3 = LOG3(lambda environment, status, category, text: heard.append(text.decode()))


class Callbacks(ctypes.Structure):
    _fields_ = [("logger", LOG2), ("allocate", c_void_p), ("free", c_void_p), ("finished", c_void_p), ("environment", c_void_p)]


callbacks = Callbacks(log2, None, None, None, None)


class Unit:
    """One version of the interface: what is in the archive, and its calls."""
    def __init__(self, version):
        self.third = version == "3.0"
        file = scratch / f"island-{version[0]}.fmu"
        has(run("export", case, "--as", "fmu", "--fmi", version, "--out", file, "--outputs", *names), "6 outputs")
        folder = scratch / f"fmu{version[0]}"
        with zipfile.ZipFile(file) as archive:
            expect(archive.testzip() is None, "the archive is whole")
            archive.extractall(folder)
        root = self.root = xml.parse(folder / "modelDescription.xml").getroot()
        expect(root.tag == "fmiModelDescription" and root.get("fmiVersion") == version, "the version")
        ability = root.find("CoSimulation")
        self.token = root.get("instantiationToken" if self.third else "guid")
        expect(ability.get("canGetAndSetFMUState" if self.third else "canGetAndSetFMUstate") == "true" and self.token, "its abilities")
        units = {u.get("name"): u.find("BaseUnit").attrib for u in root.iter("Unit")}
        expect(units["V"] == {"m": "2", "kg": "1", "s": "-3", "A": "-1"} and units["s"] == {"s": "1"}, f"units {units}")
        self.variables = {}
        for variable in root.find("ModelVariables"):
            kind = variable if self.third else variable[0]
            expect(variable.get("name") not in self.variables, "each name once")
            self.variables[variable.get("name")] = (int(variable.get("valueReference")), variable.get("causality"), variable.get("variability"), kind.tag,
                                                    kind.get("start"), kind.get("unit"))
        references = [v[0] for v in self.variables.values()]
        expect(sorted(references) == list(range(len(references))), "value references")
        expect(self.variables["Q0"][1:5] == ("input", "discrete", "Boolean", "true"), self.variables["Q0"])
        expect(self.variables["roof.irradiance"][1:3] == ("parameter", "tunable") and float(self.variables["roof.irradiance"][4]) == 900, "a tunable parameter")
        expect(self.variables["low.va"][1] == "output" and self.variables["low.va"][5] == "V" and self.variables["low.va"][4] is None, "an output")
        structure = root.find("ModelStructure")
        wanted = [self.variables[name][0] for name in names]
        listed = [int(o.get("valueReference")) for o in structure.findall("Output")] if self.third else [int(u.get("index")) - 1 for u in structure.find("Outputs")]
        expect(listed == wanted, f"outputs {listed}")
        self.code = ctypes.CDLL(str(next((folder / "binaries").glob("*/*.so"))))
        expect(next((folder / "binaries").glob("*/*.so")).stem == ability.get("modelIdentifier"), "the library's name")
        version_of = getattr(self.code, f"fmi{version[0]}GetVersion")
        version_of.restype = c_char_p
        expect(version_of() == version.encode(), "the library's version")

    def call(self, name, *words):
        one = getattr(self.code, f"fmi{3 if self.third else 2}{name}")
        one.restype = c_int
        return one(*words)

    def instance(self, token=None):
        token = (token or self.token).encode()
        if self.third:
            make = self.code.fmi3InstantiateCoSimulation
            make.restype = c_void_p
            made = make(b"one", token, b"", c_bool(False), c_bool(True), c_bool(False), c_bool(False), None, c_size_t(0), None, log3, None)
        else:
            make = self.code.fmi2Instantiate
            make.restype = c_void_p
            made = make(b"one", c_int(1), token, b"", byref(callbacks), c_int(0), c_int(1))
        return Driven(self, c_void_p(made)) if made else None


class Driven:
    def __init__(self, unit, it):
        self.unit, self.it, self.now = unit, it, 0.0
        if unit.third:
            expect(unit.call("EnterInitializationMode", it, c_bool(False), c_double(0), c_double(0), c_bool(False), c_double(0)) == 0, "initialised")
        else:
            expect(unit.call("SetupExperiment", it, c_int(0), c_double(0), c_double(0), c_int(0), c_double(0)) == 0, "set up")
            expect(unit.call("EnterInitializationMode", it) == 0, "initialised")
        expect(unit.call("ExitInitializationMode", it) == 0, "ready")

    def set(self, name, value):
        reference = c_uint32(self.unit.variables[name][0])
        flag = self.unit.variables[name][3] == "Boolean"
        kind = ("Boolean", c_bool if self.unit.third else c_int) if flag else ("Float64" if self.unit.third else "Real", c_double)
        rest = [c_size_t(1)] if self.unit.third else []
        return self.unit.call("Set" + kind[0], self.it, byref(reference), c_size_t(1), byref(kind[1](value)), *rest)

    def get(self, wanted):
        references = (c_uint32 * len(wanted))(*(self.unit.variables[n][0] for n in wanted))
        values = (c_double * len(wanted))()
        rest = [c_size_t(len(wanted))] if self.unit.third else []
        expect(self.unit.call("GetFloat64" if self.unit.third else "GetReal", self.it, references, c_size_t(len(wanted)), values, *rest) == 0, "read")
        return list(values)

    def step(self, by):
        if self.unit.third:
            flags, last = [c_bool(True) for _ in range(3)], c_double(-1)
            status = self.unit.call("DoStep", self.it, c_double(self.now), c_double(by), c_bool(False), *map(byref, flags), byref(last))
            expect(not any(f.value for f in flags), "no events, no end")
            if status == 0:
                expect(abs(last.value - self.now - by) < 1e-9, "the time it reached")
        else:
            status = self.unit.call("DoStep", self.it, c_double(self.now), c_double(by), c_int(1))
        if status == 0:
            self.now += by
        return status

    def state(self):
        kept = c_void_p()
        expect(self.unit.call("GetFMUState" if self.unit.third else "GetFMUstate", self.it, byref(kept)) == 0, "its state")
        return kept

    def restore(self, kept, at):
        self.now = at
        return self.unit.call("SetFMUState" if self.unit.third else "SetFMUstate", self.it, kept)

    def free(self):
        self.unit.call("Terminate", self.it)
        self.unit.call("FreeInstance", self.it)


for version in ("2.0", "3.0"):
    unit = Unit(version)
    one = unit.instance()
    by, walked = 100e-6, []
    for k in range(round(0.4 / by)):
        if k == round(0.2 / by):
            expect(one.set("Q0", 0) == 0, "Q0 opens")
        if k == round(0.3 / by):
            expect(one.set("battery_wanted", 50e3) == 0, "a set point")
        expect(one.step(by) == 0, f"step {k}")
        walked.append(one.get(names))
    expect(walked == seen[4::5], "the same to the bit as the library, five of its steps at once")
    expect(abs(one.get(["time"])[0] - 0.4) < 1e-9, "its time")
    # states, also as bytes in another instance; ten at once; tuned; set back
    kept, at = one.state(), one.now
    on = [one.step(by) or one.get(names) for _ in range(50)]
    expect(one.restore(kept, at) == 0 and [one.step(by) or one.get(names) for _ in range(50)] == on, "a restored state")
    spelling = "FMUState" if unit.third else "FMUstate"
    length = c_size_t()
    expect(unit.call(f"Serialized{spelling}Size", one.it, kept, byref(length)) == 0 and length.value > 100, "its size")
    octets = ctypes.create_string_buffer(length.value)
    expect(unit.call(f"Serialize{spelling}", one.it, kept, octets, length) == 0, "serialised")
    two, back = unit.instance(), c_void_p()
    expect(unit.call(f"De{'s' if unit.third else 'S'}erialize{spelling}", two.it, octets, length, byref(back)) == 0, "deserialised")
    expect(two.restore(back, at) == 0 and [two.step(by) or two.get(names) for _ in range(50)] == on, "in another instance")
    for state in (kept, back):
        expect(unit.call(f"Free{spelling}", one.it, byref(state)) == 0 and not state.value, "freed")
    expect(unit.call("Reset", one.it) == 0, "reset")
    one.now = 0.0
    expect([one.step(by) or one.get(names) for _ in range(100)] == seen[4::5][:100], "from its start again")
    ten = [unit.instance() for _ in range(10)]
    for k, each in enumerate(ten):
        expect(each.set("roof.irradiance", 100.0 * k) == 0 and each.step(10e-3) == 0, "tuned")
    expect(len({tuple(each.get(names)) for each in ten}) == 10, "ten instances")
    # refused, with a word
    heard.clear()
    expect(two.step(30e-6) != 0 and "no whole number of the model's steps" in heard[-1], heard)
    two.now += 1
    expect(two.step(by) != 0 and "the model stands at" in heard[-1], heard)
    expect(two.set("low.va", 1.0) != 0 and "neither an input nor a parameter" in heard[-1], heard)
    expect(unit.instance("{another}") is None and "token" in heard[-1], heard)
    for each in [one, two, *ten]:
        each.free()

# --- units of others as control: hand-written, by the standard alone --------------------------------
UNIT = r"""
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#ifdef THREE
#include <stdbool.h>
#include <stdint.h>
#define REST , size_t rest
#define GET fmi3GetFloat64
#define SET fmi3SetFloat64
#else
#define REST
#define GET fmi2GetReal
#define SET fmi2SetReal
#endif
typedef struct { double u, gain, rate, y, time; } unit;   /* y = gain u + rate times what u has been over time */
int GET(void* c, const unsigned* r, size_t n, double* v REST) { unit* m = c; for (size_t k = 0; k < n; ++k) v[k] = r[k] == 3 ? m->gain * m->u + m->y : 1e9; return 0; }
int SET(void* c, const unsigned* r, size_t n, const double* v REST) {
  unit* m = c;
  for (size_t k = 0; k < n; ++k) { if (r[k] == 0) m->u = v[k]; else if (r[k] == 1) m->gain = v[k]; else if (r[k] == 2) m->rate = v[k]; else return 3; }
  return 0;
}
static unit* made(const char* token, const char* wanted) { return strcmp(token, wanted) ? NULL : calloc(1, sizeof(unit)); }
static int step(unit* m, double t, double h) {
  if (t < m->time - 1e-9 || t > m->time + 1e-9) return 3;
#ifdef CRASH
  if (t > 0.01) abort();
#endif
  m->y += m->rate * m->u * h;
  m->time = t + h;
  return 0;
}
#ifdef THREE
void* fmi3InstantiateCoSimulation(const char* n, const char* token, const char* res, bool v, bool l, bool e, bool r, const uint32_t* q, size_t k, void* env,
                                  void* log, void* im) { return access(res, F_OK) ? NULL : made(token, "{three}"); }
int fmi3EnterInitializationMode(void* c, bool td, double tol, double t0, bool sd, double t1) { ((unit*)c)->time = t0; return 0; }
int fmi3ExitInitializationMode(void* c) { return 0; }
int fmi3DoStep(void* c, double t, double h, bool ns, bool* e, bool* end, bool* early, double* last) { *e = *end = *early = false; *last = t + h; return step(c, t, h); }
int fmi3Terminate(void* c) { return 0; }
void fmi3FreeInstance(void* c) { free(c); }
#else
void* fmi2Instantiate(const char* n, int type, const char* token, const char* res, const void* f, int v, int l) {
  return type != 1 || strncmp(res, "file://", 7) || access(res + 7, F_OK) ? NULL : made(token, "{two}");
}
int fmi2SetupExperiment(void* c, int td, double tol, double t0, int sd, double t1) { ((unit*)c)->time = t0; return 0; }
int fmi2EnterInitializationMode(void* c) { return 0; }
int fmi2ExitInitializationMode(void* c) { return 0; }
int fmi2DoStep(void* c, double t, double h, int ns) { return step(c, t, h); }
int fmi2Terminate(void* c) { return 0; }
void fmi2FreeInstance(void* c) { free(c); }
#endif
"""


def pack_unit(file, third, *flags, spoil=lambda text: text, name="lever"):
    (scratch / "unit.c").write_text(UNIT)
    made = subprocess.run(["gcc", "-shared", "-fPIC", "-O1", "unit.c", "-o", "unit.so", *(["-DTHREE"] if third else []), *flags], cwd=scratch, capture_output=True, text=True)
    expect(made.returncode == 0, made.stderr)
    rows = [("u", "input", 0), ("gain", "parameter", 1), ("rate", "parameter", 2), ("y", "output", 3)]
    if third:
        variables = "".join(f'<Float64 name="{n}" valueReference="{r}" causality="{c}" {"" if c == "output" else "start=" + chr(34) + "0" + chr(34)}/>' for n, c, r in rows)
        head = 'fmiVersion="3.0" modelName="lever" instantiationToken="{three}"'
    else:
        variables = "".join(f'<ScalarVariable name="{n}" valueReference="{r}" causality="{c}"><Real/></ScalarVariable>' for n, c, r in rows)
        head = 'fmiVersion="2.0" modelName="lever" guid="{two}"'
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("modelDescription.xml", spoil(f'<?xml version="1.0"?><fmiModelDescription {head}><CoSimulation modelIdentifier="lever"/>'
                                                       f"<ModelVariables>{variables}</ModelVariables><ModelStructure/></fmiModelDescription>"))
        archive.write(scratch / "unit.so", f"binaries/{'x86_64-linux' if third else 'linux64'}/{name}.so")
        archive.writestr("resources/", "")


levers = scratch / "levers"
levers.mkdir()
(levers / "network.toml").write_text('title = "a lever"\nfrequency = "50 Hz"\nstep = "100 us"\n[bus]\nb = "400 V"\n[source.g]\nbus = "b"\nshort_circuit = "1 MVA"\nx_over_r = 5\n')
CONTROL = """period = "1 ms"
[rotor.turn]
frequency = "3"
[expression.wave]
formula = "sin(turn)"
[delay.before]
input = "wave"
[pi.own]
input = "before"
proportional = 0
integral = 40
[expression.wanted]
formula = "2.5 * before + own"
[own.lever]
library = "lever.fmu"
inputs = ["u: wave"]
parameters = ["gain: 2.5", "rate: 40"]
[sum.apart]
inputs = ["lever.y", "-wanted"]
"""
(levers / "control.toml").write_text(CONTROL)
(levers / "bench.toml").write_text('points_per_cycle = 100\nrecord = ["lever.y", "wanted", "apart"]\n')
for third in (False, True):
    pack_unit(levers / "lever.fmu", third)
    has(run("check", levers, "--execute"), "its signals -> the control")
    run("run", levers, "--pace", "free", "--for", "1 s", "--record", scratch / "lever.csv")
    table = [list(map(float, line.split(","))) for line in (scratch / "lever.csv").read_text().splitlines()[1:]]
    largest = max(abs(row[1]) for row in table)
    expect(largest > 5, f"it moves: {largest}")
    # A unit gives what it reached with the inputs of the instant before: the blocks beside it are wired alike.
    expect(max(abs(row[3]) for row in table[20:]) < 1e-5 * largest, f"{max(abs(row[3]) for row in table[20:])} apart of {largest}")
    pack_unit(levers / "lever.fmu", third, "-DCRASH")
    has(run("run", levers, "--pace", "free", "--for", "0.1 s", code=1), "own.lever: its process ended: Aborted")
    for spoil, why in ((lambda t: t.replace("{t", "{not t"), "gives no instance"), (lambda t: t.replace("<CoSimulation", "<ModelExchange"), "is not for co-simulation"),
                       (lambda t: t[:-30], "is no XML"), (lambda t: t.replace('fmiVersion="', 'fmiVersion="1.'), "is of version"),
                       (lambda t: t.replace('modelIdentifier="lever"', 'modelIdentifier="../lever"'), "names a library that cannot be")):
        pack_unit(levers / "lever.fmu", third, spoil=spoil)
        has(run("check", levers, "--execute", code=2), "lever.fmu", why)
    pack_unit(levers / "lever.fmu", third, name="other")
    has(run("check", levers, "--execute", code=2), "has no binaries/")
(levers / "lever.fmu").write_bytes(b"PK no archive")
has(run("check", levers, "--execute", code=2), "lever.fmu")
# One of ours in another case: the roof's control reads nothing of it, but it turns beside.
run("export", demo / "crane", "--as", "fmu", "--out", levers / "lever.fmu", "--outputs", "hoist.speed", "C1.v")
with zipfile.ZipFile(levers / "lever.fmu") as archive:
    inputs = json.loads(archive.read("documentation/manifest.json"))["inputs"]
(levers / "control.toml").write_text('period = "1 ms"\n[setpoint.fast]\nvalue = 20\n[own.lever]\nlibrary = "lever.fmu"\ninputs = ["drive.speed_wanted: fast", '
                                     + ", ".join(f'"{i["name"]}: {i["start"]:g}"' for i in inputs if i["name"] != "drive.speed_wanted")
                                     + ']\n')
(levers / "bench.toml").write_text('points_per_cycle = 100\nrecord = ["lever.hoist.speed", "lever.C1.v"]\n')
text = run("run", levers, "--pace", "free", "--for", "1.5 s", "--record", scratch / "crane.csv")
last = list(map(float, (scratch / "crane.csv").read_text().splitlines()[-1].split(",")))
expect(abs(last[1] - 20) < 1 and 500 < last[2] < 600, f"the crane within another case: {last}")

# --- what cannot leave ---------------------------------------------------------------------------
own = scratch / "own"
shutil.copytree(demo / "crane", own)
(own / "libown_controller.so").write_bytes((build / "examples/libown_controller.so").read_bytes())
(own / "control.toml").write_text((own / "control.toml").read_text() + '\n[own.mine]\nlibrary = "libown_controller.so"\ninputs = ["v: C1.v"]\nparameters = ["on: 700", "off: 680"]\n')
has(run("export", own, code=2), "own.mine: is code of its own, which an exported model cannot carry")
has(run("export", case, "--outputs", "low.vx", "--out", scratch / "x.so", code=2), 'no signal or output of a block "low.vx", did you mean')
has(run("export", case, "--as", "fmu", "--fmi", "1.0", code=2), "2.0")
finish()
