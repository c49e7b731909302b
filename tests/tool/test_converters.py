"""The converter cases through the tool: their trials, a control in a process of its own, libraries that work, refuse,
crash or fall silent, knobs, failures, and both depths beside the reference."""
import shutil

from harness import *

# the demo cases pass as they stand
for name, trials in (("crane", 5), ("converter", 4), ("island", 7), ("link", 5), ("compensator", 3), ("sea-link", 5), ("transfer", 4), ("wind", 3), ("headland", 3)):
    text = run("test", demo / name, "--pace", "free", "--out", name)
    has(text, f"{trials} of {trials} trials passed")
    expect(len(list((scratch / name).glob("*.png"))) == trials, f"figures of {name}")
has(run("check", demo / "crane", "--knobs"), "C1.remaining", "drive.speed_wanted rad/s", "udc.gain")
has(run("describe", "field_oriented"), "torque_limit", "knob NAME.speed_wanted")
has(run("describe", "pv_array"), "irradiance")


def copy(of, to, control="", bench=""):
    case = scratch / to
    shutil.copytree(demo / of, case)
    (case / "control.toml").write_text((case / "control.toml").read_text() + control)
    (case / "bench.toml").write_text(bench + (case / "bench.toml").read_text())
    return case


# the control in a process of its own: the same verdicts, one period later
case = copy("battery", "apart", bench='control = "process"\n')
has(run("test", case, "--pace", "free", "--out", "apart-out", "--no-figures", "--csv"), "4 of 4 trials passed")
tables = [path.read_text().splitlines() for path in (scratch / "apart-out").glob("*.csv")]
expect(len(tables) == 4 and all(len(rows) > 100 and rows[0].startswith("time_s,") for rows in tables), "a CSV per trial")
case = copy("battery", "late", bench='control = "process"\ncontrol_delay = 8\n')
text = run("test", case, "--pace", "free", "--only", "step of power", "--out", "late-out", "--no-figures", code=1)
has(text, "FAIL start, then a step of power")  # eight periods of delay make the current loop swing
has(run("controller", demo / "veskar", code=2), "the case has no control to run")

# a library of one's own in place of the comparator that works the braking resistor
library = build / "examples" / "libown_controller.so"
text = (demo / "crane" / "control.toml").read_text()
own = '[own.brake]\nlibrary = "libown_controller.so"\ninputs = ["v: C1.v"]\nparameters = ["on: 700", "off: 680"]\n\n'
start, end = text.index("[comparator.brake]"), text.index("[gate.brake_valve]")
text_of_crane = text[:start] + own + text[end:].replace('input = "brake"', 'input = "brake.valve"')
for place in ("plant", "process"):
    case = copy("crane", f"own-{place}", bench=f'control = "{place}"\n')
    (case / "control.toml").write_text(text_of_crane)
    shutil.copy(library, case / "libown_controller.so")
    has(run("test", case, "--pace", "free", "--only", "lower", "--out", f"own-{place}-out", "--no-figures"), "1 of 1 trials passed")
(case / "control.toml").write_text((case / "control.toml").read_text().replace('"on: 700"', '"on: 600"'))
has(run("check", case), "own.brake: libown_controller.so was not run, its names are taken from the case")
has(run("check", case, "--execute", code=2), "its init refuses these parameters")
(case / "control.toml").write_text((case / "control.toml").read_text().replace('"on: 600"', '"onn: 600"'))
has(run("check", case, "--execute", code=2), 'own.brake, parameters: "onn: 600" is none', 'did you mean "on"?')
(case / "libown_controller.so").write_bytes(b"no library")
has(run("check", case, "--execute", code=2), "libown_controller.so: cannot be loaded")
(case / "libown_controller.so").unlink()
has(run("check", case, code=2), "libown_controller.so: is not there")

# libraries that go wrong: an error that names them, and the tool goes on to the next trial
code = """#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
#include <zavrek/controller.h>
static const char *const in[] = {"v", 0}, *const out[] = {"y", 0}, *const none[] = {0};
static void* init(double t, const double* p) { (void)t; (void)p; return calloc(1, sizeof(long)); }
static int step(void* state, double t, const double* i, double* o) {
  long n = ++*(long*)state;
  (void)t; (void)i; (void)n;
  o[0] = 1;
  WRONG
  return 0;
}
const zavrek_controller_code* zavrek_controller(void) {
  static const zavrek_controller_code c = {1, in, out, none, init, step, free};
  return &c;
}
"""
control = '\n[own.mine]\nlibrary = "libmine.so"\ninputs = ["v: C2.v"]\n'
crash = "if (n > 900) *(volatile int*)0 = 1;"
tarries = "return 0; } __attribute__((constructor)) static void begin(void) { sleep(1); } int unused(void); int unused(void) {"
leaves = "} __attribute__((constructor)) static void begin(void) { exit(0); } static int unused(void) {"
for number, (wrong, place, exit_code, says) in enumerate((
        (crash, "plant", 1, "own.mine: its process ended: Segmentation fault"),
        (crash, "process", 1, "controller: its process ended: Segmentation fault"),
        ("if (n > 900) _Exit(3);", "process", 1, "controller: its process ended with 3"),
        ("if (n > 900) exit(0);", "plant", 1, "own.mine: its process ended with 0"),
        ("if (n > 900) abort();", "plant", 1, "own.mine: its process ended: Aborted"),
        ("if (n > 900) { volatile char a[8]; static volatile char* p; for (p = a;; ++p) *p = 1; }", "plant", 1,
         "own.mine: its process ended: "),
        ("if (n > 900) { volatile char* a = malloc(8); for (int k = -64; k < 64; ++k) a[k] = 1; free((void*)a); }", "plant", 1,
         "own.mine: its process ended: "),
        ("if (n > 900) for (;;) signal(SIGTERM, SIG_IGN);", "plant", 1, "own.mine: did not come back within 1 s"),
        ("if (n > 900) while (malloc(1 << 20)) {} if (n > 900) abort();", "plant", 1, "own.mine: its process ended: Aborted"),
        ("if (n > 900) return 7;", "plant", 1, "own.mine: its step returned 7"),
        ("if (n > 900) o[0] = 0.0 / 0.0;", "process", 1, 'own.mine: its output "y" was not set to a finite value'),
        (leaves, "plant", 2, "libmine.so: its process ended with 0"),
        (leaves, "process", 2, "libmine.so: its process ended with 0"),
        (tarries, "process", 0, "1 of 1 trials passed"),
        ("if (n > 900) puts(\"to be heard\");", "plant", 0, "1 of 1 trials passed"))):
    case = copy("battery", f"wrong{number}", control, f'control = "{place}"\n')
    (scratch / "mine.c").write_text(code.replace("WRONG", wrong))
    done = subprocess.run(["cc", "-shared", "-fPIC", f"-I{source / 'include'}", "-o", case / "libmine.so", scratch / "mine.c"],
                          capture_output=True, text=True)
    expect(done.returncode == 0, done.stderr)
    only = ("--only", "short circuit on the quay") if number else ()
    text = run("test", case, "--pace", "free", "--out", f"wrong{number}-out", "--no-figures", *only, code=exit_code)
    has(text, says)
    if exit_code == 1:
        has(text, "0 of 1 trials passed" if number else "0 of 4 trials passed")
    run("check", case)  # runs none of it

# trusted: in the process of the control, and the same verdicts
case = copy("crane", "trusted", bench='libraries = "trusted"\n')
(case / "control.toml").write_text(text_of_crane)
shutil.copy(library, case / "libown_controller.so")
has(run("test", case, "--pace", "free", "--only", "lower", "--out", "trusted-out", "--no-figures"), "1 of 1 trials passed")

# what a trial may break, and what it may not
case = copy("crane", "broken")
(case / "trials.toml").write_text('[[trial]]\nname = "x"\noperate = [ { at = "0 s", late = "B1.a_uper" } ]\n')
has(run("test", case, "--pace", "free", code=2), 'no gate "B1.a_uper", did you mean "B1.a_upper"?')
(case / "trials.toml").write_text('[[trial]]\nname = "x"\noperate = [ { at = "0 s", set = "drive.speed_wanted", to = "3 V" } ]\n')
has(run("test", case, "--pace", "free", code=2), "rad/s")
(case / "trials.toml").write_text('[[trial]]\nname = "x"\noperate = [ { at = "0 s", set = "drive.sped_wanted", to = "3 rad/s" } ]\n')
has(run("test", case, "--pace", "free", code=2), 'did you mean "drive.speed_wanted"?')
(case / "trials.toml").write_text(
    '[[trial]]\nname = "x"\noperate = [ { set = "drive.sped_wanted", to = "3 rad/s" }, { lost = "B1.q_upper" } ]\n'
    'expect = [ { signal = "C1.v", between = ["1 A", "2 A"] } ]\n'
    '[[trial]]\nname = "y"\nexpect = [ { signal = "C1.x", between = ["1 V", "2 V"] } ]\n')
for verb in ("check", "test"):  # all of it at once, before anything runs
    has(run(verb, case, code=2), 'trial "x", operate: ', 'drive.speed_wanted', 'no gate "B1.q_upper"',
        'trial "x", expect: C1.v rms is judged in V, not by "1 A"', 'trial "y", expect: no signal "C1.x"')
(case / "control.toml").write_text('[rotor.turn]\nfrequency = 50\n')
said = run("check", case, code=2)
has(said, "a text in quotes is wanted")
expect("missing" not in said, said)  # once is enough

# more in one step than it may take: it says so
case = copy("battery", "crowded")
(case / "network.toml").write_text((case / "network.toml").read_text().replace('step = "2 us"', 'step = "100 us"'))
more = ", ".join(f'{{ phases = "AG", resistance = "{k} ohm", after = "{3 * k} us", lasts = "20 ms" }}' for k in range(2, 17))
(case / "trials.toml").write_text(
    '[[trial]]\nname = "x"\nprefault = "20 ms"\npostfault = "20 ms"\nfault = { on = "quay", phases = "AG", lasts = "20 ms" }\n'
    f'evolves = [ {more} ]\nexpect = [ {{ signal = "filter.va", between = ["0 V", "1 kV"] }} ]\n')
has(run("test", case, "--pace", "free", "--out", "crowded-out", "--no-figures"), "steps met the bound of 12 discontinuities")
has((scratch / "crowded-out" / "report.html").read_text(), "steps met the bound of 12 discontinuities")

# both depths beside the variable step
found = as_json(run("reference", demo / "battery", "--trial", "start, then a step of power", "--for", "0.06 s", "--signals",
                    "L1.ia", "--precision", "1e-6", "--depths", "--figure", "depths.png", "--json", timeout=200))
expect(found["switched"]["signals"][0]["rms"] < 1e-3 * found["switched"]["signals"][0]["peak"], str(found))
expect(found["averaged"]["signals"][0]["rms"] < 2e-2 * found["averaged"]["signals"][0]["peak"], str(found))
expect((scratch / "depths.png").read_bytes()[:4] == b"\x89PNG", "figure of both depths")
finish()
