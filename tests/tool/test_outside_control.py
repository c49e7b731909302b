"""Gate edges from a controller outside, written from the table in include/zavrek/wire/control_link.hpp alone: stamps of 10 ns act to
10 ns across the bench, in steps of 20 us; and the roof's demo, whose controller is a process, beside the same one inside."""
import struct
import threading

from field_case import *

NETWORK = """title = "a leg"
frequency = "50 Hz"
step = "20 us"
start = "zero"

[bus]
out = "400 V"

[bus.dc]
voltage = "800 V"
phases = "pn"

[dc_source.upper]
plus = "dc.p"
minus = "ground"
voltage = "400 V"
resistance = "0.001 mohm"

[dc_source.lower]
plus = "ground"
minus = "dc.n"
voltage = "400 V"
resistance = "0.001 mohm"

[bridge.B1]
dc = "dc"
ac = "out"
on_resistance = "0.001 mohm"

[branch.coil]
between = ["out", "ground"]
resistance = "0.001 mohm"
inductance = "2 mH"
"""
CONTROL = """period = "100 us"

[setpoint.never]
value = 0

[gate.first]
gate = "B1.a_upper"
input = "never"

[gate.second]
gate = "B1.a_lower"
input = "never"

[sum.current]
inputs = ["coil.ia"]
"""
PERIOD = 100e-6
SEGMENT = 500  # periods
COUNTS = (0, 1, -1, 3, -3, 0, 10, -10)  # the first to settle; times 10 ns, of the upper valve's pulse beyond half of the period


class Controller(threading.Thread):
    """Answers each question by the edges of a pulse around the middle of the period; all its stamps are whole tens of ns."""
    def __init__(self):
        super().__init__(daemon=True)
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind(("127.0.0.1", 0))
        self.socket.settimeout(20)
        self.port = self.socket.getsockname()[1]
        self.signals, self.wrong = [], 0

    def run(self):
        while True:
            data, whom = self.socket.recvfrom(65536)
            magic, version, kind, key, tick, time_s = struct.unpack(">4sBB16sId", data[:34])
            if magic != b"ZVCM" or version != 2:
                self.wrong += 1
            if kind != 1:
                return
            count = struct.unpack(">H", data[34:36])[0]
            self.signals.append(struct.unpack(f">{count}d", data[36:36 + 8 * count]))
            segment = min(tick // SEGMENT, len(COUNTS) - 1)
            first = round(time_s * 1e8) + 2500 - COUNTS[segment] // 2
            last = first + 5000 + COUNTS[segment]
            edges = [(0, 1, first), (1, 0, first), (0, 0, last), (1, 1, last)]
            answer = struct.pack(">4sBB16sI", b"ZVCA", 2, 0, key, tick)
            answer += struct.pack(">H", 0)                           # knobs
            answer += struct.pack(">Hdd", 2, 0.0, 0.0)               # outputs: never, current
            answer += struct.pack(">H", 0)                           # breakers
            answer += struct.pack(">H", len(edges)) + b"".join(struct.pack(">HBd", gate, on, at * 1e-8) for gate, on, at in edges)
            self.socket.sendto(answer + struct.pack(">H", 0), whom)


controller = Controller()
controller.start()
bench = f'control = "outside"\ncontrol_port = {controller.port}\npoints_per_cycle = 200\nrecord = ["coil.ia"]\n'
case = make_case("leg", bench, NETWORK, CONTROL)
(case / "bench.toml").write_text(bench)
run("run", case, "--pace", "free", "--for", f"{(len(COUNTS) * SEGMENT + 2) * PERIOD * 1e3:.1f} ms", "--record", scratch / "leg.csv")
expect(controller.wrong == 0, "messages are as the table says")
# Each period's answer acts in the next; between the ends of a segment stand 500 pulses, whose mean is V (2 d - 1).
currents = [values[0] for values in controller.signals]
for k, count in enumerate(COUNTS):
    change = currents[(k + 1) * SEGMENT] - currents[k * SEGMENT + 1]
    wanted = (SEGMENT - 1) * 400 * 2 * count * 10e-9 / 2e-3
    # A nanosecond of each pulse would be 0.2 A.
    expect(k == 0 or abs(change - wanted) < 0.01, f"{count} times 10 ns: {change:.4f} A instead of {wanted:.4f} A")

# The roof: its controller in a process of its own by the clock, and inside, the same verdicts, one over the other.
text = run("test", demo / "roof/inside", "--pace", "free", "--out", "inside")
has(text, "3 of 3 trials passed")
text = run_paced("test", demo / "roof", "--out", "roof", "--repeats", 2)
has(text, "3 of 3 trials passed", "memory that both share")
for file in sorted((scratch / "inside").glob("*.cfg")):
    has(run("compare", file, scratch / "roof" / file.name, "--signals", "roof.p within 4 kW over 2 ms", "C1.v within 5 V over 5 ms",
            "neutral within 4 over 5 ms", "inverter.p within 6000 over 5 ms"), "4 of 4 signals stay within their bands")
finish()
