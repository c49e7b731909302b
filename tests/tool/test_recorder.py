"""What disturbance recorders keep, read back by the tool and by the HDF5 library's own program."""
import csv
import re
import shutil
import struct

from harness import *

h5dump = shutil.which("h5dump")
expect(h5dump, "h5dump is missing; install hdf5-tools")


def dumped(file, what, kind):
    """All numbers of a dataset as they stand in the file."""
    out = scratch / "dump"
    subprocess.run([h5dump, "-d", what, "-b", "LE", "-o", str(out), str(file)], check=True, capture_output=True)
    raw = out.read_bytes()
    return struct.unpack(f"<{len(raw) // struct.calcsize(kind)}{kind}", raw)


# A run without pace is the same each time: the same numbers as CSV and as HDF5.
common = ["run", demo / "substation", "--place", "plant", "--pace", "free", "--for", "1.2 s", "--at", "0.4 s: open Q1"]
run(*common, "--record", "a.csv")
run(*common, "--record", "a.h5")
with open(scratch / "a.csv") as file:
    rows = list(csv.reader(file))
head, body = rows[0], rows[1:]
header = subprocess.run([h5dump, "-d", "/analog_channels", str(scratch / "a.h5")], capture_output=True, text=True).stdout
analogs = [name.split(" ")[0] for name in head[1:] if " " in name]
for name in analogs:
    expect(f'"{name}"' in header, f"channel {name}")
times, values = dumped(scratch / "a.h5", "/time_s", "d"), dumped(scratch / "a.h5", "/analogs", "d")
states = dumped(scratch / "a.h5", "/states", "B")
expect(len(times) == len(body), f"{len(times)} rows, not {len(body)}")
expect(len(values) == len(body) * len(analogs), f"{len(values)} values")
for k in range(0, len(body), 37):
    expect(abs(times[k] - float(body[k][0])) < 1e-9, f"time of row {k}")
    for c in range(len(analogs)):
        is_, was = values[k * len(analogs) + c], float(body[k][1 + c])
        expect(abs(is_ - was) <= 1e-6 * abs(was) + 1e-300, f"row {k}, {analogs[c]}: {is_}, not {was}")
    for c in range(len(head) - 1 - len(analogs)):
        expect(states[k * (len(head) - 1 - len(analogs)) + c] == int(body[k][1 + len(analogs) + c]), f"state in row {k}")
has(run("compare", "a.csv", "a.h5", "--band", "0.001 %"), "pass")
run("plot", "a.h5", "--figure", "a.png", "--from", "0.35 s", "--until", "0.5 s")
expect((scratch / "a.png").stat().st_size > 10_000, "no figure")

# Captures of a run: one for the order, named by its trigger; a second run numbers on.
case = scratch / "case"
shutil.copytree(demo / "substation", case)
bench = case / "bench.toml"
bench.write_text(re.sub(r"(?m)^triggers = .*$", 'triggers = ["not Q1", "rms of VTL.va below 5 kV for 20 ms"]', bench.read_text()))
again = ["run", case, "--place", "plant", "--pace", "free", "--for", "1.2 s", "--at", "0.4 s: open Q1", "--captures", "kept"]
has(run(*again), "disturbance_recorder.DR1", "1 capture")
run(*again)
expect(sorted(f.name for f in (scratch / "kept").glob("*.cfg")) == ["DR1-001.cfg", "DR1-002.cfg"], "two captures")
has((scratch / "kept/DR1-001.inf").read_text(), "trigger=not Q1", "recorder=DR1")

# Without a folder it says so; a trigger that is not understood is named with its place.
has(run(*again[:-2]), "no folder to keep them in")
bench.write_text(bench.read_text().replace('"not Q1"', '"not Q9"'))
has(run("check", case, code=2), "disturbance_recorder.DR1", "Q9", "did you mean")

# All of a run in one file, which another process reads while it grows.
bench.write_text(bench.read_text().replace('"not Q9"', '"not Q1"').replace("before =", 'keeps = "all"\nbefore ='))
going = subprocess.Popen([tool, *map(str, ["run", case, "--place", "plant", "--for", "6 s", "--captures", "all"])],
                         cwd=scratch, stdout=subprocess.PIPE, text=True)
import time
seen = []
while going.poll() is None:
    time.sleep(1.2)
    if (scratch / "all/DR1-001.h5").exists():
        read = subprocess.run([tool, "compare", "all/DR1-001.h5", "all/DR1-001.h5", "--json"], cwd=scratch, capture_output=True, text=True)
        if read.returncode == 0:
            seen.append(len(dumped(scratch / "all/DR1-001.h5", "/time_s", "d")) if going.poll() is not None else 1)
expect(len(seen) >= 2, f"read {len(seen)} times while it grew")
expect(len(dumped(scratch / "all/DR1-001.h5", "/time_s", "d")) >= 23_900, "the whole run is kept")
finish()
