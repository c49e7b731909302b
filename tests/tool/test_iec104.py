"""IEC 60870-5-104 against a controlling and a controlled station written here from the standard; tshark decodes all of it."""
import calendar
import struct
import threading

from field_case import *

ACT, CON, TERM, SPONT, REQ = 6, 7, 10, 3, 5


def cp56(t=None):
    t = time.time() if t is None else t
    g = time.gmtime(t)
    ms = g.tm_sec * 1000 + int(t % 1 * 1000)
    return struct.pack("<HBBBBB", ms, g.tm_min, g.tm_hour, g.tm_mday | (g.tm_wday + 1) << 5, g.tm_mon, g.tm_year % 100)


def seconds_of(stamp):
    ms, minute, hour, day, month, year = struct.unpack("<HBBBBB", stamp)
    return calendar.timegm((2000 + year, month & 15, day & 31, hour & 31, minute & 63, 0)) + ms / 1000


class Asdu:
    sizes = {1: 1, 3: 1, 9: 3, 11: 3, 13: 5, 30: 8, 31: 8, 34: 10, 35: 10, 36: 12, 45: 1, 46: 1, 48: 3, 49: 3, 50: 5, 58: 8, 70: 1, 100: 1, 102: 0, 103: 7}

    def __init__(self, raw):
        self.type, vsq, cause, _, self.common = struct.unpack("<BBBBH", raw[:6])
        self.cause, self.negative = cause & 63, bool(cause & 64)
        self.objects = []
        rest, count, sequence = raw[6:], vsq & 127, vsq & 128
        size = self.sizes.get(self.type, 1)
        address = 0
        for k in range(count):
            if k == 0 or not sequence:
                address, rest = int.from_bytes(rest[:3], "little"), rest[3:]
            else:
                address += 1
            self.objects.append((address, rest[:size]))
            rest = rest[size:]

    def value(self, data):
        if self.type in (1, 30):
            return data[0] & 1
        if self.type in (3, 31):
            return {1: 0, 2: 1}[data[0] & 3]
        if self.type in (9, 34):
            return struct.unpack("<h", data[:2])[0] / 32768
        if self.type in (11, 35):
            return struct.unpack("<h", data[:2])[0]
        return struct.unpack("<f", data[:4])[0]


class Link:
    """One side of a connection, as clause 5 has it."""
    def __init__(self, sock, capture=None, to_station=True):
        self.sock, self.capture, self.to_station = sock, capture, to_station
        self.sent = self.received = 0
        self.rest = b""
        self.acknowledges = True

    def raw(self, data):
        if self.capture:
            self.capture.add(self.to_station, data)
        self.sock.sendall(data)

    def unnumbered(self, function):
        self.raw(bytes([0x68, 4, function, 0, 0, 0]))

    def data(self, asdu):
        self.raw(struct.pack("<BBHH", 0x68, 4 + len(asdu), self.sent << 1, self.received << 1) + asdu)
        self.sent += 1

    def frame(self, timeout=5):
        self.sock.settimeout(timeout)
        while len(self.rest) < 2 or len(self.rest) < 2 + self.rest[1]:
            try:
                more = self.sock.recv(4096)
            except socket.timeout:
                return None
            if not more:
                return b""
            if self.capture:
                self.capture.add(not self.to_station, more)
            self.rest += more
        frame, self.rest = self.rest[:2 + self.rest[1]], self.rest[2 + self.rest[1]:]
        return frame

    def next(self, timeout=5):
        """The next data; what is control is answered."""
        until = time.monotonic() + timeout
        while time.monotonic() < until:
            frame = self.frame(max(0.01, until - time.monotonic()))
            if not frame:
                return None
            if frame[2] == 0x43:
                self.unnumbered(0x83)
            elif not frame[2] & 1:
                number = struct.unpack("<H", frame[2:4])[0] >> 1
                expect(number == self.received, f"number {number}, wanted {self.received}")
                self.received += 1
                if self.acknowledges:
                    self.raw(struct.pack("<BBHH", 0x68, 4, 1, self.received << 1))
                return Asdu(frame[6:])
        return None

    def control(self, function, timeout=5):
        """The next control function is this one; data on its way there count."""
        end = time.monotonic() + timeout
        while time.monotonic() < end and (frame := self.frame(timeout)):
            if not frame[2] & 1:
                self.received += 1
            elif frame[2] & 3 == 3:
                return expect(frame[2] == function, f"control {frame[2]:#x}, wanted {function:#x}")
        expect(False, f"no control {function:#x}")

    def until(self, wanted, timeout=5):
        end = time.monotonic() + timeout
        while time.monotonic() < end:
            asdu = self.next(timeout)
            if asdu and wanted(asdu):
                return asdu
        expect(False, "it did not come")

    def start(self):
        self.unnumbered(0x07)
        self.control(0x0B)


def asdu(kind, cause, address, body, common=5):
    return struct.pack("<BBBBH", kind, 1, cause, 3, common) + address.to_bytes(3, "little") + body


port = free_port()
case = make_case("telecontrol", f"""
[iec104_station.yard]
port = {port}
common_address = 5
k = 4
w = 2
t1 = "2 s"
t2 = "0.5 s"
t3 = "1 s"
scan = "20 ms"
events = 20
states = ["1001: Q1 as double class 2", "1002: bench.remote"]
measured = ["2001: voltage in 1000 within 500", "2002: sent in 10000 as scaled", "2003: sent in 10000000 as normalised class 2"]
commands = ["5001: Q1 as double select", "5002: bench.remote"]
set_points = ["6001: wanted in kW", "6002: reactive in kvar as scaled"]
""")
with running(case) as said:
    capture = Capture(scratch / "104.pcap", 2404)
    link = Link(connected(port), capture)
    link.start()
    expect(link.until(lambda a: a.type == 70).cause == 4, "end of initialisation")
    # General interrogation: confirmed, everything once, ended.
    time.sleep(0.3)
    link.data(asdu(100, ACT, 0, b"\x14"))
    link.until(lambda a: a.type == 100 and a.cause == CON)
    found = {}
    while (one := link.next()) and one.cause != TERM:
        if one.cause == 20:
            found.update({address: (one.type, one.value(data)) for address, data in one.objects})
    expect(found[1001] == (3, 1) and found[1002] == (1, 0), f"{found}")
    expect(found[2001][0] == 13 and 6.1 < found[2001][1] < 6.4, f"kV of 11 kV / sqrt 3: {found}")
    expect(found[2002] == (11, 300) and found[2003][0] == 9 and abs(found[2003][1] - 0.3) < 1e-4, f"{found}")
    expect(len(found) == 5, "each once")
    link.data(asdu(100, ACT, 0, bytes([22])))
    link.until(lambda a: a.type == 100 and a.cause == CON)
    group = []
    while (one := link.next()) and one.cause != TERM:
        group += [address for address, _ in one.objects] if one.cause == 22 else []
    expect(sorted(group) == [1001, 2003], f"group 2: {group}")
    # A read of one object; one that is not there.
    link.data(asdu(102, REQ, 2002, b""))
    expect(link.until(lambda a: a.cause == REQ).objects[0][0] == 2002, "read")
    link.data(asdu(102, REQ, 9999, b""))
    expect(link.until(lambda a: a.type == 102).cause == 47, "unknown object")
    # Select before operate; the position comes by itself, with the time of the event.
    link.data(asdu(46, ACT, 5001, b"\x01"))
    expect(link.until(lambda a: a.type == 46).negative, "not selected: refused")
    link.data(asdu(46, ACT, 5001, b"\x81"))
    expect(not link.until(lambda a: a.type == 46).negative, "selected")
    before = time.time()
    link.data(asdu(46, ACT, 5001, b"\x01"))
    seen = []
    while len(seen) < 3:
        one = link.next()
        expect(one is not None, f"{seen}")
        if one.type == 46:
            expect(not one.negative, "refused")
            seen.append(one.cause)
        elif one.type == 31:
            address, data = one.objects[0]
            expect(address == 1001 and one.value(data) == 0 and one.cause == SPONT, "Q1 is open")
            expect(abs(seconds_of(data[1:]) - before) < 0.5, "the time of the event is UTC")
            seen.append("event")
    expect(sorted(map(str, seen)) == ["10", "7", "event"], f"{seen}")
    # Set points; a step of a number is told where it leaves its band.
    link.data(asdu(50, ACT, 6001, struct.pack("<f", 2000.0) + b"\x00"))
    link.until(lambda a: a.type == 50 and a.cause == TERM)
    scaled = link.until(lambda a: a.type == 35)
    expect(scaled.value(scaled.objects[0][1]) == 200, "2 MW in 10 kW")
    link.data(asdu(49, ACT, 6002, struct.pack("<h", 800) + b"\x00"))
    link.until(lambda a: a.type == 49 and a.cause == TERM)
    # With a time tag: one that is old does nothing.
    link.data(asdu(58, ACT, 5002, b"\x01" + cp56()))
    link.until(lambda a: a.type == 58 and a.cause == TERM)
    link.until(lambda a: a.type == 30)
    link.data(asdu(58, ACT, 5002, b"\x00" + cp56(time.time() - 60)))
    expect(link.until(lambda a: a.type == 58).negative, "a command of a minute ago")
    # What is not known is sent back with the cause of it.
    for sent, cause in ((asdu(45, ACT, 4711, b"\x00"), 47), (asdu(45, ACT, 5001, b"\x00"), 47), (asdu(45, 99 & 63, 5002, b"\x00"), 45),
                        (asdu(45, ACT, 5002, b"\x00", common=6), 46), (asdu(120, ACT, 1, b"\x00"), 44)):
        link.data(sent)
        answer = link.until(lambda a: a.type == sent[0])
        expect(answer.cause == cause and answer.negative, f"cause {answer.cause}, wanted {cause}")
    link.data(asdu(103, ACT, 0, cp56()))
    expect(link.until(lambda a: a.type == 103).cause == CON, "clock")
    # In silence each side is tested within t3, and lives by the answer.
    link.unnumbered(0x43)
    link.control(0x83)
    link.control(0x43)
    link.unnumbered(0x83)
    # Without acknowledgement not more than k are under way, and the connection ends within t1.
    link.acknowledges = False
    for k in range(12):
        link.data(asdu(45, ACT, 5002, bytes([k & 1])))
    got = 0
    while link.next(1):
        got += 1
    expect(got == 4, f"{got} under way, k is 4")
    link.sock.settimeout(5)
    link.sock.close()
    # What nobody was there to hear is kept, the latest 20 of it.
    second = Link(connected(port), capture)
    second.start()
    second.until(lambda a: a.type == 70)
    second.data(asdu(58, ACT, 5002, b"\x00" + cp56()))
    second.until(lambda a: a.type == 58 and a.cause == TERM)
    second.sock.close()
    # A number out of order, data before the start, an acknowledgement of nothing, rubbish: closed.
    for wrong in (struct.pack("<BBHH", 0x68, 14, 0, 0) + asdu(100, ACT, 0, b"\x14"), b"\x69\x04\x07\x00\x00\x00",
                  bytes([0x68, 4, 0x07, 0, 0, 0]) + struct.pack("<BBHH", 0x68, 4, 1, 8), b"\x68\xff" + bytes(255), b"\x68\x03\x07\x00\x00"):
        with connected(port) as other:
            other.sendall(wrong)
            other.settimeout(5)
            while other.recv(100):
                pass
    many = [Link(connected(port)) for _ in range(50)]
    for one in many:
        one.start()
    for one in many:
        one.until(lambda a: a.type == 70)
        one.data(asdu(100, ACT, 0, b"\x14"))
    for one in many:
        one.until(lambda a: a.type == 100 and a.cause == TERM)
    link = Link(connected(port), capture)
    link.start()
    link.data(asdu(100, ACT, 0, b"\x14"))
    link.until(lambda a: a.type == 100 and a.cause == TERM)
has(said.text, "iec104_station.yard", "IEC 60870-5-104, station 5", "REFUSED", "LATE", "connections")
shown = capture.decoded("-Y", "iec60870_104 || iec60870_asdu", "-V")
for part in ("Malformed", "Expert Info (Error"):
    expect(part not in shown, f"tshark marks something: {part}")
has(shown, "M_DP_TB_1", "M_ME_TE_1", "C_IC_NA_1", "C_SE_NC_1", "M_EI_NA_1")

# Our controlling station and a controlled one of this test: states and numbers come in, commands go out.
listener = socket.create_server(("127.0.0.1", 0))
orders = []


def serve():
    sock, _ = listener.accept()
    link = Link(sock, to_station=False)
    frame = link.frame(10)
    expect(frame and frame[2] == 0x07, "no start")
    link.unnumbered(0x0B)
    while not stop.is_set():
        one = link.next(0.2)
        if one is None:
            continue
        orders.append((one.type, one.objects[0][0], bytes(one.objects[0][1])))
        raw = struct.pack("<BBBBH", one.type, 1, CON, 0, 9) + one.objects[0][0].to_bytes(3, "little") + one.objects[0][1]
        link.data(raw)
        if one.type == 100:
            link.data(struct.pack("<BBBBH", 13, 0x82, 20, 0, 9) + (2001).to_bytes(3, "little") + struct.pack("<fB", 1500.0, 0) + struct.pack("<fB", 9.0, 0x80))
            link.data(struct.pack("<BBBBH", 31, 1, 3, 0, 9) + (1001).to_bytes(3, "little") + b"\x01" + cp56())
            link.data(struct.pack("<BBBBH", 100, 1, TERM, 0, 9) + bytes(3) + b"\x14")


stop = threading.Event()
station = threading.Thread(target=serve, daemon=True)
station.start()
follows = make_case("telecontrol-follows", f"""
record = ["sent"]
[iec104_controller.gateway]
port = {listener.getsockname()[1]}
common_address = 9
states = ["1001: Q1 as double"]
measured = ["2001: wanted in kW", "2002: reactive in kvar"]
commands = ["5001: Q1 as double select", "5002: Q1"]
set_points = ["6001: sent in 1000 within 1000"]
""")
with running(follows) as said:
    wait_for(lambda: (50, 6001, struct.pack("<f", 1500.0) + b"\x00") in orders, message=f"1,500 kW did not come back: {orders}")
    wait_for(lambda: (46, 5001, b"\x01") in orders, message=f"Q1 did not open: {orders}")
    stop.set()
expect(orders.index((46, 5001, b"\x81")) < orders.index((46, 5001, b"\x01")), "selected first")
expect((45, 5002, b"\x00") in orders, "and directly")
has(said.text, "iec104_controller.gateway", "Q1 open")
bad = make_case("telecontrol-bad", """
[iec104_station.yard]
t2 = "20 s"
w = 20
states = ["0: Q1"]
measured = ["2001: voltage as double"]
set_points = ["6001: wanted", "6001: wanted"]
""")
has(run("check", bad, code=2), "is not below t1", "is above k", "address 0 is not within", "no type \"double\"", "6001 stands there twice")
finish()
