"""DNP3 against a master and an outstation written here from IEEE 1815; tshark decodes all of it without a mark."""
import struct
import threading

from field_case import *

CONFIRM, READ, WRITE, SELECT, OPERATE, DIRECT, DIRECT_NR, ENABLE, DISABLE, DELAY, RECORD = 0, 1, 2, 3, 4, 5, 6, 20, 21, 23, 24
RESTART, NEED_TIME, OVERFLOW, NO_FUNCTION, UNKNOWN, PARAMETER = 1 << 7, 1 << 4, 1 << 11, 1 << 8, 1 << 9, 1 << 10
CLASSES = {c: bytes([60, c + 1, 6]) for c in range(4)}


def crc(data):
    value = 0
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xA6BC if value & 1 else 0)
    return struct.pack("<H", ~value & 0xFFFF)


class Party:
    """Link, transport and application of one side."""
    def __init__(self, sock, own, other, master, capture=None):
        self.sock, self.own, self.other, self.master, self.capture = sock, own, other, master, capture
        self.rest, self.segment, self.number = b"", 0, 0
        self.confirms = True
        self.unasked = []

    def raw(self, data):
        if self.capture:
            self.capture.add(self.master, data)
        self.sock.sendall(data)

    def frame(self, control, data=b""):
        head = bytes([5, 0x64, 5 + len(data), control | (0x80 if self.master else 0)]) + struct.pack("<HH", self.other, self.own)
        out = head + crc(head)
        for at in range(0, len(data), 16):
            out += data[at:at + 16] + crc(data[at:at + 16])
        return out

    def put(self, fragment):
        parts = [fragment[at:at + 249] for at in range(0, len(fragment), 249)]
        for k, part in enumerate(parts):
            flags = (0x80 if k == len(parts) - 1 else 0) | (0x40 if k == 0 else 0) | self.segment & 63
            self.segment += 1
            self.raw(self.frame(0x44, bytes([flags]) + part))

    def take_frame(self, timeout):
        self.sock.settimeout(timeout)
        while True:
            if len(self.rest) >= 10:
                expect(self.rest[:2] == b"\x05\x64" and crc(self.rest[:8]) == self.rest[8:10], "a header and its sum")
                size = self.rest[2] - 5
                whole = 10 + size + 2 * ((size + 15) // 16)
                if len(self.rest) >= whole:
                    frame, self.rest = self.rest[:whole], self.rest[whole:]
                    data, at = b"", 10
                    while len(data) < size:
                        part = min(16, size - len(data))
                        expect(crc(frame[at:at + part]) == frame[at + part:at + part + 2], "a block and its sum")
                        data += frame[at:at + part]
                        at += part + 2
                    return frame[3], data
            try:
                more = self.sock.recv(4096)
            except socket.timeout:
                return None
            if not more:
                return None
            if self.capture:
                self.capture.add(not self.master, more)
            self.rest += more

    def fragment(self, timeout=5):
        whole = b""
        while got := self.take_frame(timeout):
            control, data = got
            if control & 15 != 4:
                return control, None
            whole = data[1:] if data[0] & 0x40 else whole + data[1:]
            if data[0] & 0x80:
                return control, whole
        return None, None

    # --- a master ---
    def ask(self, function, objects=b"", number=None, wait=True):
        self.number = (self.number + 1) & 15 if number is None else number
        self.put(bytes([0xC0 | self.number, function]) + objects)
        return self.answer() if wait else None

    def answer(self, timeout=5):
        """All fragments of the response to the latest request, confirmed; what comes unasked between is kept."""
        objects, wanted = [], self.number
        until = time.monotonic() + timeout
        while time.monotonic() < until:
            _, got = self.fragment(until - time.monotonic())
            if got is None:
                return None, None
            control, function, iin = got[0], got[1], got[2] | got[3] << 8
            if control & 0x20 and self.confirms:
                self.put(bytes([0xC0 | control & 0x1F, CONFIRM]))
            if function == 130:
                self.unasked.append((iin, objects_of(got[4:])))
                continue
            expect(function == 129 and control & 15 == wanted, f"response {got[:2].hex()}, wanted {wanted}")
            objects.append(got[4:])
            if control & 0x40:
                return iin, b"".join(objects)
            wanted = (wanted + 1) & 15
            self.number = wanted
        return None, None

    def hear(self, timeout=5):
        """The next thing that comes unasked."""
        if self.unasked:
            return self.unasked.pop(0)
        _, got = self.fragment(timeout)
        if got is None:
            return None
        expect(got[1] == 130, f"{got.hex()}")
        if self.confirms:
            self.put(bytes([0xC0 | got[0] & 0x1F, CONFIRM]))
        return got[2] | got[3] << 8, objects_of(got[4:])


SIZES = {(1, 2): 1, (2, 1): 1, (2, 2): 7, (10, 2): 1, (12, 1): 11, (30, 1): 5, (30, 2): 3, (30, 3): 4, (30, 4): 2, (30, 5): 5, (32, 1): 5,
         (32, 3): 11, (32, 4): 9, (32, 7): 11, (40, 1): 5, (40, 2): 3, (40, 3): 5, (41, 1): 5, (41, 2): 3, (41, 3): 5, (52, 2): 2, (50, 1): 6, (50, 3): 6, (80, 1): 1}


def objects_of(raw):
    found = []
    while raw:
        group, variation, qualifier = raw[:3]
        raw = raw[3:]
        if qualifier == 6:
            found.append((group, variation, None, b""))
            continue
        if qualifier in (0, 1):
            size = 1 + qualifier
            first, last = (int.from_bytes(raw[k * size:(k + 1) * size], "little") for k in (0, 1))
            raw = raw[2 * size:]
            indices, prefix = list(range(first, last + 1)), 0
        else:
            size = 1 if qualifier in (7, 0x17) else 2
            count, raw = int.from_bytes(raw[:size], "little"), raw[size:]
            prefix = size if qualifier >= 0x17 else 0
            indices = list(range(count))
        if (group, variation) in ((1, 1), (10, 1), (80, 1)):
            for k, index in enumerate(indices):
                found.append((group, variation, index, bytes([raw[k // 8] >> k % 8 & 1])))
            raw = raw[(len(indices) + 7) // 8:]
            continue
        for index in indices:
            if prefix:
                index, raw = int.from_bytes(raw[:prefix], "little"), raw[prefix:]
            found.append((group, variation, index, raw[:SIZES[group, variation]]))
            raw = raw[SIZES[group, variation]:]
    return found


def crob(index, code, status=0):
    return struct.pack("<BBBHHBBIIB", 12, 1, 0x28, 1, index, code, 1, 100, 0, status)


def set_float(index, value):
    return struct.pack("<BBBHHfB", 41, 3, 0x28, 1, index, value, 0)


port = free_port()
case = make_case("outstation", f"""
[dnp3_outstation.yard]
port = {port}
outstation = 10
master = 3
clock = "master"
events = 5
answer_time = "0.5 s"
scan = "20 ms"
binary_inputs = ["0: Q1", "1: bench.remote class 3", "4: bench.remote class 0"]
analogue_inputs = ["0: voltage in 1000 within 500 class 2", "1: sent in 10000 as int16 class 2", "2: sent as int32 class 0"]
binary_outputs = ["0: Q1 select", "1: bench.remote"]
analogue_outputs = ["0: wanted in kW", "7: reactive in kvar as int16"]
""")
with running(case) as said:
    capture = Capture(scratch / "dnp3.pcap", 20000)
    master = Party(connected(port), 3, 10, True, capture)
    time.sleep(0.3)
    # The link by itself.
    master.raw(master.frame(0x49))
    while (got := master.take_frame(5)) and got[0] & 15 != 11:
        pass
    expect(got, "status of the link")
    # It greets, with nothing but its restart.
    wait_for(lambda: master.hear(1) is not None, message="no greeting")
    iin, answer = master.ask(READ, CLASSES[1] + CLASSES[2] + CLASSES[3] + CLASSES[0])
    expect(iin & RESTART and iin & NEED_TIME, f"restarted, without time: {iin:#x}")
    static = {(g, i): (v, d) for g, v, i, d in objects_of(answer)}
    expect(static[1, 0] == (2, b"\x81") and static[1, 1] == (2, b"\x01") and (1, 4) in static, f"{static}")
    v, data = static[30, 0]
    expect(v == 5 and 6.1 < struct.unpack("<f", data[1:])[0] < 6.4, "kV as a float")
    expect(static[30, 1] == (2, b"\x01" + struct.pack("<h", 300)) and static[30, 2] == (1, b"\x01" + struct.pack("<i", 3_000_000)), "int16, int32")
    expect(static[10, 0] == (2, b"\x81") and static[40, 0] == (3, b"\x01" + struct.pack("<f", 3000)) and static[40, 7] == (2, b"\x01" + struct.pack("<h", 1000)), f"outputs: {static}")
    iin, _ = master.ask(WRITE, bytes([80, 1, 0, 7, 7, 0]))
    expect(not iin & RESTART, "the restart is seen")
    # The time, as on a network; its clock runs an hour ahead from now on.
    master.ask(RECORD)
    iin, _ = master.ask(WRITE, bytes([50, 3, 7, 1]) + int((time.time() + 3600) * 1000).to_bytes(6, "little"))
    expect(not iin & NEED_TIME, "it has the time")
    iin, answer = master.ask(DELAY)
    expect(objects_of(answer)[0][:2] == (52, 2), "its delay")
    # Ranges, other variations, what is not there.
    _, answer = master.ask(READ, bytes([1, 1, 0, 0, 1]))
    expect([d for *_, d in objects_of(answer)] == [b"\x01", b"\x00"], "packed")
    _, answer = master.ask(READ, bytes([30, 3, 0, 1, 1]))
    expect(objects_of(answer) == [(30, 3, 1, struct.pack("<i", 300))], "32 bits without a flag")
    for objects, bit in ((bytes([30, 0, 0, 5, 9]), PARAMETER), (bytes([110, 0, 6]), UNKNOWN), (b"\x1e", PARAMETER)):
        iin, answer = master.ask(READ, objects)
        expect(iin & bit and answer == b"", f"{objects.hex()}: {iin:#x}")
    iin, _ = master.ask(13)
    expect(iin & NO_FUNCTION, "a restart by others is not known")
    # Controls: not without selection, not with another number, then done, and the event is an hour ahead.
    _, answer = master.ask(DIRECT, crob(0, 4))
    expect(answer[-1] == 2, f"not selected: {answer.hex()}")
    _, answer = master.ask(OPERATE, crob(0, 4))
    expect(answer[-1] == 2, "nothing was selected")
    _, answer = master.ask(SELECT, crob(0, 4))
    expect(answer == crob(0, 4), "selected")
    _, answer = master.ask(OPERATE, crob(0, 3))
    expect(answer[-1] == 2, "another operation than selected")
    master.ask(SELECT, crob(0, 4))
    before = time.time()
    _, answer = master.ask(OPERATE, crob(0, 4))
    expect(answer == crob(0, 4), f"opens: {answer.hex()}")
    wait_for(lambda: master.ask(READ, bytes([1, 0, 0, 0, 0]))[1][-1] == 1, message="Q1 did not open")
    iin, _ = master.ask(READ, bytes([1, 0, 0, 0, 0]))
    expect(iin & 2, "an event of class 1 waits")
    iin, answer = master.ask(READ, CLASSES[1])
    events = objects_of(answer)
    expect([e[:3] for e in events] == [(2, 2, 0)] and events[0][3][0] == 1, f"{events}")
    expect(abs(int.from_bytes(events[0][3][1:7], "little") / 1000 - 3600 - before) < 0.5, "with the time that the master gave")
    iin, answer = master.ask(READ, CLASSES[1])
    expect(answer == b"" and not iin & 2, "confirmed, it is gone")
    # What is not confirmed is told again.
    time.sleep(0.2)
    master.ask(READ, CLASSES[2])
    master.ask(DIRECT, set_float(0, 2500.0))
    wait_for(lambda: master.ask(READ, bytes([1, 0, 0, 0, 0]))[0] & 4, message="no event of class 2")
    master.confirms = False
    _, first = master.ask(READ, CLASSES[2])
    time.sleep(0.7)
    master.confirms = True
    _, second = master.ask(READ, CLASSES[2])
    expect(any(e[:3] == (32, 4, 1) and e[3][1:3] == struct.pack("<h", 250) for e in objects_of(first)), f"{objects_of(first)}")
    expect(objects_of(first)[0] == objects_of(second)[0], "once more")
    # Another coding of the same command, one that is not known, a value beyond its range, without an answer.
    _, answer = master.ask(DIRECT, crob(1, 0x41))
    expect(answer == crob(1, 0x41), "a pulse that closes")
    _, answer = master.ask(DIRECT, crob(1, 1))
    expect(answer[-1] == 4, "a pulse of neither coil")
    _, answer = master.ask(DIRECT, crob(9, 3))
    expect(answer[-1] == 4, "no such point")
    master.ask(DIRECT_NR, crob(1, 0x81), wait=False)
    wait_for(lambda: master.ask(READ, bytes([10, 0, 0, 1, 1]))[1][-1] == 1, message="no pulse that trips")
    # The same request twice is done once, and answered the same.
    request = bytes([0xC0 | (master.number + 1) & 15, DIRECT]) + crob(1, 3)
    master.number = (master.number + 1) & 15
    master.put(request)
    first = master.answer()
    master.put(request)
    expect(master.answer()[1] == first[1], "the same answer")
    # Six events of one class where five have room.
    master.ask(READ, CLASSES[3])
    for k in range(7):
        master.ask(DIRECT, crob(1, 4 if k % 2 == 0 else 3))
        time.sleep(0.02)
    iin, answer = master.ask(READ, CLASSES[3])
    expect(iin & OVERFLOW and len(objects_of(answer)) == 5, f"{iin:#x}, {len(objects_of(answer))} events")
    # Unasked, once it may.
    master.ask(ENABLE, CLASSES[1] + CLASSES[3])
    master.ask(DIRECT, crob(1, 3 if objects_of(answer)[-1][3][0] & 0x80 == 0 else 4))
    heard = master.hear()
    expect(heard and heard[1][0][:3] == (2, 2, 1), f"{heard}")
    # Not confirmed, it comes again.
    master.confirms = False
    master.ask(DIRECT, crob(1, 3))
    master.ask(DIRECT, crob(1, 4))
    master.unasked.clear()
    again = master.hear(3)
    master.confirms = True
    expect(again, "not confirmed: told again")
    wait_for(lambda: (master.hear(2) or (0, []))[1], message="and again until it is")
    # Data with confirmation of the link; the same frame twice is taken once.
    master.raw(master.frame(0x40))
    while (got := master.take_frame(5)) and got[0] & 0x4F != 0:
        pass
    body = bytes([0xC0 | master.segment & 63]) + bytes([0xC0 | (master.number + 1) & 15, READ]) + CLASSES[0]
    master.segment += 1
    for _ in range(2):
        master.raw(master.frame(0x73, body))
    answers = acknowledged = 0
    while (got := master.take_frame(1)):
        answers += got[0] & 15 == 4
        acknowledged += got[0] & 0x4F == 0
    expect(acknowledged == 2 and answers == 1, f"{acknowledged} acknowledged, {answers} answered")
    # Rubbish between frames, sums that are wrong, another outstation, another master: nothing, and it goes on.
    master.number = (master.number + 1) & 15
    master.raw(b"rubbish\x05\x64\x05" + bytes(20))
    broken = bytearray(master.frame(0x44, b"\xc0\xc1\x01\x3c\x02\x06"))
    broken[12] ^= 1
    master.raw(bytes(broken))
    master.raw(Party(master.sock, 3, 11, True).frame(0x44, b"\xc0\xc1\x01\x3c\x02\x06"))
    master.raw(Party(master.sock, 4, 10, True).frame(0x44, b"\xc0\xc1\x01\x3c\x02\x06"))
    master.capture = None
    iin, answer = master.ask(READ, CLASSES[0])
    expect(answer, "it goes on")
    # The latest connection is served; a storm of them leaves it well.
    for one in [connected(port) for _ in range(100)]:
        one.close()
    later = Party(connected(port), 3, 10, True)
    wait_for(lambda: later.ask(READ, CLASSES[0])[1], message="no answer on the later connection")
has(said.text, "dnp3_outstation.yard", "DNP3, outstation 10", "MALFORMED", "REFUSED", "LOST")
capture.frames = [f for f in capture.frames if b"rubbish" not in f][:-3]
shown = capture.decoded("-d", "tcp.port==20000,dnp3", "-Y", "dnp3", "-V")
for part in ("Malformed", "Expert Info (Error", "[incorrect"):
    expect(part not in shown, f"tshark marks something: {part}\n" + "\n".join(l for l in shown.splitlines() if part in l)[:500])
has(shown, "Unsolicited Response", "Binary Input Change With Time", "32-Bit Floating Point", "Control Relay Output Block")

# Fifty masters at once, told apart by their addresses: each has a sequence, a restart to see and events of its own.
port = free_port()
shared = make_case("fifty", f"""
[dnp3_outstation.yard]
port = {port}
outstation = 10
master = 3
other_masters = ["7", "100 to 147"]
binary_inputs = ["0: Q1", "1: bench.remote class 3"]
binary_outputs = ["0: Q1", "1: bench.remote"]
""")
with running(shared) as said:
    addresses = [3, 7, *range(100, 148)]
    masters = [Party(connected(port), address, 10, True) for address in addresses]
    problems = []

    def each(work):
        def guarded(master):
            try:
                work(master)
            except BaseException as problem:
                problems.append(f"master {master.own}: {problem}")
        threads = [threading.Thread(target=guarded, args=(master,)) for master in masters]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        expect(not problems, "; ".join(problems[:3]))

    def begins(master):
        iin, answer = master.ask(READ, CLASSES[1] + CLASSES[2] + CLASSES[3] + CLASSES[0])
        expect(iin & RESTART and answer, "sees a restart, and everything")
        for _ in range(20):
            iin, answer = master.ask(READ, CLASSES[0])
            expect(answer, "is polled")
        if master.own % 2:
            iin, _ = master.ask(WRITE, bytes([80, 1, 0, 7, 7, 0]))
        expect(bool(iin & RESTART) == (master.own % 2 == 0), "has seen the restart, or not, for itself alone")

    each(begins)
    before = time.monotonic()
    _, answer = masters[0].ask(DIRECT, crob(1, 4 if masters[0].ask(READ, bytes([1, 0, 0, 1, 1]))[1][-1] & 0x80 else 3))
    expect(answer[-1] == 0, "one of them operates")
    wait_for(lambda: masters[0].ask(READ, bytes([1, 0, 0, 1, 1]))[0] & 8, message="no event of class 3")

    def reads(master):
        if master.own == 7:  # does not confirm: its event stays, the others' go
            master.confirms = False
        iin, answer = master.ask(READ, CLASSES[3])
        expect([e[:3] for e in objects_of(answer)] == [(2, 2, 1)], f"its own event: {objects_of(answer)}")
        iin, answer = master.ask(READ, CLASSES[3])
        expect((answer != b"") == (master.own == 7), "confirmed, it is gone; else it comes again")
        master.confirms = True

    each(reads)
    # A second connection of one master ends that one's first, and nobody else's.
    second = Party(connected(port), 100, 10, True)
    expect(second.ask(READ, CLASSES[0])[1], "served")
    expect(masters[2].ask(READ, CLASSES[0])[1] is None, "its first connection is over")
    expect(all(master.ask(READ, CLASSES[0])[1] for master in (*masters[:2], *masters[3:])), "the others go on")
    stranger = Party(connected(port), 99, 10, True)
    stranger.ask(READ, CLASSES[0], wait=False)
    expect(stranger.answer(0.5) == (None, None), "a master that was not named is not answered")
has(said.text, "DNP3, outstation 10")
for wrong, words in (('["7 to"]', "no address nor"), ('["9 to 5"]', "no address nor"), ('["here"]', "no address nor"), ('["70000"]', "no address nor"),
                     ('["0 to 2000"]', "more than 1000 masters"), ('["2 to 4"]', "address 3 stands twice")):
    refused = subprocess.run([tool, "check", str(make_case("wrong", f"[dnp3_outstation.yard]\nmaster = 3\nbinary_inputs = [\"0: Q1\"]\nother_masters = {wrong}\n"))],
                             capture_output=True, text=True)
    expect(refused.returncode != 0 and words in refused.stdout + refused.stderr, f"{wrong}: {refused.stdout}{refused.stderr}")

# A line: the same outstation on a pseudo-terminal.
line = scratch / "yard-line"
serial = make_case("outstation-line", f"""
[dnp3_outstation.yard]
line = "pty:{line}"
outstation = 12
master = 5
binary_inputs = ["0: Q1"]
binary_outputs = ["0: Q1"]
""")


class Wire:
    """A serial line as a socket is used here."""
    def __init__(self, path):
        self.file = os.open(path, os.O_RDWR | os.O_NOCTTY)
        self.timeout = 5

    def settimeout(self, seconds):
        self.timeout = seconds

    def sendall(self, data):
        os.write(self.file, data)

    def recv(self, size):
        import select
        if not select.select([self.file], [], [], self.timeout)[0]:
            raise socket.timeout
        return os.read(self.file, size)


with running(serial) as said:
    wait_for(lambda: line.exists(), message="no pseudo-terminal")
    on_line = Party(Wire(line), 5, 12, True)
    wait_for(lambda: on_line.ask(READ, CLASSES[0])[1], message="no answer on the line")
    on_line.ask(DIRECT, crob(0, 4))
    wait_for(lambda: on_line.ask(READ, bytes([1, 0, 0, 0, 0]))[1][-1] == 1, message="Q1 did not open")
has(said.text, "DNP3, outstation 12", str(line), "Q1 open")

# Our master and an outstation of this test.
listener = socket.create_server(("127.0.0.1", 0))
orders, requests = [], []


def serve():
    sock, _ = listener.accept()
    me = Party(sock, 20, 1, False)
    restarted = True
    while not stop.is_set():
        _, got = me.fragment(0.3)
        if got is None:
            continue
        number, function, objects = got[0] & 15, got[1], got[2:]
        requests.append((function, objects))
        if function == CONFIRM:
            continue
        iin = (RESTART | NEED_TIME) if restarted else 0
        if function == READ and CLASSES[0] in objects:
            body = bytes([1, 2, 0, 0, 1, 0x81, 0x01]) + bytes([30, 5, 0, 2, 2, 1]) + struct.pack("<f", 1500.0) + bytes([30, 2, 0, 3, 3, 0]) + struct.pack("<h", 7)
            first = bytes([0xA0 | number, 129]) + struct.pack("<H", iin) + body
            me.put(first)
            me.put(bytes([0x60 | (number + 1) & 15, 129]) + struct.pack("<H", iin) + bytes([2, 2, 0x17, 1, 0, 1]) + int(time.time() * 1000).to_bytes(6, "little"))
            continue
        if function == WRITE and objects[:2] == b"\x50\x01":
            restarted = False
            iin = NEED_TIME
        if function in (SELECT, OPERATE, DIRECT):
            orders.append((function, objects))
        me.put(bytes([0xC0 | number, 129]) + struct.pack("<H", iin) + (objects if function in (SELECT, OPERATE, DIRECT) else b""))
    sock.close()


stop = threading.Event()
threading.Thread(target=serve, daemon=True).start()
follows = make_case("master", f"""
[dnp3_master.gateway]
port = {listener.getsockname()[1]}
outstation = 20
poll = "0.1 s"
binary_inputs = ["0: Q1"]
analogue_inputs = ["2: wanted in kW", "3: reactive in kvar"]
binary_outputs = ["5: Q1 select"]
analogue_outputs = ["6: sent in 1000 within 1000 as int16"]
""")
with running(follows) as said:
    sent = struct.pack("<BBBHHhB", 41, 2, 0x28, 1, 6, 1500, 0)
    opened = struct.pack("<BBBHHBBIIB", 12, 1, 0x28, 1, 5, 4, 1, 0, 0, 0)
    wait_for(lambda: (DIRECT, sent) in orders, message=f"1,500 kW did not come back: {orders}")
    wait_for(lambda: (OPERATE, opened) in orders and (SELECT, opened) in orders, message=f"Q1 did not open: {orders}")
    wait_for(lambda: any(f == ENABLE for f, _ in requests), message="it does not let it speak")
    wait_for(lambda: any(f == WRITE and o[:4] == b"\x32\x03\x07\x01" for f, o in requests), message="it does not set the clock")
    stop.set()
functions = [f for f, _ in requests]
expect(functions[0] == DISABLE and (WRITE, bytes([80, 1, 0, 7, 7, 0])) in requests and CONFIRM in functions, f"{functions}")
stamp = next(int.from_bytes(o[4:10], "little") / 1000 for f, o in requests if f == WRITE and o[:2] == b"\x32\x03")
expect(abs(stamp - time.time()) < 60, "the time is UTC")
has(said.text, "dnp3_master.gateway", "Q1 open")
bad = make_case("outstation-bad", """
[dnp3_outstation.yard]
master = 10
binary_inputs = ["0: Q1 class 4"]
analogue_inputs = ["0: voltage as float64"]
binary_outputs = ["70000: Q1"]
""")
has(run("check", bad, code=2), "own address", "class 4 is above 3", "no type \"float64\"", "index 70000")
finish()
