"""What a run leaves behind: a partial run beside a whole one, nothing stale, what changed since an earlier run."""
import json
import re
import shutil

from harness import as_json, demo, expect, finish, has, run, scratch

case = scratch / "quay"
shutil.copytree(demo / "veskar", case)
free = ("--place", "plant", "--pace", "free")

text = run("test", case, *free, "--csv", "--pdf", timeout=200)
has(text, "8 of 8 trials passed", "report: out/quay/report.html")
out = scratch / "out" / "quay"
results = json.loads((out / "results.json").read_text())
expect(results["format"] == "zavrek results 1" and len(results["trials"]) == 8, "its shape")
tested = {one["name"]: one for one in results["provenance"]["tested"]}
expect(tested["R1"]["settings"] == "R1.toml" and re.fullmatch("[0-9a-f]{64}", tested["R1"]["sha256"]), str(tested))
expect(results["provenance"]["place"] == "Veskar quay, substation of the shore supply", "where")
verdict = results["trials"][0]["verdicts"][0]
expect(verdict["number"] == "1.1" and isinstance(verdict["value"], float) and 0 <= verdict["left"] <= 1, str(verdict))
page = (out / "report.html").read_text()
has(page, 'id="verdict8.1"', tested["R1"]["sha256"], "deviations allowed", "Witnessed by")
expect((out / "report.pdf").read_bytes().startswith(b"%PDF"), "the report as PDF")
first = (out / "report.html").stat().st_mtime_ns

# A run of some trials leaves the whole one as it is.
has(run("test", case, *free, "--only", "solid earth", "--no-figures"), "report: out/quay-solid-earth/report.html")
expect((out / "report.html").stat().st_mtime_ns == first, "the whole report stays")
expect(len(json.loads((scratch / "out/quay-solid-earth/results.json").read_text())["trials"]) == 1, "one trial")

has(run("test", case, *free, "--only", "solid earth", "--out", out, code=2), "has the evidence of further trials", "take another folder")

# Another setting: what fails now, against the earlier run.
settings = (case / "R1.toml").read_text()
(case / "R1-approved.toml").write_text(settings)
(case / "R1.toml").write_text(settings.replace("time_multiplier = 0.15", "time_multiplier = 0.25"))
bench = (case / "bench.toml").read_text()
expect('settings = "R1.toml"' in bench, "the device's settings")
(case / "bench.toml").write_text(bench.replace('settings = "R1.toml"', 'settings = "R1.toml"\napproved = "R1-approved.toml"\nmodel = "stand-in"\nserial = "R-0017"'))
text = run("test", case, *free, "--no-figures", "--against", out, code=1)
has(text, "since the earlier run:", "fails now", "R1 trip")
has((out / "report.html").read_text(), "Since the earlier run", "serial number R-0017", "judged by the settings in R1-approved.toml")
has(run("test", case, *free, "--against", case / "R1.toml", code=2), "is no JSON")
(scratch / "other.json").write_text("{}")
has(run("test", case, *free, "--no-figures", "--against", "other.json", code=2), "holds no results of trials")
expect(not list(out.glob("*.png")) and not list(out.glob("*.csv")) and not (out / "report.pdf").exists(), "figures of an earlier run stay not beside new records")
again = as_json(run("test", case, *free, "--no-figures", "--json", "--against", out, code=1))
expect(again["changes"] == [] and again["format"] == "zavrek results 1", "the same again")

# Trials that are gone take their records along; what is not the run's own stays.
trials = (case / "trials.toml").read_text().split("[[trial]]")
(case / "trials.toml").write_text("[[trial]]".join(trials[:3]))
(out / "mine.txt").write_text("notes")
run("test", case, *free, "--no-figures", code=None)
stems = sorted(f.name for f in out.glob("*.cfg"))
expect(len(stems) == 2 and (out / "mine.txt").exists(), f"{stems}")

# What does not compile is told with its file and line.
network = (case / "network.toml").read_text()
(case / "network.toml").write_text(network + '\n[load.odd]\nbus = "quay"\nactive = "0 kW"\n')
line = (case / "network.toml").read_text().splitlines().index("[load.odd]") + 1
has(run("check", case, code=2), f"network.toml:{line + 2}: load.odd, active: neither active nor reactive power")
(case / "network.toml").write_text(network.replace("[source.grid]", "[sorce.grid]"))
text = run("check", case, code=2)
has(text, 'did you mean "source"')

# A state is judged in words; a run as JSON; fitness by its exit; three records in one figure.
states = as_json(run("run", demo / "veskar", "--for", "0.1 s", *free, "--at", "50 ms: open Q1", "--record", "a.csv", "--json"))
expect(states["format"] == "zavrek run 1" and any(0.05 < e["time_s"] < 0.1 and "Q1" in e["text"] for e in states["events"]), str(states["events"]))
run("run", demo / "veskar", "--for", "0.1 s", *free, "--record", "b.csv")
run("run", demo / "veskar", "--for", "0.1 s", *free, "--at", "60 ms: open Q1", "--record", "c.csv")
text = run("compare", "a.csv", "b.csv", "c.csv", "--signals", "VT0.va", "--figure", "three.png", code=None)
has(text, "b late by 0 s", "c late by 0 s")
expect((scratch / "three.png").read_bytes().startswith(b"\x89PNG"), "three in one figure")
both = as_json(run("compare", "a.csv", "b.csv", "c.csv", "--json", code=None))
expect(len(both["comparisons"]) == 2 and both["format"] == "zavrek compare 1", "two comparisons")
finish()
