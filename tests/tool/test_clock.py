"""How well the clock is synchronised, as a PTP daemon (linuxptp) says it: two of them on a pair of virtual
cables between two network namespaces, of which one follows the other."""
import atexit
import shutil
import socket
import struct
import time

from harness import *

if os.geteuid() != 0 or not shutil.which("ptp4l") or not shutil.which("ip"):
    print("skipped: root, ptp4l and ip are wanted")
    sys.exit(77)

if clock_turns() > 50e-6:
    print("skipped: somebody turns this computer's clock")
    sys.exit(77)
names = [f"zv{os.getpid()}{end}" for end in "ab"]
daemons = []


def shell(*words, check=True):
    return subprocess.run(words, check=check, capture_output=True, text=True)


def leave():
    for daemon in daemons:
        daemon.kill()
    for name in names:
        shell("ip", "netns", "del", name, check=False)


atexit.register(leave)
try:
    for name in names:
        shell("ip", "netns", "add", name)
    shell("ip", "link", "add", "va", "netns", names[0], "type", "veth", "peer", "name", "vb", "netns", names[1])
    for name, device, address in zip(names, ["va", "vb"], ["10.9.0.1/24", "10.9.0.2/24"]):
        shell("ip", "-n", name, "addr", "add", address, "dev", device)
        shell("ip", "-n", name, "link", "set", device, "up")
except subprocess.CalledProcessError as error:
    print(f"skipped: no network namespaces here ({error.stderr.strip()})")
    sys.exit(77)

# The follower may turn the computer's clock by 100 parts in a thousand million at most, and never sets it.
common = """[global]
time_stamping software
logSyncInterval -3
logAnnounceInterval -1
logMinDelayReqInterval -3
summary_interval -4
pi_integral_const 0.3
pi_proportional_const 0.7
max_frequency 100
first_step_threshold 0.0
step_threshold 0.0
use_syslog 0
verbose 0
"""


def start(which, device, further):
    file = scratch / f"{device}.cfg"
    file.write_text(f"{common}uds_address {scratch}/{device}\n{further}")
    daemons.append(subprocess.Popen(["ip", "netns", "exec", names[which], "ptp4l", "-f", str(file), "-i", device],
                                    stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
    return daemons[-1]


case = scratch / "case"
shutil.copytree(demo / "veskar", case)
bench = case / "bench.toml"
listening = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0003))
listening.bind(("lo", 0))
listening.settimeout(0.5)


def said(daemon, wanted):
    """What a run says of its clock, and the smpSynch of its samples: a run that a busy computer holds back says 0 for a
    while, and is tried again."""
    for _ in range(4):
        clock, synchronised = said_once(daemon)
        if synchronised == {wanted}:
            break
    return clock, synchronised


def said_once(daemon):
    text = (demo / "veskar" / "bench.toml").read_text()
    bench.write_text(f'clock_daemon = "{scratch}/{daemon}"\nclock_within = "1 ms"\n' + text)
    going = subprocess.Popen([tool, "run", str(case), "--for", "0.5 s"], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=scratch)
    synchronised = set()
    while going.poll() is None:
        try:
            frame = listening.recv(2048)
        except socket.timeout:
            continue
        at = frame.find(b"\x85\x01")  # smpSynch
        if b"\x88\xba" in frame[:20] and at > 0:
            synchronised.add(frame[at + 2])
    told = going.stdout.read()
    expect(going.returncode == 0, told)
    clock = [line for line in told.splitlines() if line.strip().startswith("clock")]
    expect(len(clock) == 1 and synchronised, f"{clock} {synchronised}")
    return clock[0], synchronised


def settled(device, state, within_s=30):
    """Until the port of the daemon says so, by linuxptp's own program."""
    file = scratch / f"{device}.cfg"
    until = time.time() + within_s
    while time.time() < until:
        answer = shell("pmc", "-u", "-b", "0", "-f", str(file), "-s", f"{scratch}/{device}", "GET PORT_DATA_SET", check=False).stdout
        if state in answer:
            return
        time.sleep(0.5)
    expect(False, f"{device} is not {state}: {answer}")


clock, synchronised = said("vb", 0)
has(clock, "not synchronised", "no answer from the PTP daemon")
expect(synchronised == {0}, f"smpSynch {synchronised} without a daemon")

start(0, "va", "clockClass 6\npriority1 10\n")
follower = start(1, "vb", "slaveOnly 1\n")
settled("vb", "SLAVE")
clock, synchronised = said("vb", 2)
has(clock, "synchronised to a global clock", "PTP master of class 6")
expect(synchronised == {2}, f"smpSynch {synchronised} with a traceable master")
# One that follows nobody is not synchronised.
clock, synchronised = said("va", 0)
has(clock, "not synchronised", "follows no master")
expect(synchronised == {0}, f"smpSynch {synchronised} of a master")

# A master that nobody has set: a local clock.
for daemon in daemons:
    daemon.kill()
    daemon.wait()
start(0, "va", "clockClass 248\npriority1 10\n")
start(1, "vb", "slaveOnly 1\n")
settled("vb", "SLAVE")
clock, synchronised = said("vb", 1)
has(clock, " synchronised (", "PTP master of class 248")
expect(synchronised == {1}, f"smpSynch {synchronised} with a free master")
if "ZAVREK_KEEP_ANSWERS" in os.environ:  # for the corpus of the fuzzed decoder
    asking = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    asking.bind(str(scratch / "asking"))
    asking.settimeout(1)
    for number in (0x2001, 0x2002, 0x2003, 0x2004):
        asking.sendto(struct.pack(">BBHBB2x12x10xHBB", 0x0D, 2, 54, 0, 0, 1, 4, 0x7F) + b"\xff" * 10 +
                      struct.pack(">BBBBHHH", 0, 0, 0, 0, 1, 2, number), f"{scratch}/vb")
        (pathlib.Path(os.environ["ZAVREK_KEEP_ANSWERS"]) / f"{number:x}").write_bytes(asking.recv(512))
finish()
