"""Relays and devices at the terminals of a board: the same verdicts as over frames and in the plant, the
wiring list, the proof of each channel with mistakes found by name, a driver in C, and a device in Python that
maps the board itself and shares no code with the tool."""
import math
import mmap
import struct
import subprocess
import threading
import time

from harness import *

BENCH = """
[stream.S1]
ct = "CT1"
vt = "VT0"
appid = 0x4031

[card.board]
address = "{board}"

[analogue_out.R1i]
card = "board"
terminals = ["X1:1-2", "X1:3-4", "X1:5-6"]
device = "R1"
inputs = ["ia", "ib", "ic"]
signals = ["CT1.ia", "CT1.ib", "CT1.ic"]
full_scale = "150 A"
bandwidth = "20 kHz"

[analogue_out.R1v]
card = "board"
first_channel = 3
terminals = ["X2:1-4", "X2:2-4", "X2:3-4"]
device = "R1"
inputs = ["va", "vb", "vc"]
signals = ["VT0.va", "VT0.vb", "VT0.vc"]
full_scale = "300 V"

[contact_out.R1b]
card = "board"
terminals = ["X4:1-2", "X4:3-4"]
device = "R1"
points = ["Q1", "Q2"]
inputs = ["closed", "other"]
wetting = "110 V"

[contact_in.R1c]
card = "board"
terminals = ["X3:1-2", "X3:3-4"]
device = "R1"
points = ["start", "trip"]
wetting = "110 V"
debounce = "1 ms"

[device.R1]
place = "{place}"
settings = "R1.toml"
connected = "terminals"
reads = "S1"
trips = ["Q1"]
"""
TRIALS = """
[[trial]]
name = "three-phase fault"
fault = { on = "berth1", phases = "ABC", inception = "0 deg", lasts = "0.6 s" }
expect = [ { device = "R1", output = "trip", time = "from settings" }, { breaker = "Q1", open_before = "0.55 s" } ]

[[trial]]
name = "earth fault"
fault = { on = "berth1", phases = "AG", inception = "90 deg", lasts = "0.4 s" }
expect = [ { device = "R1", output = "trip", time = "from settings" } ]

[[trial]]
name = "a dead channel"
operate = [ { at = "-0.05 s", set = "R1i.dead", to = "1" } ]
fault = { on = "berth1", phases = "AG", inception = "90 deg", lasts = "0.3 s" }
expect = [ { device = "R1", output = "trip", never = true } ]
"""


def make(name, bench, trials=TRIALS, settings=""):
    case = scratch / name
    case.mkdir()
    for part in ("network.toml", "infeed-line.toml", "quay-cable.toml", "R1.toml"):
        (case / part).write_text((demo / "veskar" / part).read_text())
    relay = (case / "R1.toml").read_text().replace('ct_primary = "400 A"', 'ct_primary = "400 A"\nvt_primary = "11 kV"')
    relay += '\n[output.seen]\nwhen = "input.closed and input.other and phase1.start"\n' + settings
    (case / "R1.toml").write_text(relay)
    (case / "bench.toml").write_text(bench)
    (case / "trials.toml").write_text(trials)
    return case


board = f"t{os.getpid()}"
case = make("board", BENCH.format(board=board, place="process"))

# The list, as text, for a spreadsheet, as a page, and compared with one that was changed by hand.
text = run("wiring", case)
has(text, "X1:1-2", "400 A : 1 A", "63.5 V", "110 V wet", "150 A")
csv = scratch / "wiring.csv"
csv.write_text(run("wiring", case, "--csv"))
has(run("wiring", case, "--compare", csv), "agrees with the bench: 10 channels")
csv.write_text(csv.read_text().replace("X1:3-4", "X1:4-3").replace("VT0.vc", "VT0.va"))
has(run("wiring", case, "--compare", csv, code=1), 'analogue_out.R1i, channel 1: terminal "X1:4-3", and "X1:3-4" on the bench',
    'analogue_out.R1v, channel 5: signal "VT0.va"')
csv.write_text("channel;port\n")
has(run("wiring", case, "--compare", csv, code=2), 'has no column "port"')
run("wiring", case, "--page", "wiring.html")
has((scratch / "wiring.html").read_text(), "X3:3-4", "R1")
wires = as_json(run("wiring", case, "--json"))
expect(len(wires["wires"]) == 10 and not wires["flaws"], wires)

# What cannot be right is told.
bad = BENCH.format(board=board, place="process").replace('"X1:3-4"', '"X1:1-2"').replace('inputs = ["va", "vb", "vc"]', 'inputs = ["va", "vb", "ia"]')
has(run("wiring", make("bad", bad), code=2), '"ia" of R1 is fed twice')
bad = BENCH.format(board=board, place="process").replace('"X1:3-4"', '"X1:1-2"').replace('points = ["start", "trip"]', 'points = ["trip", "seen"]')
bad = bad.replace('trips = ["Q1"]', 'trips = ["Q1"]\nopens = ["QI: start"]').replace("full_scale = \"300 V\"", "full_scale = \"300 V\"\nratio = 2")
text = run("wiring", make("bad2", bad), code=1)
has(text, "terminal X1:1-2 is used twice: by analogue_out.R1i, channel 0 and by analogue_out.R1i, channel 1",
    "R1: its start is left open", "R1: its settings reckon with 100 for va, and VT0.va gives 50")

# The same trials over the board and in the plant.
text = run_paced("test", case, "--out", "out", "--no-figures")
has(text, "3 of 3 trials passed", "a terminal board", "as it counts itself")
times = {}
for place, words in (("board", ()), ("plant", ("--place", "plant", "--pace", "free"))):
    trial = run_paced("test", case, "--only", "earth fault", "--json", "--out", place, "--no-figures", *words)
    times[place] = [float(v["measured"].split()[0]) for t in as_json(trial)["trials"] for v in t["verdicts"]][0]
expect(abs(times["board"] - times["plant"]) < 0.012, f"trip times {times}")


has(run_paced("prove", case), "10 of 10 proven, 0 wrong", "closed after")

# Mistakes in the wires to a relay that is somebody else's, each found by its name.
outside = make("outside", BENCH.format(board=board, place="outside"))
STRAIGHT = {"ia": "0", "ib": "1", "ic": "2", "va": "3", "vb": "4", "vc": "5"}


def with_relay(found, measures, reads=("closed=0@110", "other=1@110"), gives=("start=0@110", "trip=1@110")):
    """What is proven of a relay that is wired in this way; `found` tells whether it is what it should be."""
    words = [tool, "relay", outside / "R1.toml", "--board", board]
    for name, terminal in {**STRAIGHT, **measures}.items():
        words += ["--measures", f"{name}={terminal}"]
    for one in reads:
        words += ["--reads", one]
    for one in gives:
        words += ["--gives", one]
    relay = subprocess.Popen(list(map(str, words)), stdout=subprocess.PIPE, text=True)

    def once():
        fine, says = tried([tool, "prove", outside, "--each", "0.5 s"], code=1)
        return (fine and found(says)) or None, says
    try:
        return attempts(once)
    finally:
        relay.terminate()
        relay.communicate()


def line_of(text, start):
    return next((line for line in text.splitlines() if start in line), "gain nan")


def told(*lines):
    """Whether each line that begins so says this."""
    return lambda text: all(part in line_of(text, start) for start, part in lines)


def gain_is_half(text):
    return abs(float(line_of(text, "X2:2-4").split("gain ")[1].split()[0]) - 0.5) < 0.01


with_relay(told(("X1:1-2", "FAIL"), ("X1:1-2", "swapped: it arrives at ib (terminal X1:3-4)"), ("X1:5-6", "pass")), {"ia": "1", "ib": "0"})
reversed_ = told(("X1:5-6", "its polarity is reversed"))
with_relay(lambda text: reversed_(text) and gain_is_half(text), {"ic": "2*-1", "vb": "4*0.5"})
with_relay(told(("X2:1-4", "dead: nothing arrives"), ("X4:1-2", "swapped: other closes (terminal X4:3-4)"),
                ("X3:3-4", "dead: it never closed")),
           {"va": "40"}, reads=("closed=1@110", "other=0@110"), gives=("start=0@110", "trip=20@110"))

# A card reached by its driver, whose outputs are looped to its inputs.
loop = make("loop", f"""
[card.loop]
library = "{build / 'examples' / 'libloop_back_card.so'}"

[analogue_out.out]
card = "loop"
signals = ["CT1.ia", "-VT0.va"]
terminals = ["L1", "L2"]
full_scale = "150 A"

[analogue_in.in]
card = "loop"
values = ["first", "second"]
terminals = ["L1", "L2"]
full_scale = "150 V"

[contact_out.co]
card = "loop"
points = ["Q1", "Q2"]
terminals = ["C1", "C2"]

[contact_in.ci]
card = "loop"
points = ["one", "two"]
terminals = ["C1", "C2"]
""".replace('full_scale = "150 A"', 'full_scale = "150 A"', 1), "")
text = run("check", loop, code=2)
has(text, "analogue_out.out")
(loop / "bench.toml").write_text((loop / "bench.toml").read_text().replace('signals = ["CT1.ia", "-VT0.va"]', 'signals = ["VT0.vb", "-VT0.va"]')
                                 .replace('full_scale = "150 A"', 'full_scale = "150 V"'))
has(run_paced("prove", loop), "4 of 4 proven, 0 wrong")
(loop / "bench.toml").write_text((loop / "bench.toml").read_text().replace('[card.loop]', '[card.loop]\naddress = "7"'))
has(run("prove", loop, code=2), 'cannot open "7": there is no card 7, only "loop"')


class Device(threading.Thread):
    """Maps the board by its table of bytes, and closes its trip when the current of phase a stays above 3 A."""

    def __init__(self):
        super().__init__()
        self.running, self.trips, self.seen = True, 0, 0

    def run(self):
        while self.running:
            try:
                with open(f"/dev/shm/zavrek-{board}", "r+b") as file, mmap.mmap(file.fileno(), 3648) as shared:
                    self.serve(shared)
            except (FileNotFoundError, ValueError):
                time.sleep(0.002)

    def serve(self, shared):
        expect(shared[0:8] in (b"ZVBOARD1", bytes(8)), "the board's first bytes")
        above, writes = 0, 0
        while self.running and struct.unpack_from("<I", shared, 28)[0] != 0:
            ia, = struct.unpack_from("<d", shared, 64)
            plant_s, = struct.unpack_from("<d", shared, 48)
            if abs(ia) > 3:
                above = plant_s
                self.since = self.since if self.seen else plant_s
                self.seen += 1
            if self.seen and plant_s - above > 0.011:
                self.seen = 0
            on = self.seen > 0 and plant_s - self.since > 0.1
            self.trips += on
            struct.pack_into("<d", shared, 1600 + 8, 110.0 if on else 0.0)
            writes += 1
            struct.pack_into("<Q", shared, 40, writes)
            time.sleep(0.0002)
        time.sleep(0.002)

    since = 0.0


(outside / "trials.toml").write_text("""
[[trial]]
name = "a device that is not ours"
fault = { on = "berth1", phases = "ABC", inception = "0 deg", lasts = "0.4 s" }
expect = [ { device = "R1", output = "trip", window = ["90 ms", "150 ms"] }, { breaker = "Q1", open_before = "0.25 s" } ]
""")
device = Device()
device.start()
try:
    text = run_paced("test", outside, "--out", "python", "--no-figures")
finally:
    device.running = False
    device.join()
has(text, "1 of 1 trials passed")
expect(device.trips > 0, "the device closed its contact")


# Time as IRIG-B on a contact, read back pulse by pulse against the clock of the computer.
timed = make("timed", f"""
[card.board]
address = "{board}i"
[time_code.irig]
[contact_out.c]
card = "board"
points = ["irig.level"]
terminals = ["B1"]
""", """
[[trial]]
name = "two seconds and a half"
prefault = "2 s"
postfault = "0.6 s"
""")
pulses = []


def listen():
    while not pulses or pulses[-1] is not None:
        try:
            with open(f"/dev/shm/zavrek-{board}i", "rb") as file, mmap.mmap(file.fileno(), 3648, prot=mmap.PROT_READ) as shared:
                was = 0.0
                while struct.unpack_from("<I", shared, 28)[0] != 0:
                    level, = struct.unpack_from("<d", shared, 1088)
                    if level != was:
                        pulses.append((struct.unpack_from("<d", shared, 48)[0], time.time(), level))
                        was = level
                    time.sleep(0.0002)
                pulses.append(None)
        except (FileNotFoundError, ValueError):
            time.sleep(0.002)


def decode(symbols):
    """Seconds since the beginning of the day, and the day, of a hundred symbols."""
    bits = [s == "1" for s in symbols]
    bcd = lambda units, tens: sum(bits[k] << i for i, k in enumerate(units)) + 10 * sum(bits[k] << i for i, k in enumerate(tens))
    second, minute, hour = bcd(range(1, 5), range(6, 9)), bcd(range(10, 14), range(15, 18)), bcd(range(20, 24), range(25, 27))
    return 3600 * hour + 60 * minute + second, bcd(range(30, 34), range(35, 39)) + 100 * (bits[40] + 2 * bits[41])


def one_second():
    """Whether a whole second of the code was seen, began with the clock's and named it."""
    pulses.clear()
    listener = threading.Thread(target=listen)
    listener.start()
    subprocess.run([tool, "test", str(timed), "--out", "irig", "--no-figures"], capture_output=True, timeout=120, cwd=scratch)
    listener.join()
    edges = [p for p in pulses if p]
    symbols = [(a[0], a[1], "0" if b[0] - a[0] < 0.0035 else "1" if b[0] - a[0] < 0.0065 else "P")
               for a, b in zip(edges, edges[1:]) if a[2] and not b[2]]
    word = "".join(s[2] for s in symbols)
    mark = word.find("PP")  # the last of a second, and the first of the next
    if not (0 <= mark < 110 and len(word) >= mark + 101 and word[mark + 100] == "P"):
        return None, f"no whole second in {word}"  # this reader is an ordinary process, and may have slept through an edge
    began = symbols[mark + 1][1]
    seconds, day = decode(word[mark + 1:mark + 101])
    right = time.gmtime(round(began))
    fine = abs(began - round(began)) < 0.02 and (seconds, day) == (3600 * right.tm_hour + 60 * right.tm_min + right.tm_sec, right.tm_yday)
    return fine or None, f"the second began at {began}; {seconds} {day}, {right}"


attempts(one_second, 8)
finish()
