"""Synchrophasors: the unit against a client, and the client against a unit, written here from IEEE C37.118.2; tshark decodes
the frames. A network with a known answer says what is right."""
import cmath
import math
import struct
import threading

from field_case import *


def ccitt(data):
    value = 0xFFFF
    for byte in data:
        value ^= byte << 8
        for _ in range(8):
            value = (value << 1 ^ 0x1021 if value & 0x8000 else value << 1) & 0xFFFF
    return value


expect(ccitt(b"123456789") == 0x29B1, "the sum's own example")


def frame(kind, identity, body, when=None, version=1, base=1_000_000):
    when = time.time() if when is None else when
    head = struct.pack(">BBHHIBBH", 0xAA, kind << 4 | version, 16 + len(body), identity, int(when), 0,
                       int(when % 1 * base) >> 16, int(when % 1 * base) & 0xFFFF)
    return head + body + struct.pack(">H", ccitt(head + body))


def command(identity, word):
    return frame(4, identity, struct.pack(">H", word))


class Stream:
    def __init__(self, sock, capture=None):
        self.sock, self.rest, self.capture = sock, b"", capture

    def send(self, data):
        if self.capture:
            self.capture.add(True, data)
        self.sock.sendall(data)

    def next(self, timeout=5):
        self.sock.settimeout(timeout)
        while len(self.rest) < 4 or len(self.rest) < struct.unpack(">H", self.rest[2:4])[0]:
            try:
                more = self.sock.recv(4096)
            except socket.timeout:
                return None
            if not more:
                return b""
            if self.capture:
                self.capture.add(False, more)
            self.rest += more
        size = struct.unpack(">H", self.rest[2:4])[0]
        whole, self.rest = self.rest[:size], self.rest[size:]
        expect(ccitt(whole[:-2]) == struct.unpack(">H", whole[-2:])[0], "the sum of a frame")
        return whole


def configuration(whole):
    base, units = struct.unpack(">IH", whole[14:20])
    station = whole[20:36].decode().strip()
    identity, form, phasors, analogues, digitals = struct.unpack(">HHHHH", whole[36:46])
    names = [whole[46 + 16 * k:62 + 16 * k].decode().strip() for k in range(phasors + analogues + 16 * digitals)]
    at = 46 + 16 * len(names)
    units_of = [struct.unpack(">I", whole[at + 4 * k:at + 4 * k + 4])[0] for k in range(phasors)]
    at += 4 * (phasors + analogues + digitals)
    nominal, changes, rate = struct.unpack(">HHh", whole[at:at + 6])
    expect(at + 8 == len(whole), "all of the configuration")
    return dict(base=base, station=station, id=identity, form=form, phasors=phasors, analogues=analogues, digitals=digitals, names=names,
                units=units_of, nominal=nominal, rate=rate)


def data_of(whole, c):
    second, quality = struct.unpack(">IB", whole[6:11])
    at = second + int.from_bytes(whole[11:14], "big") / c["base"]
    rest, phasors = whole[16:-2], []
    for k in range(c["phasors"]):
        if c["form"] & 2:
            x, y = struct.unpack(">ff", rest[:8])
            rest = rest[8:]
        else:
            per = (c["units"][k] & 0xFFFFFF) * 1e-5
            x, y = struct.unpack(">Hh" if c["form"] & 1 else ">hh", rest[:4])
            x, y, rest = (x * per, y * 1e-4, rest[4:]) if c["form"] & 1 else (x * per, y * per, rest[4:])
        phasors.append(cmath.rect(x, y) if c["form"] & 1 else complex(x, y))
    if c["form"] & 8:
        f, r = struct.unpack(">ff", rest[:8])
        rest = rest[8:]
    else:
        f, r = struct.unpack(">hh", rest[:4])
        f, r, rest = 50 + f / 1000, r / 100, rest[4:]
    analogues = struct.unpack(f">{c['analogues']}f", rest[:4 * c["analogues"]])
    digitals = struct.unpack(f">{c['digitals']}H", rest[4 * c["analogues"]:])
    return dict(t=at, quality=quality & 15, phasors=phasors, f=f, r=r, analogues=analogues, digitals=digitals)


network = NETWORK + """
[branch.line]
between = ["quay", "far"]
resistance = "1 ohm"
inductance = "10 mH"

[load.depot]
bus = "far"
active = "2 MW"
"""
network = network.replace('yard = "11 kV"', 'yard = "11 kV"\nfar = "11 kV"')
port, second, third = free_port(), free_port(), free_port()
case = make_case("phasors", f"""
[synchrophasor_unit.yard]
port = {port}
id = 7
reports = 50
phasors = ["VA: yard.va", "VB: yard.vb", "VC: yard.vc", "IA: line.ia"]
sequences = ["V1: yard.v"]
analogues = ["P: sent in 1000"]
digitals = ["Q1", "bench.remote"]

[synchrophasor_unit.slow]
port = {second}
id = 8
performance = "M"
reports = 10
form = "polar"
numbers = "integer"
full_scale_voltage = "20 kV"
full_scale_current = "1 kA"
phasors = ["VA: yard.va"]
sequences = ["V1: yard.v"]

[synchrophasor_unit.datagrams]
transport = "udp"
port = {third}
id = 9
phasors = ["VA: yard.va"]
frequency_of = "yard.v"
""", network=network)
with running(case) as said:
    capture = Capture(scratch / "phasors.pcap", 4712)
    stream = Stream(connected(port), capture)
    stream.send(command(7, 3))
    header = stream.next()
    expect(header[1] >> 4 == 1 and b"class P" in header, "header")
    stream.send(command(7, 4))
    stream.send(command(7, 5))
    first, c = stream.next(), configuration(stream.next())
    expect(first[1] >> 4 == 2 and c["station"] == "yard" and c["id"] == 7 and c["rate"] == 50 and c["nominal"] == 1, f"{c}")
    expect(c["names"][:8] == ["VA", "VB", "VC", "IA", "V1", "P", "Q1", "bench.remote"] and c["units"][3] >> 24 == 1, f"{c['names']}")
    stream.send(command(7, 6))
    third_kind = stream.next()
    expect(third_kind[1] == 0x52 and b"\x02VA\x02VB" in third_kind and b"P" in third_kind, "configuration 3")
    stream.send(command(7, 2))
    frames = [data_of(stream.next(), c) for _ in range(100)]
    times = [f["t"] for f in frames]
    expect(all(abs(b - a - 0.02) < 2e-6 for a, b in zip(times, times[1:])), "every 20 ms")
    expect(all(abs(t * 50 - round(t * 50)) < 1e-3 for t in times), "at whole parts of the second")
    expect(abs(times[-1] - time.time()) < 0.5, "of now")
    late = time.time() - times[-1]
    last = frames[-1]
    expect(all(abs(f["f"] - 50) < 1e-4 and abs(f["r"]) < 1e-2 for f in frames), "50 Hz, standing still")
    va, vb, vc, ia, v1 = last["phasors"]
    expect(abs(vb / va - cmath.rect(1, -2 * math.pi / 3)) < 1e-4 and abs(v1 / va - 1) < 1e-4, "balanced")
    expect(abs(abs(va) - 6280) < 120, f"{abs(va)} V")
    # 10 mH and 1 ohm ahead of 2 MW at 11 kV: the current follows from the voltage at the quay, which the source makes.
    load = 11e3 ** 2 / 2e6
    expect(abs(abs(ia) - abs(va) / abs(complex(1 + load, 2 * math.pi * 50 * 0.01)) ) < 0.02 * abs(ia), f"{abs(ia)} A")
    turning = [cmath.phase(f["phasors"][0]) for f in frames]
    expect(max(turning) - min(turning) < 2e-4, "its angle to the second stands still")
    expect(abs(last["analogues"][0] - 3000) < 1e-3 and last["digitals"] == (1,), f"{last}")
    stream.send(command(7, 1))
    time.sleep(0.3)
    while stream.next(0.2):
        pass
    expect(stream.next(0.5) is None, "data off")
    # Class M, integers, polar; the same voltage.
    slow = Stream(connected(second))
    slow.send(command(8, 5))
    c8 = configuration(slow.next())
    slow.send(command(8, 2))
    of_slow = [data_of(slow.next(), c8) for _ in range(12)]
    expect(all(abs(b["t"] - a["t"] - 0.1) < 2e-6 for a, b in zip(of_slow, of_slow[1:])), "every 100 ms")
    expect(abs(of_slow[-1]["phasors"][0] - va) < 3, f"{of_slow[-1]['phasors'][0]} and {va}")
    expect(abs(of_slow[-1]["f"] - 50) < 2e-3, "in thousandths")
    # Datagrams, on demand.
    udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    udp.settimeout(5)
    udp.sendto(command(9, 5), ("127.0.0.1", third))
    c9 = configuration(udp.recv(2000))
    udp.sendto(command(9, 2), ("127.0.0.1", third))
    got = [data_of(udp.recv(2000), c9) for _ in range(20)]
    expect(all(abs(g["phasors"][0] - va) < 1 for g in got), "the same by datagrams")
    udp.sendto(b"rubbish", ("127.0.0.1", third))
    # What is no command, or somebody else's.
    stream.capture = None
    for wrong in (b"\xaa\x41\x00\x12\x00\x07" + bytes(12), command(99, 2), frame(0, 7, b"\x00\x00")):
        stream.send(wrong)
    stream.send(b"GET / HTTP/1.1\r\n\r\n")
    expect(stream.next(5) == b"", "closed")
    fifty = [Stream(connected(port)) for _ in range(50)]
    for one in fifty:
        one.send(command(7, 2))
    for one in fifty:
        expect(all(one.next() for _ in range(10)), "fifty hear it")
has(said.text, "synchrophasor_unit.yard", "IEEE C37.118, unit 7, class P", "MALFORMED", "REFUSED")
shown = capture.decoded("-d", "tcp.port==4712,synphasor", "-Y", "synphasor", "-V")
for part in ("Configuration Frame 2", "Header Frame", "Command Frame", "Data Frame", "[Checksum Status: Good]"):
    expect(part in shown, f"tshark does not see {part}")
expect("Malformed" not in shown and "Expert Info (Error" not in shown, "tshark marks something")

# A unit of this test: right at first, then a tenth of a degree and two hundredths of a hertz off.
listener = socket.create_server(("127.0.0.1", 0))
stop, off = threading.Event(), threading.Event()
base = {}


def serve():
    sock, _ = listener.accept()
    unit = Stream(sock)
    expect(struct.unpack(">H", unit.next()[14:16])[0] == 5, "it asks for the configuration")
    body = struct.pack(">IH16sHHHHH", 1_000_000, 1, b"other           ", 11, 0x000F, 1, 0, 0) + b"VA".ljust(16) + struct.pack(">IHHh", 0, 1, 0, 25)
    unit.send(frame(3, 11, body))
    expect(struct.unpack(">H", unit.next()[14:16])[0] == 2, "it turns data on")
    while not stop.is_set():
        now = time.time()
        at = math.floor(now * 25) / 25
        time.sleep(0.04 - now % 0.04 + 0.005)
        tilt, f = (math.radians(0.1), 50.02) if off.is_set() else (0, 50.0)
        size, angle = base.get("va", (1.0, 0.0))
        try:
            unit.send(frame(0, 11, struct.pack(">Hffff", 0, size, angle + tilt, f, 0), when=at + 1e-7))
        except OSError:
            return


threading.Thread(target=serve, daemon=True).start()
own = free_port()
client = make_case("judged", f"""
record = ["judge.vector_error", "judge.frequency_error"]
[synchrophasor_unit.yard]
port = {own}
performance = "M"
reports = 25
form = "polar"
phasors = ["VA: yard.va"]
frequency_of = "yard.v"

[synchrophasor_client.judge]
port = {listener.getsockname()[1]}
id = 11
compares = ["VA: yard.va"]
frequency_of = "yard.v"
""")
with running(client, "--record", "judged.csv") as said:
    look = Stream(connected(own))
    look.send(command(1, 5))
    c = configuration(look.next())
    look.send(command(1, 2))
    for _ in range(5):
        seen = data_of(look.next(), c)
    base["va"] = cmath.polar(seen["phasors"][0])
    time.sleep(1.2)
    off.set()
    time.sleep(1.6)
stop.set()
import csv
with open(scratch / "judged.csv") as file:
    rows = list(csv.reader(file))
column = {name.split(" ")[0]: k for k, name in enumerate(rows[0])}
vector = [float(r[column["judge.vector_error"]]) for r in rows[1:]]
wrong = [float(r[column["judge.frequency_error"]]) for r in rows[1:]]
expect(abs(vector[-1] - math.radians(0.1)) < 2e-4 and abs(wrong[-1] - 0.02) < 1e-3, f"{vector[-1]}, {wrong[-1]}")
has(said.text, "synchrophasor_client.judge", "judge alive")
bad = make_case("phasors-bad", """
[synchrophasor_unit.yard]
phasors = ["yard.va"]
numbers = "integer"
digitals = ["Q9"]
""")
has(run("check", bad, code=2), "is no channel", "full_scale_voltage", "Q9", "frequency_of")
finish()
