#!/usr/bin/env python3
"""What field buses cost the plant: the same case paced with none of them and with all of them polled at once, in turns, three
times each; compute time of a step and late steps side by side. Wants root for EtherCAT (a pair of interfaces).

    python3 benchmarks/field_buses.py [SECONDS]"""
import os
import pathlib
import re
import sys
import threading

root = pathlib.Path(__file__).resolve().parent.parent
for name, usual in (("ZAVREK", "build/release/zavrek"), ("ZAVREK_SOURCE", "."), ("ZAVREK_BUILD", "build/release")):
    os.environ.setdefault(name, str(root / usual))
sys.path.insert(0, str(root / "tests/tool"))
from field_case import *

SECONDS = float(sys.argv[1]) if len(sys.argv) > 1 else 10
DATABASE = """BO_ 256 Drive: 8 X
 SG_ power : 7|16@0- (0.1,0) [-3200|3200] "kW" Y
BA_ "GenMsgCycleTime" BO_ 256 10;
"""
ports = {name: free_port() for name in ("modbus", "iec104", "dnp3", "phasors")}
ALL = f"""
[modbus_server.a]
port = {ports["modbus"]}
input_registers = ["0: voltage as float32", "2: sent as float32"]
coils = ["0: Q1"]
[iec104_station.b]
port = {ports["iec104"]}
states = ["1: Q1"]
measured = ["2: voltage", "3: yard.va"]
scan = "10 ms"
[dnp3_outstation.c]
port = {ports["dnp3"]}
binary_inputs = ["0: Q1"]
analogue_inputs = ["0: voltage", "1: yard.va"]
scan = "10 ms"
[synchrophasor_unit.d]
port = {ports["phasors"]}
performance = "M"
phasors = ["VA: yard.va", "VB: yard.vb", "VC: yard.vc"]
sequences = ["V1: yard.v"]
[can_bus.e]
database = "a.dbc"
sends = ["Drive.power: sent in 1000"]
[ethercat_slave.f]
interface = "zvbench1"
inputs = ["voltage: voltage as float32"]
input_states = ["main: Q1"]
"""
stop = threading.Event()
asked = {}


def note(name, count):
    asked[name] = asked.get(name, 0) + count


def poll(name, request, least):
    count = 0
    with connected(ports[name]) as sock:
        sock.settimeout(5)
        while not stop.is_set():
            try:
                sock.sendall(request(count))
                got = 0
                while got < least:
                    more = len(sock.recv(4096))
                    if more == 0:
                        return note(name, count)
                    got += more
            except OSError:
                return note(name, count)
            count += 1
            time.sleep(0.01)
    note(name, count)


def crc(data):
    value = 0
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xA6BC if value & 1 else 0)
    return (~value & 0xFFFF).to_bytes(2, "little")


def dnp_poll(count):
    head = bytes([5, 0x64, 11, 0xC4, 10, 0, 1, 0])
    body = bytes([0xC0 | count & 63, 0xC0 | count & 15, 1, 60, 1, 6])
    return head + crc(head) + body + crc(body)


def listen(name, greeting):
    with connected(ports[name]) as sock:
        sock.settimeout(0.5)
        sock.sendall(greeting)
        while not stop.is_set():
            try:
                more = len(sock.recv(4096))
            except socket.timeout:
                continue
            except OSError:
                return
            if more == 0:
                return
            note(name, more)


def ethercat():
    import struct
    sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x88A4))
    sock.bind(("zvbench0", 0x88A4))
    sock.settimeout(0.1)
    frame = b"\xff" * 6 + b"\x00\x11\x22\x33\x44\x55\x88\xa4" + struct.pack("<H", 14 | 0x1000) + struct.pack("<BBHHHH", 7, 1, 0, 0x130, 2, 0) + bytes(4)
    while not stop.is_set():
        sock.send(frame.ljust(60, b"\0"))
        try:
            sock.recv(2000)
            note("ethercat", 1)
        except socket.timeout:
            pass
        time.sleep(0.001)


def command_118(word):
    import struct
    data = struct.pack(">BBHHIIH", 0xAA, 0x41, 18, 1, 0, 0, word)
    value = 0xFFFF
    for byte in data:
        value ^= byte << 8
        for _ in range(8):
            value = (value << 1 ^ 0x1021 if value & 0x8000 else value << 1) & 0xFFFF
    return data + value.to_bytes(2, "big")


def measured(case, parties):
    stop.clear()
    threads = [threading.Thread(target=f, args=a, daemon=True) for f, a in parties]
    process = subprocess.Popen([tool, "run", str(case), "--for", f"{SECONDS} s"], stdout=subprocess.PIPE, text=True, cwd=scratch)
    for one in threads:
        one.start()
    said = process.communicate()[0]
    stop.set()
    for one in threads:
        one.join(2)
    numbers = re.search(r"compute time\s+([\d.]+ \w+)\s+([\d.]+ \w+)", said)
    late = re.search(r"overruns\s+(\d+)", said)
    return numbers.group(1), numbers.group(2), int(late.group(1)) if late else 0, said


subprocess.run(["ip", "link", "add", "zvbench0", "type", "veth", "peer", "name", "zvbench1"], check=True)
try:
    for end in ("zvbench0", "zvbench1"):
        subprocess.run(["ip", "link", "set", end, "up"], check=True)
    none, everything = make_case("none", ""), make_case("all", ALL)
    (everything / "a.dbc").write_text(DATABASE)
    modbus = lambda count: bytes([0, count & 255, 0, 0, 0, 6, 1, 4, 0, 0, 0, 4])
    parties = [(poll, ("modbus", modbus, 17))] * 10 + [(poll, ("dnp3", dnp_poll, 20))] + \
        [(listen, ("iec104", b"\x68\x04\x07\x00\x00\x00"))] * 5 + [(listen, ("phasors", command_118(2)))] * 5 + [(ethercat, ())]
    print("| field buses | median | 99.9 % | late steps |\n| --- | ---: | ---: | ---: |")
    for _ in range(3):
        for words, case, with_parties in (("none", none, []), ("all", everything, parties)):
            median, most, late, said = measured(case, with_parties)
            print(f"| {words} | {median} | {most} | {late} |", flush=True)
    print("\nasked for, or octets heard: " + ", ".join(f"{name} {count}" for name, count in sorted(asked.items())))
    print("\n".join(line for line in said.splitlines() if line.startswith("  ") and "." in line.split(" ")[2]))
finally:
    subprocess.run(["ip", "link", "del", "zvbench0"])
