"""python3 -m zavrek_records against the test's own reader of COMTRADE, every encoding, CSV and HDF5 against each other, and a programme's results."""
import csv

import comtrade_reader
from harness import *

sys.path.insert(0, str(source / "python"))
import numpy
import zavrek_records

run("new", "feeder")
records = {}
for encoding in ("ascii", "binary", "binary32", "float32"):
    run("test", "feeder", "--pace", "free", "--place", "plant", "--only", "close", "--format", encoding, "--out", encoding, "--no-figures")
    file, = (scratch / encoding).glob("*.cfg")
    records[encoding] = zavrek_records.read(file)
    own = comtrade_reader.read(file.with_suffix(""))
    for name, values in own["analog"].items():
        assert numpy.allclose(records[encoding][name].values, numpy.array(values, float), rtol=1e-12, atol=0, equal_nan=True), name
    expect(list(records[encoding].signals) == list(own["analog"]) and list(records[encoding].points) == list(own["digital"]), "all of them")
    expect(all((records[encoding].points[name] == numpy.array(values)).all() for name, values in own["digital"].items()), "and the points")
    expect(abs(records[encoding].trigger - own["trigger"]) < 1e-6 and len(records[encoding].time) == len(own["digital"]["Q1.closed"]), "when it was struck")
one = records["ascii"]
expect(one["CT1.ia"].unit == "A" and one["CT1.ia"].primary == 400 and one.station == "A feeder" and one.frequency == 50, "what it says of itself")
for encoding, bound in (("binary", 1e-4), ("binary32", 1e-5), ("float32", 1e-5)):
    for name, signal in one.signals.items():
        peak = numpy.nanmax(numpy.abs(signal.values)) + 1e-9
        expect(numpy.nanmax(numpy.abs(records[encoding][name].values - signal.values)) < bound * peak, f"{encoding}, {name}")
opened = [at for at, on in one.changes("Q1.closed") if not on]
expect(len(opened) == 1 and 0.09 < opened[0] - one.trigger < 0.12, f"{opened} {one.trigger}")
expect(abs(one.rms("CT1.ia")[100] * 2 ** 0.5 / numpy.abs(one["CT1.ia"].values[:101]).max() - 1) < 0.02, "rms before the fault")
try:
    one["CT1.iaa"]
    expect(False, "no such signal")
except KeyError as problem:
    has(str(problem), "did you mean", "CT1.ia")
run("run", "feeder", "--for", "0.1 s", "--pace", "free", "--place", "plant", "--at", "50 ms: open Q1", "--record", "x.csv")
run("run", "feeder", "--for", "0.1 s", "--pace", "free", "--place", "plant", "--at", "50 ms: open Q1", "--record", "x.cfg")
run("run", "feeder", "--for", "0.1 s", "--pace", "free", "--place", "plant", "--at", "50 ms: open Q1", "--record", "x.h5")
by_hdf5 = zavrek_records.read(scratch / "x.h5")
by_csv, by_cfg = (zavrek_records.read(scratch / f"x.{kind}") for kind in ("csv", "cfg"))
expect(list(by_csv.signals) == list(by_cfg.signals) and list(by_csv.points) == list(by_cfg.points), f"{list(by_csv.points)} {list(by_cfg.points)}")
expect(list(by_hdf5.signals) == list(by_cfg.signals) and by_hdf5.changes("Q1.closed") == by_cfg.changes("Q1.closed"), "HDF5")
for name, signal in by_csv.signals.items():
    expect(numpy.allclose(by_hdf5[name].values, signal.values, rtol=1e-5, atol=1e-3 * numpy.abs(signal.values).max()), name)
    expect(signal.unit == by_cfg[name].unit and numpy.allclose(signal.values, by_cfg[name].values, rtol=1e-5, atol=1e-3 * numpy.abs(signal.values).max()), name)

run("programme", "feeder", "--place", "plant", "--only", "all along")
trials = zavrek_records.results(scratch / "out/feeder-programme")
with open(scratch / "out/feeder-programme/trials.csv", newline="") as file:
    rows = list(csv.DictReader(file))
expect(len(trials) == len(rows) == 30 and all(trial.passed for trial in trials), f"{len(trials)}")
for trial, row in zip(trials, rows):
    expect(trial.name == row["name"] and trial.fields["fault.at"] in trial.name and abs(trial.verdicts[0].value - float(row["value"])) < 1e-5, trial.name)


def python(*words, code=0):
    done = subprocess.run([sys.executable, *map(str, words)], capture_output=True, text=True, cwd=scratch, env=os.environ | {"PYTHONPATH": str(source / "python")})
    expect(done.returncode == code, done.stdout + done.stderr)
    return done.stdout + done.stderr


has(python("-m", "zavrek_records", next((scratch / "binary").glob("*.cfg")), "out/feeder-programme"), "CT1.ia", "Q1.closed", "off at", "30 trials, 30 passed")
has(python("-m", "zavrek_records", "x.txt", code=2), "no record; .cfg, .csv and .h5 are")
has(python("-m", "zavrek_records", "none", code=2), "no record")
has(python(source / "examples/trip_time_over_place.py", "out/feeder-programme", "R1 trip"), "10 %", "90 %", "ABC", "ms")
(scratch / "cut.cfg").write_bytes(next((scratch / "binary").glob("*.cfg")).read_bytes())
(scratch / "cut.dat").write_bytes(next((scratch / "binary").glob("*.dat")).read_bytes()[:-40])
has(python("-m", "zavrek_records", "cut.cfg", code=2), "are announced")
finish()
