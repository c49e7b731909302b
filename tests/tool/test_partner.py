"""Two simulators, one network: a case in halves against the whole, a partner written here from the byte table, and partners that pause, die, lie
or send rubbish."""
import random
import signal
import socket
import struct
import threading

from harness import *

HELLO, STEP, AGAIN, END = 1, 2, 3, 4
two_halls = demo / "two-halls"


def together(near, far, *words, timeout=120, words_of_far=None):
    """Both at once; what each printed, and how it ended."""
    both = []
    for case, more in ((near, words), (far, words if words_of_far is None else words_of_far)):
        both.append(subprocess.Popen([tool, *map(str, more[:1]), str(case), *map(str, more[1:])], stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                                     text=True, cwd=scratch))
    try:
        return [(one.communicate(timeout=timeout)[0], one.returncode) for one in both]
    finally:
        for one in both:
            one.kill()


def table(file):
    lines = (scratch / file).read_text().splitlines()
    names = lines[0].split(",")
    return {name.split(" ")[0].strip('"'): [float(row.split(",")[k]) for row in lines[1:]] for k, name in enumerate(names)}


def furthest(one, other, names, begin=0.0):
    """Of each peak; `begin`: the part of the record that is left out."""
    worst = 0
    for name in names:
        peak, of = max(map(abs, one[name])), int(begin * len(one[name]))
        worst = max(worst, max(abs(a - b) for a, b in zip(one[name][of:], other[name][of:])) / peak)
    return worst


# --- the quay cut at its infeed: equal to rounding; at its busbar: two steps apart -----------------------------------------------------------
out = run("split", two_halls, "--at", "infeed", "--names", "moor", "quay", "--out", "line")
has(out, "leads", "follows", "line/moor", "line/quay")
network = (scratch / "line/moor/network.toml").read_text()
has(network, "[line_end.infeed]", "far_voltage", "# Shore power at Veskar quay")
expect("[transformer" not in network and "between" not in network, "the near half has what is near")
signals = ["moor.va", "grid.ib"], ["quay.vb", "cable1.ia", "berth3.vc"]
run("run", two_halls, "--for", "0.3 s", "--pace", "free", "--place", "plant", "--signals", *signals[0], *signals[1], "berth3.vb", "--record", "whole.csv")
whole = table("whole.csv")


def halves(folder, near, far, delay=1):
    words = [("run", "--for", "0.3 s", "--pace", "free", "--place", "plant", "--signals", *names, "--record", f"{folder}-{k}.csv")
             for k, names in enumerate(signals)]
    ends = together(scratch / folder / near, scratch / folder / far, *words[0], words_of_far=words[1])
    for text, code in ends:
        expect(code == 0, f"exit {code}\n{text}")
        has(text, "0 of 30000 steps out of count", f"its step and back {2 * delay} steps", "to the partner's bench and back")
    return [table(f"{folder}-{k}.csv") for k in (0, 1)], ends


(near, far), _ = halves("line", "moor", "quay")
worst = max(furthest(whole, near, signals[0]), furthest(whole, far, signals[1]))
expect(worst < 1e-8, f"cut at the line: {worst}")
worst_by_delay = {}
for delay in (1, 2):
    out = run("split", two_halls, "--at", "berth3: cranes", "--names", "hall1", "hall2", "--delay", delay, "--out", "bus")
    has(out, "the cut is stable", f"{20 * delay} us once around", "told the voltages of berth3")
    predicted = float(out.split("% of the voltage wrong")[0].split(",")[-1]) / 100
    signals = ["moor.va", "quay.vb", "berth3.vc"], ["berth3.vb"]
    (near, far), _ = halves("bus", "hall1", "hall2", delay)
    worst_by_delay[delay] = furthest(whole, near, ["berth3.vc"], 0.8)
    expect(furthest(whole, near, ["berth3.vc"]) < 0.01, "the start")
    expect(0.5 * predicted < worst_by_delay[delay] < 2 * predicted, f"cut at the bus: {worst_by_delay[delay]}, predicted {predicted}")
    expect(furthest(whole, near, ["moor.va"], 0.8) < predicted, "and less elsewhere")
expect(1.7 < worst_by_delay[2] / worst_by_delay[1] < 2.3, f"twice the delay, twice the error: {worst_by_delay}")
out = run("split", two_halls, "--at", "quay: Q1 Q2 Q3", "--out", "no")
has(out, "the cut is unstable at", "cut at a line", "device.R0: names things of both halves")
for wrong, words in (("nowhere", "can be cut"), ("quay", "that belong to the far half"), ("quay: Q9", "no element")):
    done = subprocess.run([tool, "split", str(two_halls), "--at", wrong, "--out", str(scratch / "no")], capture_output=True, text=True)
    expect(done.returncode == 2 and words in done.stderr + done.stdout, f"{wrong}: {done.stdout}{done.stderr}")

# Three of them: the half at the quay is cut once more.
has(run("split", "line/quay", "--at", "berth3: cranes", "--names", "rest", "hall", "--out", "three"), "the cut is stable")
three = [subprocess.Popen([tool, "run", str(scratch / case), "--for", "0.2 s", "--pace", "free", "--place", "plant", "--signals", signal, "--record", f"three-{k}.csv"],
                          stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=scratch)
         for k, (case, signal) in enumerate((("line/moor", "moor.va"), ("three/rest", "quay.vb"), ("three/hall", "berth3.vb")))]
for one in three:
    text = one.communicate(timeout=100)[0]
    expect(one.returncode == 0 and "0 of 20000 steps out of count" in text, text)
for k, (name, bound) in enumerate((("moor.va", 1e-3), ("quay.vb", 2e-3), ("berth3.vb", 5e-3))):
    worst = furthest(table(f"three-{k}.csv"), {name: whole[name]}, [name], 0.5)
    expect(worst < bound, f"{name} of three: {worst}")

# Trials go to the halves in which they happen; the verdicts are the whole's.
ends = together(scratch / "line/moor", scratch / "line/quay", "test", "--pace", "free", "--place", "plant", "--out", "verdicts")
verdicts = [line.split("margin")[0].split() for text, _ in ends for line in text.splitlines() if line.startswith("     pass")]
of_whole = [line.split("margin")[0].split() for line in run("test", two_halls, "--pace", "free", "--place", "plant").splitlines() if line.startswith("     pass")]
expect(all(code == 0 for _, code in ends) and sorted(verdicts) == sorted(of_whole) and len(of_whole) >= 6, f"{verdicts}\n{of_whole}\n{ends}")

# By the clock at 25 us, over each way.
(scratch / "clock").mkdir()
(scratch / "clock/case.toml").write_text(f'base = "{demo / "veskar"}"\nstep = "25 us"\n')
run("split", "clock", "--at", "infeed", "--names", "moor", "quay", "--out", "line")
for way in ('over = "memory"', 'over = "datagrams"\nown = "127.0.0.1:{}"\nother = "127.0.0.1:{}"', 'over = "frames"\nchannel = 77'):
    for half, ports in (("moor", (17621, 17622)), ("quay", (17622, 17621))):
        bench = scratch / f"line/{half}/bench.toml"
        text = bench.read_text().split("over = ")
        bench.write_text(text[0].replace("cuts =", way.format(*ports) + "\ncuts =") if len(text) == 1 else
                         text[0] + way.format(*ports) + "\ncuts =" + text[1].split("\ncuts =")[1])
    ends = together(scratch / "line/moor", scratch / "line/quay", "run", "--for", "1 s", "--place", "plant")
    for text, code in ends:
        expect(code == 0, f"{way}: exit {code}\n{text}")
        has(text, "0 of 40000 steps out of count")
    has(ends[1][0], "begun by a partner's tick")
has(ends[0][0], "channel 77")


# --- a partner of another kind --------------------------------------------------------------------------------------------------------------
class Partner:
    """The other side, from the byte table of docs/partners.md."""
    def __init__(self, own, other, step_s, says, hears, leads=False, delay=1):
        self.sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.sock.bind(("127.0.0.1", own))
        self.sock.settimeout(0.05)
        self.to, self.run, self.their_run = ("127.0.0.1", other), random.getrandbits(63) | 1, 0
        self.step_s, self.says, self.hears, self.leads, self.delay = step_s, says, hears, leads, delay
        self.heard, self.said, self.latest, self.stamp, self.came, self.ended = {}, {}, -1, 0, 0, None

    def message(self, kind, number, entered=-1, values=(), text=b""):
        held = time.monotonic_ns() - self.came if self.latest >= 0 else 0
        return (b"ZVPX" + bytes([1, kind]) + struct.pack(">QQqqqqqq", self.run, self.their_run, number, entered, self.latest, time.monotonic_ns(),
                                                         self.stamp, held)
                + struct.pack(f">H{len(values)}d", len(values), *values) + struct.pack(">H", len(text)) + text)

    def hello(self):
        self.sock.sendto(self.message(HELLO, int(self.leads), values=(self.step_s, self.says, self.hears, self.delay), text=b"i\n"), self.to)

    def take(self):
        try:
            got = self.sock.recv(2000)
        except (socket.timeout, ConnectionRefusedError):
            return None
        expect(got[:5] == b"ZVPX\x01", "its messages begin so")
        kind = got[5]
        run, other_run, number, entered, _, sent, _, _ = struct.unpack_from(">QQqqqqqq", got, 6)
        count, = struct.unpack_from(">H", got, 70)
        values = struct.unpack_from(f">{count}d", got, 72)
        length, = struct.unpack_from(">H", got, 72 + 8 * count)
        expect(len(got) == 74 + 8 * count + length, "and are so long")
        self.their_run = run
        if kind == STEP:
            expect(other_run == self.run and entered == (number - self.delay if number >= self.delay else -1), f"step {number} took {entered}")
            self.heard[number] = values
            if number > self.latest:
                self.latest, self.stamp, self.came = number, sent, time.monotonic_ns()
        if kind == AGAIN:
            for k in range(max(number, 0), max(self.said, default=-1) + 1):
                self.sock.sendto(self.said[k], self.to)
        if kind == END:
            self.ended = got[74 + 8 * count:].decode()
        return kind, other_run

    def meet(self):
        until = time.monotonic() + 20
        while time.monotonic() < until:
            self.hello()
            got = self.take()
            if got and got[1] == self.run:
                self.hello()
                return
        expect(False, "nobody came")

    def say(self, number, values):
        self.said[number] = self.message(STEP, number, number - self.delay if number >= self.delay else -1, values)
        self.sock.sendto(self.said[number], self.to)

    def want(self, number):
        until = time.monotonic() + 10
        while number not in self.heard:
            if self.ended is not None or time.monotonic() > until:
                return None
            if self.take() is None and number not in self.heard:
                self.sock.sendto(self.message(AGAIN, number), self.to)
        return self.heard[number]


NETWORK = """title = "Berth with a hall elsewhere"
frequency = "50 Hz"
step = "50 us"

[bus]
quay = "400 V"
berth = "400 V"

[source.grid]
bus = "quay"

[branch.feeder]
between = ["quay", "berth"]
resistance = "0.5 ohm"

[imposed_current.hall]
bus = "berth"
"""


def half(name, bench, network=NETWORK):
    case = scratch / name
    case.mkdir(exist_ok=True)
    (case / "network.toml").write_text(network)
    (case / "bench.toml").write_text(bench)
    return case


def start(case, *words):
    return subprocess.Popen([tool, "run", str(case), "--pace", "free", *words], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=scratch)


def ends_with(process, code, *words):
    text = process.communicate(timeout=30)[0]
    expect(process.returncode == code, f"exit {process.returncode}, wanted {code}\n{text}")
    has(text, *words)
    return text


bench = 'points_per_cycle = 400\n[partner.hall]\nover = "datagrams"\nown = "127.0.0.1:17631"\nother = "127.0.0.1:17632"\ncuts = ["hall"]\nsilence = "1 s"\n'
case = half("berth", bench)


def hall(steps, ohm=2.0, lose=0.0, stops=None):
    """A resistor: step n says v/R with the voltages of step n - 1."""
    partner = Partner(17632, 17631, 50e-6, 3, 3)
    try:
        partner.meet()
        partner.say(0, (0.0, 0.0, 0.0))
        chance = random.Random(5)
        for n in range(1, steps + 1):
            volts = partner.want(n - 1)
            if volts is None:
                break
            if stops and stops(partner, n):
                return partner
            if chance.random() < lose:
                partner.said[n] = partner.message(STEP, n, n - 1, tuple(v / ohm for v in volts))
            else:
                partner.say(n, tuple(v / ohm for v in volts))
        until = time.monotonic() + 2
        while partner.ended is None and time.monotonic() < until:
            partner.take()
        partner.sock.sendto(partner.message(END, steps), partner.to)
        return partner
    finally:
        partner.sock.close()


for lose in (0.0, 0.02):
    process = start(case, "--for", "0.1 s", "--signals", "quay.va", "berth.va", "--record", "berth.csv")
    partner = hall(2000, lose=lose)
    text = ends_with(process, 0, "0 of 2000 steps out of count")
    expect(partner.ended == "", f"it ended in order: {partner.ended}")
    record = table("berth.csv")
    # What is drawn in step n follows from what stood at the end of step n - 2 here: v(n) = e(n) - R v(n - 2) / R_hall.
    quay, berth = record["quay.va"], record["berth.va"]
    worst = max(abs(berth[n] - (quay[n] - 0.5 / 2.0 * berth[n - 2])) for n in range(4, len(berth)))
    expect(len(berth) > 1900 and worst < 1e-6 * max(quay), f"two steps round: {worst}")
has(text, "LOST")

# It pauses, dies, lies about its step, counts wrongly, says no number, sends rubbish: told, nothing hangs.
for does, code, words in (
        (lambda p, n: n == 300 and (time.sleep(0.4) or False), 0, "0 of 1000 steps out of count"),
        (lambda p, n: n == 300, 1, "says nothing any more; step 300 did not come within 1 s"),
        (lambda p, n: n == 300 and p.say(n + 7, (0.0, 0.0, 0.0)) is None, 1, "counts wrongly: its step 307"),
        (lambda p, n: n == 300 and p.say(n, (0.0, float("inf"), 0.0)) is None, 1, "says what is no number: value 2 of its step 300"),
        (lambda p, n: n == 300 and p.say(n, (0.0, 0.0)) is None, 1, "says 2 values in step 300, not 3"),
        (lambda p, n: [p.sock.sendto(bytes(random.Random(n * 100 + k).randbytes(1 + k * 13)), p.to) for k in range(5)] and False, 0, "MALFORMED"),
        (lambda p, n: n == 300 and p.sock.sendto(p.message(END, n, text=b"its tank is empty"), p.to) and True, 1, "ended: its tank is empty"),
        (lambda p, n: n == 300 and p.sock.sendto(p.message(END, n), p.to) and True, 1, "ended its run in order, at 0.015 s")):
    process = start(case, "--for", "0.05 s", "--record", "kept.csv")
    hall(1000, stops=does)
    ends_with(process, code, words)
    expect(len((scratch / "kept.csv").read_text().splitlines()) > 100, "what was recorded is kept")
    (scratch / "kept.csv").unlink()
for step_s, says, leads, words in ((25e-6, 3, False, "takes steps of 25 us, not of 50 us"), (50e-6, 4, False, "says 4 values and hears 3"),
                                   (50e-6, 3, True, "leads too")):
    process = start(case, "--for", "0.05 s")
    liar = Partner(17632, 17631, step_s, says, 3, leads)
    for _ in range(100):
        liar.hello()
        liar.take()
        if process.poll() is not None or liar.ended is not None:
            break
    ends_with(process, 1, words)
    liar.sock.close()
ends_with(start(half("alone", bench + 'waits = "0.5 s"\n'), "--for", "0.05 s"), 1, "did not come within 0.5 s")
for wrong, words in (('cuts = ["feeder"]', "no line_end"), ("", "nothing is said or heard"), ('over = "datagrams"\nshows = ["quay.va"]', "both sides have an address"),
                     ('shows = ["quay.vx"]', "quay.va"), ('takes = ["feeder"]', "operated or set")):
    done = subprocess.run([tool, "check", str(half("wrong", f"[partner.hall]\n{wrong}\n"))], capture_output=True, text=True)
    expect(done.returncode != 0 and words in done.stdout + done.stderr, f"{wrong}: {done.stdout}{done.stderr}")

# Our own partner, stopped for a while, then killed.
near_run, far_run = (subprocess.Popen([tool, "run", str(scratch / "bus" / name), "--for", "60 s", "--place", "plant"], stdout=subprocess.PIPE,
                                      stderr=subprocess.STDOUT, text=True, cwd=scratch) for name in ("hall1", "hall2"))
time.sleep(1.5)
far_run.send_signal(signal.SIGSTOP)
time.sleep(0.7)
far_run.send_signal(signal.SIGCONT)
time.sleep(0.7)
expect(near_run.poll() is None, "a pause is waited for")
far_run.kill()
far_run.communicate()
text = ends_with(near_run, 1, "partner.hall2: the partner says nothing any more")
has(text, "a partner was late")
finish()
