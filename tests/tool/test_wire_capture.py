"""A trial's frames captured on loopback: tshark decodes sampled values and GOOSE without a malformed mark."""
import os
import socket
import struct
import subprocess
import threading

from harness import *

if os.geteuid() != 0:
    print("skipped: capturing needs root")
    sys.exit(77)

# Captured by a raw socket of our own into a pcap file, so that the test does not depend on dumpcap's privileges.
capture = scratch / "trial.pcap"
stop = threading.Event()
ready = threading.Event()


def record():
    raw = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0003))
    raw.setsockopt(socket.SOL_SOCKET, 33, 8 << 20)  # SO_RCVBUFFORCE
    raw.bind(("lo", 0x0003))
    raw.settimeout(0.2)
    with open(capture, "wb") as out:
        out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        ready.set()
        count = 0
        while not stop.is_set():
            try:
                frame, where = raw.recvfrom(65535)
            except TimeoutError:
                continue
            if where[2] == 4:  # outgoing copy of what is received again
                continue
            if frame[12:14] in (b"\x88\xb8", b"\x88\xba", b"\x81\x00"):
                out.write(struct.pack("<IIII", count // 1000000, count % 1000000, len(frame), len(frame)) + frame)
                count += 1


thread = threading.Thread(target=record)
thread.start()
ready.wait()
text = run_paced("test", demo / "veskar", "--only", "solid earth fault", "--out", "out", "--no-figures")
stop.set()
thread.join()
has(text, "raw frames on lo", "1 of 1 trials passed")


def tshark(*words):
    done = subprocess.run(["tshark", "-r", str(capture), *words], capture_output=True, text=True, timeout=200)
    expect(done.returncode == 0, done.stderr)
    return [line for line in done.stdout.splitlines() if line]


expect(not tshark("-Y", "_ws.malformed"), "malformed frames")
expect(not tshark("-Y", "_ws.expert.severity == error"), "frames with an error mark")
values = tshark("-Y", 'sv.svID == "S1"', "-T", "fields", "-e", "sv.smpCnt", "-e", "sv.appid")
counts = [int(line.split("\t")[0]) for line in values]
expect(len(counts) > 2500, f"{len(counts)} sampled values")
gaps = sum(1 for a, b in zip(counts, counts[1:]) if 1 < (b - a) % 4000 < 40)  # further, it is another run
expect(gaps == 0, f"{gaps} gaps in smpCnt")
goose = tshark("-Y", 'goose.goID == "R1"', "-T", "fields", "-e", "goose.stNum", "-e", "goose.sqNum", "-e", "goose.boolean")
states = [tuple(line.split("\t")) for line in goose]
expect({int(s[0]) for s in states} >= {1, 2, 3}, f"states {states}")
expect(any(s[2].replace("1", "True").replace("true", "True") == "True,True" for s in states), f"start and trip in {states}")
print(f"tshark read {len(counts)} sampled values of S1 and {len(states)} GOOSE of R1")
finish()
