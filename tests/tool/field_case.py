"""A case with field buses: a quay whose control has set points, and helpers to run it beside a test's own party."""
import contextlib
import os
import signal
import socket

from harness import *

NETWORK = """title = "Veskar quay, yard"
frequency = "50 Hz"
step = "50 us"

[bus]
quay = "11 kV"
yard = "11 kV"

[source.grid]
bus = "quay"
short_circuit = "140 MVA"
x_over_r = 8

[breaker.Q1]
between = ["quay", "yard"]

[load.ferry]
bus = "yard"
active = "3 MW"
reactive = "1 Mvar"
"""
CONTROL = """period = "1 ms"

[setpoint.wanted]
value = 3e6
unit = "W"

[setpoint.reactive]
value = 1e6
unit = "var"

[sum.sent]
inputs = ["wanted"]

[rms.voltage]
input = "yard.va"
window = "20 ms"
"""


def free_port():
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


def make_case(name, bench, network=NETWORK, control=CONTROL):
    case = scratch / name
    case.mkdir(exist_ok=True)
    (case / "network.toml").write_text(network)
    (case / "control.toml").write_text(control)
    (case / "bench.toml").write_text('contacts = ["remote"]\nlisten = "0 ms"\n' + bench)
    return case


@contextlib.contextmanager
def running(case, *words, lasts=60):
    """The case, paced, until the block is left; then it is interrupted, and what it printed is in `said`."""
    class Said(str):
        text = ""
    said = Said()
    process = subprocess.Popen([tool, "run", str(case), "--until-stopped", "--keep", "1 s", *map(str, words)],
                               stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=scratch)
    try:
        yield said
    finally:
        process.send_signal(signal.SIGINT)
        try:
            said.text = process.communicate(timeout=lasts)[0]
        except subprocess.TimeoutExpired:
            process.kill()
            raise


def connected(port, within_s=20):
    """A connection to a port that somebody is about to open."""
    until = time.monotonic() + within_s
    while True:
        try:
            one = socket.create_connection(("127.0.0.1", port), timeout=5)
            one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            return one
        except OSError:
            expect(time.monotonic() < until, f"nobody listens at {port}")
            time.sleep(0.05)


def wait_for(what, within_s=10, message="it did not come"):
    until = time.monotonic() + within_s
    while True:
        got = what()
        if got:
            return got
        expect(time.monotonic() < until, message)
        time.sleep(0.02)


class Capture:
    """Frames of TCP as a packet analyser reads them: what a test's party sent and received, in pcap."""
    def __init__(self, file, port):
        self.file, self.port, self.frames = file, port, []
        self.sequence = [1, 1]

    def add(self, to_station, data):
        import struct
        client, station = 0x0A000001, 0x0A000002
        source, target = (40000, self.port) if to_station else (self.port, 40000)
        mine = 0 if to_station else 1
        tcp = struct.pack(">HHIIBBHHH", source, target, self.sequence[mine], self.sequence[1 - mine], 0x50, 0x18, 8192, 0, 0) + data
        self.sequence[mine] = (self.sequence[mine] + len(data)) & 0xFFFFFFFF
        ip = struct.pack(">BBHHHBBHII", 0x45, 0, 20 + len(tcp), 0, 0, 64, 6, 0, *((client, station) if to_station else (station, client)))
        self.frames.append(b"\x02\x00\x00\x00\x00\x02\x02\x00\x00\x00\x00\x01\x08\x00" + ip + tcp)

    def write(self):
        import struct
        with open(self.file, "wb") as out:
            out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
            for k, frame in enumerate(self.frames):
                out.write(struct.pack("<IIII", 1000 + k // 1000, k % 1000 * 1000, len(frame), len(frame)) + frame)

    def decoded(self, *words):
        """What tshark makes of it; without what it says of sums that are left out."""
        self.write()
        done = subprocess.run(["tshark", "-r", str(self.file), *words], capture_output=True, text=True, timeout=120)
        expect(done.returncode == 0, done.stderr)
        return done.stdout
