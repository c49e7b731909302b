"""The manual: every kind has its fields, what it shows and an example; what can be read in a case has a meaning."""
import json
import re
import shutil

from harness import demo, expect, finish, has, run, scratch, source

listed = [line.split()[0] for line in run("describe").splitlines() if re.match(r"  [a-z]", line)]
expect(len(listed) > 150, f"{len(listed)} kinds")
# What stands in other words than its own: wholes, and entries of lists.
without = {"engine", "core", "case", "control", "bench", "relay", "network", "fault", "vary", "operate", "expect", "trial", "sweep"}
for kind in sorted(set(listed) - without):
    text = run("describe", kind)
    expect("for example, in " in text, f"{kind} has no example")
    expect("a quantity in" not in text, f"{kind} names base units")
has(run("describe", "load"), "NAME.ia, ib, ic", "current into it from its bus", "out of it at what feeds: source", "[load.")
has(run("describe", "control.latch"), "latch (control.toml): 1 from set until reset", "shows")
expect("settings of a relay" not in run("describe", "control.latch"), "only one of the two")
has(run("describe", "latch"), '"latch" is a word of 2 files; relay.latch is the first alone')
has(run("describe", "arrester"), "curve                   a list of pairs", "required")
has(run("describe", "filter"), "[filter.", "order =")

# Everything that a case shows is told, with the unit that its table says.
manual = source / "manual" / "kinds"
for case in [manual] + [demo / name for name in ("veskar", "converter", "harbour", "transformer", "battery", "island", "wind", "tractor")]:
    shown = json.loads(run("check", case, "--json"))["readable"]
    silent = [one["name"] for one in shown if not one["meaning"]]
    expect(not silent, f"{case.name}: nothing is said of {silent[:5]}")
has(run("check", manual), "Kinds for the manual")
text = run("check", demo / "veskar", "--signals", "--knobs")
has(text, "grid.ia        A  current out of it, into its bus", "signals, knobs        112, ", "S0.loss")

# Signals are listed even where a trial is wrong, and the fault is told behind them.
wrong = scratch / "wrong"
shutil.copytree(demo / "battery", wrong)
(wrong / "trials.toml").write_text('[[trial]]\nname = "t"\nexpect = [ { signal = "L1.ix", measure = "mean", between = ["0 A", "1 A"] } ]\n')
text = run("check", wrong, "--signals", code=2)
has(text, "L1.ia", "current into it at its first bus", 'no signal "L1.ix"')

# Words that are nearly right.
has(run("tset", code=2), 'no verb "tset", did you mean "test"?')
has(run("test", demo / "veskar", "--ony", "x", code=2), 'test: no option "--ony", did you mean "--only"?')
has(run("steps", demo / "veskar", "--error", "1", code=2), 'may be a hundredth or the whole; write "1 %"')
has(run("test", "--help"), "--repeats INT:INT in [0 - 100]=8", "--format")
finish()
