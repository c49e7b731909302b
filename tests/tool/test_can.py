"""A CAN node against python3-can; signals are packed here from the definition of the database's text form."""
import struct
import threading

import can
from field_case import *

GROUP, PORT = "239.74.163.2", 43000 + os.getpid() % 10000
DATABASE = '''VERSION "made for a test"
BU_: Inverter Vehicle
BO_ 256 Drive: 8 Inverter
 SG_ power : 7|16@0- (0.1,0) [-3200|3200] "kW" Vehicle
 SG_ main : 16|1@1+ (1,0) [0|1] "" Vehicle
 SG_ count : 20|4@1+ (1,0) [0|15] "" Vehicle
 SG_ speed : 24|12@1+ (0.5,-100) [-100|1947] "rpm" Vehicle
 SG_ check : 56|8@1+ (1,0) [0|255] "" Vehicle
BO_ 2566844926 Cells: 8 Inverter
 SG_ page M : 0|8@1+ (1,0) [0|3] "" Vehicle
 SG_ volts m0 : 8|32@1- (1,0) [0|0] "V" Vehicle
 SG_ amps m2 : 15|16@0- (0.01,0) [0|0] "A" Vehicle
BO_ 512 Vehicle: 8 Vehicle
 SG_ torque : 0|32@1- (1,0) [0|0] "kW" Inverter
 SG_ main : 39|1@0+ (1,0) [0|1] "" Inverter
 SG_ count : 40|4@1+ (1,0) [0|15] "" Inverter
 SG_ check : 56|8@1+ (1,0) [0|255] "" Inverter
CM_ BO_ 256 "what the drive tells;
BO_ 1 Not: 8 Here";
BA_DEF_ BO_ "GenMsgCycleTime" INT 0 10000;
BA_ "GenMsgCycleTime" BO_ 256 20;
BA_ "GenMsgCycleTime" BO_ 512 20;
BA_ "GenMsgCycleTime" BO_ 2566844926 50;
SIG_VALTYPE_ 2566844926 volts : 1;
SIG_VALTYPE_ 512 torque : 1;
'''


def crc8(data):
    value = 0xFF
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = (value << 1 ^ 0x1D if value & 0x80 else value << 1) & 0xFF
    return value ^ 0xFF


expect(crc8(b"123456789") == 0x4B, "the sum's own example")
bench = f"""
[can_bus.quay]
database = "quay.dbc"
medium = "{GROUP}:{PORT}"
sends = ["Drive.power: sent in 1000", "Drive.speed: turns", "Cells.volts: voltage", "Cells.amps: turns"]
sends_states = ["Drive.main: Q1"]
reads = ["Vehicle.torque: wanted in kW"]
reads_states = ["Vehicle.main: Q1"]
at_change = ["Drive"]
counters = ["Drive.count", "Vehicle.count"]
checksums = ["Drive.check: crc8", "Vehicle.check: crc8"]
"""
control = CONTROL + '\n[expression.turns]\nformula = "321.5 + 0 * sent"\n'
case = make_case("can", bench, control=control)
(case / "quay.dbc").write_text(DATABASE)
has(run("check", case), "can_bus quay")
bus = can.interface.Bus(GROUP, interface="udp_multicast", port=PORT, fd=False)
heard, stop = [], threading.Event()


def listen():
    while not stop.is_set():
        try:
            message = bus.recv(0.1)
        except can.CanOperationError:  # the rubbish below
            continue
        if message:
            heard.append((time.monotonic(), message))


listener = threading.Thread(target=listen, daemon=True)
listener.start()


def vehicle(torque, main, count, spoil=0):
    data = bytearray(struct.pack("<f", torque) + bytes([0x80 if main else 0, count & 15, 0, 0]))
    data[7] = crc8(data[:7]) ^ spoil
    bus.send(can.Message(arbitration_id=512, data=data, is_extended_id=False))


def latest(identity):
    return next((m for _, m in reversed(heard) if m.arbitration_id == identity), None)


with running(case) as said:
    wait_for(lambda: latest(256) and latest(0x18FEF1FE), message="nothing is sent")
    time.sleep(1)
    drive = [m for _, m in heard if m.arbitration_id == 256]
    times = [t for t, m in heard if m.arbitration_id == 256]
    expect(40 <= len([t for t in times if t > times[-1] - 1]) <= 60, f"fifty a second, {len([t for t in times if t > times[-1] - 1])}: {times[-8:]}")
    data = drive[-1].data
    expect(struct.unpack(">h", data[:2])[0] == 30000 and data[2] & 1 == 1, f"3,000.0 kW, closed: {data.hex()}")
    expect((data[3] | data[4] << 8) & 0xFFF == round((321.5 + 100) / 0.5), "321.5 rpm")
    expect(all(crc8(m.data[:7]) == m.data[7] for m in drive), "each sum")
    counts = [m.data[2] >> 4 for m in drive]
    expect(all((b - a) % 16 == 1 for a, b in zip(counts, counts[1:])), f"each counted: {counts[:20]}")
    cells = [m for _, m in heard if m.arbitration_id == 0x18FEF1FE]
    expect(all(m.is_extended_id for m in cells), "29 bits")
    expect({m.data[0] for m in cells} == {0, 2}, "two pages")
    volts = struct.unpack("<f", next(m for m in reversed(cells) if m.data[0] == 0).data[1:5])[0]
    expect(abs(volts - 6280) < 120, f"{volts} V")
    expect(struct.unpack(">h", next(m for m in reversed(cells) if m.data[0] == 2).data[1:3])[0] == 32150, "321.5 A in hundredths")
    # What the vehicle says is done; a wrong sum, the same count, a short frame are not.
    for k in range(20):
        vehicle(2000.0, True, k)
        time.sleep(0.02)
    wait_for(lambda: struct.unpack(">h", latest(256).data[:2])[0] == 20000, message="2,000 kW were not taken")
    vehicle(100.0, False, 4, spoil=1)
    vehicle(100.0, False, 3)
    bus.send(can.Message(arbitration_id=512, data=b"\x01", is_extended_id=False))
    bus.send(can.Message(arbitration_id=77, data=b"\x01", is_extended_id=False))
    time.sleep(0.2)
    expect(struct.unpack(">h", latest(256).data[:2])[0] == 20000 and latest(256).data[2] & 1, "nothing of that was done")
    vehicle(2000.0, False, 6)
    before = len(heard)
    wait_for(lambda: latest(256).data[2] & 1 == 0, message="the main contact was not opened")
    raw = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    raw.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 0)
    for rubbish in (b"", b"rubbish", bytes(range(200)), b"\x81\xa4data\xc4\x01\x01", b"\xdf\xff\xff\xff\xff"):
        raw.sendto(rubbish, (GROUP, PORT))
    time.sleep(0.3)
stop.set()
listener.join()
bus.shutdown()
has(said.text, "can_bus.quay", "CAN, by quay.dbc", "MALFORMED", "LOST", "LATE", "quay alive", "Q1 open")
for change, wanted in (("SG_ power : 7|16@0-", "SG_ power : 7|70@0-"), ("BO_ 256 Drive: 8", "BO_ 256 Drive 8"), ("(0.1,0)", "(0,0)"), ("24|12@1+", "60|12@1+")):
    (case / "quay.dbc").write_text(DATABASE.replace(change, wanted))
    has(run("check", case, code=2), "quay.dbc:")
(case / "quay.dbc").write_text(DATABASE)
(case / "bench.toml").write_text((case / "bench.toml").read_text().replace("Drive.power", "Drive.powr").replace("Vehicle.check: crc8", "Vehicle.check: crc7"))
has(run("check", case, code=2), "\"power\"", "no checksum \"crc7\"")
(case / "bench.toml").write_text(bench.replace(f"{GROUP}:{PORT}", "can0"))
has(run("run", case, "--for", "0.1 s", code=1), "can")

# A vehicle on the other side, as a party: what the drives do is judged on the road.
has(run_paced("test", demo / "tractor", "--only", "braking", "--out", "tractor", "--repeats", 1), "1 of 1 trials passed", "can_bus.road")
finish()
