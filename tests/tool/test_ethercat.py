"""EtherCAT: a master written here from the standard, on the other end of a pair of interfaces between two network namespaces;
tshark decodes what went by."""
import re
import struct
import xml.etree.ElementTree

from field_case import *

if os.geteuid() != 0 or subprocess.run(["ip", "netns", "list"], capture_output=True).returncode != 0:
    print("network namespaces want root")
    sys.exit(77)

tag = os.getpid() % 100000
space, mine, theirs = f"zvk{tag}", f"zva{tag}", f"zvb{tag}"


def ip(*words):
    subprocess.run(["ip", *words], check=True, capture_output=True)


class Master:
    def __init__(self, interface):
        self.sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x88A4))
        self.sock.bind((interface, 0x88A4))
        self.index, self.frames = 0, []

    def cycle(self, *datagrams, timeout=1.0):
        """Each (command, address of four octets, data); what comes back as (data, counter)."""
        body = b""
        self.index = (self.index + 1) & 255
        for k, (command, address, data) in enumerate(datagrams):
            more = 0x8000 if k < len(datagrams) - 1 else 0
            body += struct.pack("<BB", command, self.index) + address + struct.pack("<HH", len(data) | more, 0) + data + b"\0\0"
        frame = b"\xff" * 6 + b"\x00\x11\x22\x33\x44\x55" + b"\x88\xa4" + struct.pack("<H", len(body) | 0x1000) + body
        self.frames.append(frame)
        self.sock.send(frame.ljust(60, b"\0"))
        until = time.monotonic() + timeout
        while (left := until - time.monotonic()) > 0:
            self.sock.settimeout(left)
            try:
                got, where = self.sock.recvfrom(2048)
            except socket.timeout:
                return None
            if where[2] == socket.PACKET_OUTGOING or got[17] != self.index:
                continue
            self.frames.append(got)
            rest, answers = got[16:], []
            for _, _, data in datagrams:
                answers.append((rest[10:10 + len(data)], struct.unpack("<H", rest[10 + len(data):12 + len(data)])[0]))
                self.last_address = rest[2:6]
                rest = rest[12 + len(data):]
            return answers
        return None

    def one(self, command, address, register, data):
        got = self.cycle((command, struct.pack("<HH", address & 0xFFFF, register), data))
        return got[0] if got else (None, 0)

    def read(self, register, size):
        data, counter = self.one(4, STATION, register, bytes(size))
        expect(counter == 1, f"register {register:#x}: counter {counter}")
        return data

    def write(self, register, data):
        _, counter = self.one(5, STATION, register, data)
        return counter

    def state(self, wanted, code=0):
        self.write(0x120, struct.pack("<H", wanted))
        status, _, got = struct.unpack("<HHH", self.read(0x130, 6))
        expect(got == code and (status & 15 == wanted & 15 and not status & 16) == (code == 0), f"state {status:#x}, code {got:#x}")

    def word(self, address):
        self.write(0x504, struct.pack("<I", address))
        self.write(0x502, b"\0\1")
        return self.read(0x508, 8)

    def mailbox(self, body, kind=3):
        self.count = getattr(self, "count", 0) % 7 + 1
        message = struct.pack("<HHBB", len(body), 0, 0, kind | self.count << 4) + body
        expect(self.write(0x1000, message.ljust(128, b"\0")) == 1, "the mailbox takes it")
        expect(self.read(0x80D, 1)[0] & 8, "an answer waits")
        got = self.read(0x1080, 128)
        size = struct.unpack("<H", got[:2])[0]
        return got[5] & 15, got[6:6 + size]

    def upload(self, index, sub):
        kind, got = self.mailbox(struct.pack("<HBHBI", 0x2000, 0x40, index, sub, 0))
        expect(kind == 3, "CoE")
        command = got[2]
        if command == 0x80:
            return struct.unpack("<I", got[6:10])[0]
        return got[6:10 - (command >> 2 & 3)] if command & 2 else got[10:10 + struct.unpack("<I", got[6:10])[0]]

    def described(self, index, sub=None):
        body = struct.pack("<HBBHH", 0x8000, 3, 0, 0, index) if sub is None else struct.pack("<HBBHHBB", 0x8000, 5, 0, 0, index, sub, 7)
        _, got = self.mailbox(body)
        expect(got[2] == (4 if sub is None else 6), f"{got.hex()}")
        return got[12:].decode() if sub is None else (struct.unpack("<HH", got[10:14]), got[16:].decode())


STATION = 0x1001
LIMIT = 0.02
case = make_case("ethercat", f"""
[ethercat_slave.quay]
interface = "{theirs}"
inputs = ["voltage: voltage as float32", "power: sent in 1000 as int32", "small: sent in 100000 as int8"]
input_states = ["main: Q1", "remote: bench.remote", "main2: Q1"]
outputs = ["wanted: wanted in kW", "reactive: reactive in kvar as float64"]
output_states = ["main: Q1", "remote: bench.remote"]
""")
ip("netns", "add", space)
try:
    ip("link", "add", mine, "type", "veth", "peer", "name", theirs, "netns", space)
    for where, name in ((None, mine), (space, theirs), (space, "lo")):
        ip(*([] if where is None else ["-n", where]), "link", "set", name, "up")
    run_in = subprocess.Popen(["ip", "netns", "exec", space, tool, "run", str(case), "--until-stopped", "--keep", "1 s"],
                              stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=scratch)
    try:
        master = Master(mine)
        wait_for(lambda: master.cycle((7, bytes(4), bytes(1)), timeout=0.2), within_s=20, message="no slave")
        data, counter = master.one(7, 0, 0x0000, bytes(10))
        expect(counter == 1 and data[4] == 4 and data[5] == 4, f"one slave with four of each: {data.hex()}")
        expect(master.one(1, -1, 0x0130, bytes(2))[1] == 0, "nobody at the second place")
        expect(master.one(2, 0, 0x0010, struct.pack("<H", STATION))[1] == 1, "it takes its address")
        expect(master.one(4, STATION + 1, 0x0130, bytes(2))[1] == 0 and master.read(0x130, 1)[0] == 1, "initial")
        # What it is, by its EEPROM.
        expect(master.word(8) == struct.pack("<II", 0x0A5A, 1), "vendor, product")
        expect(struct.unpack("<HHHH", master.word(0x18)) == (0x1000, 128, 0x1080, 128) and master.word(0x1C)[0] == 4, "mailboxes, CoE")
        at, categories = 0x40, {}
        raw = b"".join(master.word(k) for k in range(0x40, 0x140, 4))
        while (kind := struct.unpack("<H", raw[2 * (at - 0x40):2 * (at - 0x40) + 2])[0]) != 0xFFFF:
            words = struct.unpack("<H", raw[2 * (at - 0x40) + 2:2 * (at - 0x40) + 4])[0]
            categories[kind] = raw[2 * (at - 0x40) + 4:2 * (at - 0x40) + 4 + 2 * words]
            at += 2 + words
        texts, rest = [""], categories[10][1:]
        for _ in range(categories[10][0]):
            texts.append(rest[1:1 + rest[0]].decode())
            rest = rest[1 + rest[0]:]
        expect("quay" in texts and "voltage" in texts and "main2" in texts, f"{texts}")
        managers = [struct.unpack("<HHBBBB", categories[41][8 * k:8 * k + 8]) for k in range(4)]
        # States: only one up at a time, and only with what it needs.
        master.state(8, 0x11)
        master.state(0x12, 0x16)
        for k in (0, 1):
            start, size, control, *_ = managers[k]
            expect(master.write(0x800 + 8 * k, struct.pack("<HHBBBB", start, size, control, 0, 1, 0)) == 1, "a manager")
        master.state(0x11)
        master.state(2)
        # Names and entries, one by one.
        expect(master.upload(0x1008, 0) == b"quay" and master.upload(0x1018, 1) == struct.pack("<I", 0x0A5A), "its name")
        _, got = master.mailbox(struct.pack("<HBBHH", 0x8000, 1, 0, 0, 1))
        indices = struct.unpack(f"<{(len(got) - 8) // 2}H", got[8:])
        expect(0x6000 in indices and 0x7000 in indices and 0x1A00 in indices, f"{indices}")
        expect(master.described(0x6000) == "inputs", "the inputs' name")
        entries = [master.described(0x6000, k) for k in range(1, 7)]
        expect([name for _, name in entries] == ["voltage", "power", "small", "main", "remote", "main2"], f"{entries}")
        expect([kind for kind, _ in entries] == [(8, 32), (4, 32), (2, 8), (1, 1), (1, 1), (1, 1)], f"{entries}")
        count = master.upload(0x1A00, 0)[0]
        mapped = [struct.unpack("<I", master.upload(0x1A00, k))[0] for k in range(1, count + 1)]
        expect(mapped == [0x60000120, 0x60000220, 0x60000308, 0x60000401, 0x60000501, 0x60000601, 5], f"{[hex(m) for m in mapped]}")
        expect(struct.unpack("<i", master.upload(0x6000, 2))[0] == 0, "nothing is shown ahead of safe operation")
        for index, sub, wanted in ((0x9999, 0, 0x06020000), (0x6000, 99, 0x06090011)):
            expect(master.upload(index, sub) == wanted, f"{index:#x}:{sub}")
        kind, got = master.mailbox(b"\0\0\0\0", kind=5)
        expect(kind == 0 and struct.unpack("<HH", got) == (1, 2), "no such protocol")
        # Process images.
        master.state(4, 0x1D)
        for k in (2, 3):
            start, size, control, _, on, _ = managers[k]
            expect((k, size) in ((2, 11), (3, 10)), f"manager {k} of {size}")
            master.write(0x800 + 8 * k, struct.pack("<HHBBBB", start, size, control, 0, 1, 0))
        master.write(0x600, struct.pack("<IHBBHBBBBH", 0x10000, 11, 0, 7, managers[2][0], 0, 2, 1, 0, 0))
        master.write(0x610, struct.pack("<IHBBHBBBBH", 0x10000 + 11, 10, 0, 7, managers[3][0], 0, 1, 1, 0, 0))
        master.state(0x14)
        logical = struct.pack("<I", 0x10000)
        start = struct.pack("<hdB", 3000, 1000.0, 0b11)
        data, counter = master.cycle((12, logical, start + bytes(10)))[0]
        voltage, power, small, bits = struct.unpack("<fibB", data[11:])
        expect(counter == 3 and abs(voltage - 6280) < 120 and (power, small, bits) == (3000, 30, 0b101), f"{counter}: {voltage} {power} {small} {bits:#b}")
        master.state(8)
        # A thousand cycles of a millisecond; the wanted power goes there and comes back.
        late, begun = 0, time.monotonic()
        for k in range(1000):
            wanted = 3000 - k % 500
            got = master.cycle((12, logical, struct.pack("<hdB", wanted, 1000.0, 0b11) + bytes(10)), timeout=LIMIT)
            late += got is None or got[0][1] != 3
            time.sleep(max(0, begun + (k + 1) / 1000 - time.monotonic()))
        expect(late < 20, f"{late} cycles of 1,000 without their answer")
        wait_for(lambda: struct.unpack("<i", master.cycle((12, logical, struct.pack("<hdB", 2500, 900.0, 0b01) + bytes(10)))[0][0][15:19])[0] == 2500,
                 message="2,500 kW did not come back")
        wait_for(lambda: master.cycle((12, logical, struct.pack("<hdB", 2500, 900.0, 0b10) + bytes(10)))[0][0][20] == 0b010,
                 message="Q1 did not open")
        data, counter = master.cycle((10, struct.pack("<I", 0x10000 + 11), bytes(4)), (11, logical, struct.pack("<h", 2400)))[0]
        expect(counter == 1 and len(data) == 4, "read alone")
        # The clock: it follows one that is told.
        offset = struct.unpack("<Q", master.read(0x910, 8))[0]
        for _ in range(60):
            mine_ns = time.monotonic_ns() + 1_000_000
            master.write(0x910, struct.pack("<Q", mine_ns))
            master.cycle((12, logical, start + bytes(10)))
        apart = struct.unpack("<Q", master.read(0x910, 8))[0] - time.monotonic_ns() - 1_000_000
        expect(abs(apart) < 500_000, f"{apart} ns off")
        expect(master.one(8, 0, 0x900, bytes(4))[1] == 1 and master.read(0x900, 4) != bytes(4), "the time of receiving")
        # Nobody writes any more: safe operation, and it says so.
        time.sleep(0.4)
        status, _, code = struct.unpack("<HHH", master.read(0x130, 6))
        expect((status & 31, code) == (0x14, 0x1B), f"watchdog: {status:#x} {code:#x}")
        # What is no frame.
        for wrong in (b"\x00\x10", b"\xff\x1f" + bytes(60), struct.pack("<H", 0x1000 | 20) + b"\x04\x01" + bytes(4) + b"\xff\x07" + bytes(14),
                      struct.pack("<H", 0x4000 | 12) + bytes(12)):
            master.sock.send(b"\xff" * 6 + b"\x00\x11\x22\x33\x44\x55\x88\xa4" + wrong.ljust(46, b"\0"))
        expect(master.read(0x130, 1)[0] & 15 == 4, "it goes on")
    finally:
        run_in.send_signal(signal.SIGINT)
        said = run_in.communicate(timeout=60)[0]
finally:
    ip("netns", "del", space)
has(said, "ethercat_slave.quay", "EtherCAT, 10 and 11 octets", "quay operational", "Q1 open", "MALFORMED")
with open(scratch / "ethercat.pcap", "wb") as out:
    out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
    for k, frame in enumerate(master.frames):
        out.write(struct.pack("<IIII", k // 1000, k % 1000 * 1000, len(frame), len(frame)) + frame)
shown = subprocess.run(["tshark", "-r", str(scratch / "ethercat.pcap"), "-V"], capture_output=True, text=True).stdout
for part in ("EtherCAT datagram(s)", "LRW", "Mailbox", "CoE", "SDO Req", "AL Status"):
    expect(part in shown, f"tshark does not see {part}")
expect("Malformed" not in shown, "tshark marks something")
# The tool's own controller on the demo, and the description of its slave.
shown = subprocess.run([str(demo / "process-image/show"), "3"], capture_output=True, text=True, timeout=60, env=dict(os.environ, ZAVREK=tool)).stdout
has(shown, "slave 0x1001 lamps", "in  sine", "out brightness", "operational; a cycle each 1 ms", "lamp 3 on", "lamp 4 off", "bench.ready closed", "lamps operational")
answered = re.search(r"(\d+) cycles, (\d+) without", shown)
expect(int(answered.group(1)) > 2500 and int(answered.group(2)) < 50, answered.group(0))
root = xml.etree.ElementTree.fromstring(run("slave", demo / "process-image"))
device = root.find("Descriptions/Devices/Device")
expect(device.find("Type").get("ProductCode") == "#x00000007" and device.find("Name").text == "lamps", "its product")
expect([e.find("Name").text for e in device.findall("TxPdo/Entry")] == ["sine", "voltage"] + [f"bit{k}" for k in range(8)], "its inputs")
expect([e.find("DataType").text for e in device.findall("RxPdo/Entry") if e.find("DataType") is not None] == ["UINT", "BOOL"], "its outputs")
has(run("slave", demo / "veskar", code=2), "has no slave")
bad = make_case("ethercat-bad", """
[ethercat_slave.quay]
interface = "none9"
inputs = ["power: sent as int24"]
output_states = ["main: Q7"]
""")
has(run("check", bad, code=2), "no type \"int24\"")
finish()
