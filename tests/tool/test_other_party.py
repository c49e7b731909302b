"""A relay and a merging unit written from the standards, which share no code with the tool: they read its
sampled values, trip by a message with quality and time in its data set, send samples back, and are judged.
tshark decodes all frames of both sides without a mark."""
import math
import os
import socket
import struct
import subprocess
import threading
import time

from harness import *

if os.geteuid() != 0:
    print("skipped: raw frames need root")
    sys.exit(77)

SAMPLES_A_SECOND, GROUP, PICKUP, DELAY = 4800, 2, 900.0, 0.1
MAC = bytes.fromhex("025a00000077")


def ber(tag, content):
    size = len(content)
    length = bytes([size]) if size < 128 else bytes([0x81, size]) if size < 256 else struct.pack(">BH", 0x82, size)
    return bytes([tag]) + length + content


def elements(data):
    """Tag, content of all that follow each other (ISO/IEC 8825-1, 8.1)."""
    at = 0
    while at < len(data):
        tag, size, at = data[at], data[at + 1], at + 2
        if size & 0x80:
            count = size & 0x7F
            size, at = int.from_bytes(data[at:at + count], "big"), at + count
        yield tag, data[at:at + size]
        at += size


def frame_of(ethertype, group, appid, apdu, priority=4):
    head = bytes([0x01, 0x0C, 0xCD, group, appid >> 8 & 1, appid & 0xFF]) + MAC
    return head + struct.pack(">HHHHHHH", 0x8100, priority << 13, ethertype, appid, len(apdu) + 8, 0, 0) + apdu


def utc(quality=0x2A):
    now = time.time()
    return struct.pack(">I", int(now)) + int((now % 1) * 2**24).to_bytes(3, "big") + bytes([quality])


class Party(threading.Thread):
    """Samples in, decisions out. `quality` of what it trips by, 13 bits as they stand in the frame."""

    def __init__(self, quality=b"\x00\x00"):
        super().__init__()
        self.quality = quality
        self.running = True
        self.heard = self.gaps = self.marked = 0
        self.captured = []
        self.socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0003))
        self.socket.setsockopt(socket.SOL_SOCKET, 33, 8 << 20)
        self.socket.bind(("lo", 0x0003))
        self.socket.settimeout(0.001)
        self.state, self.sequence, self.trip, self.tripped_at = 1, 0, False, utc()
        self.due, self.interval = 0.0, 0.002
        self.sent_samples = 0

    def publish(self, now):
        if now < self.due:
            return
        self.interval = min(2 * self.interval, 0.1)
        data = ber(0x83, bytes([self.trip])) + ber(0xA2, ber(0x84, bytes([6, 0x80 if self.trip else 0x40])) +
                                                 ber(0x84, bytes([3]) + self.quality) + ber(0x91, self.tripped_at))
        apdu = ber(0x61, ber(0x80, b"PTOC7CTRL/LLN0$GO$trip") + ber(0x81, b"\x01\xF4") + ber(0x82, b"PTOC7CTRL/LLN0$trip") +
                   ber(0x83, b"PTOC7/trip") + ber(0x84, self.tripped_at) + ber(0x85, bytes([0, self.state])) +
                   ber(0x86, struct.pack(">H", self.sequence)) + ber(0x87, b"\0") + ber(0x88, b"\x07") + ber(0x89, b"\0") +
                   ber(0x8A, b"\x02") + ber(0xAB, data))
        self.socket.send(frame_of(0x88B8, 1, 0x0107, apdu))
        self.sequence += 1
        self.due = now + self.interval

    def sample(self, now):
        """100 A at 50 Hz, 4000 samples a second, eight in a frame."""
        due = int((now - self.began) * 4000)
        while self.sent_samples + 8 <= due:
            asdus = b""
            for k in range(self.sent_samples, self.sent_samples + 8):
                ia = round(1000 * 100 * math.sin(2 * math.pi * 50 * k / 4000))
                asdus += ber(0x30, ber(0x80, b"MU9") + ber(0x82, struct.pack(">H", k % 4000)) + ber(0x83, b"\0\0\0\1") +
                             ber(0x85, b"\0") + ber(0x87, struct.pack(">iIiI", ia, 0, 100, 0)))
            self.socket.send(frame_of(0x88BA, 4, 0x4109, ber(0x60, ber(0x80, b"\x08") + ber(0xA2, asdus))))
            self.sent_samples += 8

    def take(self, frame):
        at = 18 if frame[12:14] == b"\x81\x00" else 14
        ethertype, appid = struct.unpack(">HH", frame[at - 2:at + 2])
        if ethertype not in (0x88B8, 0x88BA):
            return
        self.captured.append(frame)
        if ethertype != 0x88BA or appid != 0x4001:
            return
        (_, pdu), = elements(frame[at + 8:at + struct.unpack(">H", frame[at + 2:at + 4])[0]])
        asdus = dict(elements(pdu))[0xA2]
        for _, asdu in elements(asdus):
            fields = dict(elements(asdu))
            expect(fields[0x80] == b"VeskarMU1", f"svID {fields[0x80]}")
            expect(fields[0x86] == struct.pack(">H", SAMPLES_A_SECOND) and fields[0x88] == b"\0\1", "smpRate and smpMod")
            count = struct.unpack(">H", fields[0x82])[0]
            values = struct.unpack(">" + "iI" * 6, fields[0x87])
            now = time.monotonic()
            if self.heard and count != (self.count + 1) % SAMPLES_A_SECOND and now - self.last < 0.05:  # else another run
                self.gaps += 1
            self.count, self.heard, self.last = count, self.heard + 1, now
            if values[1] & 0x803:  # invalid, questionable, or under test: not to be used
                self.marked += 1
                self.window, self.above = [], 0
                continue
            self.decide([v * 1e-3 for v in values[0:6:2]])

    window, above, count = [], 0, 0

    def decide(self, currents):
        cycle = SAMPLES_A_SECOND // 50
        self.window = (self.window + [[i * i for i in currents]])[-cycle:]
        if len(self.window) == cycle:
            rms = max(math.sqrt(sum(row[p] for row in self.window[::4]) * 4 / cycle) for p in range(3))
            self.above = self.above + 1 if rms > PICKUP else 0
        trip = self.above >= DELAY * SAMPLES_A_SECOND
        if trip != self.trip:
            self.trip, self.state, self.sequence, self.interval, self.due = trip, self.state + 1, 0, 0.001, 0
            self.tripped_at = utc()
            self.publish(time.monotonic())

    def run(self):
        self.began = time.monotonic()
        while self.running:
            now = time.monotonic()
            self.publish(now)
            self.sample(now)
            try:
                frame, where = self.socket.recvfrom(2048)
            except TimeoutError:
                continue
            if where[2] != 4:  # PACKET_OUTGOING: what is received again
                self.take(frame)

    def end(self):
        self.running = False
        self.join()
        self.socket.close()


case = scratch / "party"
case.mkdir()
(case / "network.toml").write_text((demo / "veskar" / "network.toml").read_text())
for part in ("infeed-line.toml", "quay-cable.toml"):
    (case / part).write_text((demo / "veskar" / part).read_text())
(case / "P1.toml").write_text(f"""
values = "primary"
ct_primary = "400 A"
[stage.phase]
characteristic = "definite"
pickup = "{PICKUP:g} A"
delay = "{1000 * DELAY:g} ms"
""")
(case / "bench.toml").write_text(f"""
record = ["back.ib"]
[stream.S1]
ct = "CT1"
vt = "VT0"
id = "VeskarMU1"
carries = ["CT1.ia", "CT1.ib", "CT1.ic", "VT0.va", "VT0.vb", "VT0.vc"]
appid = 0x4001
rate = "{SAMPLES_A_SECOND} Hz"
group = {GROUP}
includes = ["smpRate", "smpMod", "refrTm"]
data_set = "VeskarMU1/LLN0$PhsMeas1"
vlan = 101
priority = 6

[stream_in.back]
id = "MU9"
values = ["ia", "ib"]
appid = 0x4109
delay = "6 ms"
when_silent = "off"

[device.P1]
place = "outside"
settings = "P1.toml"
id = "PTOC7/trip"
entries = ["start", "{{ trip as position, quality of trip, time of trip }}"]
revision = 7
reads = "S1"
trips = ["Q1"]
appid = 0x0107

[message.bay]
entries = ["{{ Q1 as position, quality of Q1, time of Q1 }}", "CT1.ia as float within 50 A", "P1.trip"]
appid = 0x0108
revision = 3
""")
(case / "trials.toml").write_text("""
[[trial]]
name = "solid fault"
fault = { on = "berth1", phases = "ABC", inception = "0 deg", lasts = "1 s" }
expect = [ { device = "P1", output = "trip", time = "from settings", tolerance = ["60 ms"] },
           { breaker = "Q1", open_before = "0.3 s" },
           { signal = "back.ia", measure = "rms", from = "0.1 s", until = "0.3 s", between = ["70 A", "71.5 A"] } ]
postfault = "0.1 s"

[[trial]]
name = "samples under test"
operate = [ { at = "-0.05 s", set = "S1.test", to = "1" } ]
fault = { on = "berth1", phases = "ABC", inception = "0 deg", lasts = "0.3 s" }
expect = [ { device = "P1", output = "trip", never = true } ]
""")

text = run("check", case, "--knobs")
has(text, "stream S1", "208 us until its frame is full", "S1.loss", "S1.jitter s", "P1.accepts_simulated", "back.accepts_test")


def against(quality, *words):
    """The party that the tool passed against, and what it said."""
    def once():
        nonlocal party
        party = Party(quality)
        party.start()
        try:
            return tried([tool, *words])
        finally:
            party.end()
    party = None
    return attempts(once), party


text, party = against(b"\x00\x00", "test", case, "--out", "out", "--no-figures")
has(text, "2 of 2 trials passed", "raw frames on lo")
expect(party.heard > 4000 and party.marked > 1000, f"{party.heard} samples, {party.marked} of them marked")
expect(party.gaps == 0, f"{party.gaps} gaps")

capture = scratch / "party.pcap"
with open(capture, "wb") as out:
    out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
    for count, frame in enumerate(party.captured):
        out.write(struct.pack("<IIII", count // 1000000, count % 1000000, len(frame), len(frame)) + frame)


def tshark(*words):
    done = subprocess.run(["tshark", "-r", str(capture), *words], capture_output=True, text=True, timeout=200)
    expect(done.returncode == 0, done.stderr)
    return [line for line in done.stdout.splitlines() if line]


expect(not tshark("-Y", "_ws.malformed"), "malformed frames")
expect(not tshark("-Y", "_ws.expert.severity == error"), "frames with an error mark")
streams = tshark("-Y", 'sv.svID == "VeskarMU1"', "-T", "fields", "-e", "sv.noASDU", "-e", "sv.datSet", "-e", "vlan.id")
expect(streams and all(line.split("\t")[0] == "2" and line.split("\t")[1].startswith("VeskarMU1/LLN0$PhsMeas1") for line in streams),
       f"streams {streams[:2]}")
bays = tshark("-Y", 'goose.goID == "bay"', "-T", "fields", "-e", "goose.numDatSetEntries", "-e", "goose.confRev", "-e", "goose.boolean")
expect(bays and all(line.startswith("3\t3\t") for line in bays), f"messages {bays[:2]}")

# A trip that the party itself marks as a test must open nothing.
(case / "trials.toml").write_text("""
[[trial]]
name = "trip under test"
fault = { on = "berth1", phases = "ABC", inception = "0 deg", lasts = "0.3 s" }
expect = [ { device = "P1", output = "trip", never = true },
           { signal = "CT1.ia", measure = "rms", from = "0.25 s", until = "0.29 s", between = ["4 kA", "6 kA"] } ]
""")
text, party = against(b"\x00\x10", "test", case, "--out", "out2", "--no-figures")
has(text, "UNFIT", "1 of 1 trials passed")
expect(party.state > 1, "the party tripped, and nobody heeded it")
finish()
