"""The substation of Veskar over frames, configured from its SCD, and at the terminals of a board: the same
verdicts; and its configuration read by a reader that shares no code with the tool's."""
import xml.etree.ElementTree as ET

from harness import *

ns = {"s": "http://www.iec.ch/61850/2003/SCL"}


def published(file):
    """Identifier, APPID and number of values of each stream and message (IEC 61850-6)."""
    root = ET.parse(file).getroot()
    addresses = {}
    for access in root.iterfind(".//s:ConnectedAP", ns):
        for block in list(access.iterfind("s:SMV", ns)) + list(access.iterfind("s:GSE", ns)):
            addresses[access.get("iedName"), block.get("ldInst"), block.get("cbName")] = {
                p.get("type"): p.text for p in block.iterfind("s:Address/s:P", ns)}
    found = {}
    for ied in root.iterfind("s:IED", ns):
        for device in ied.iterfind(".//s:LDevice", ns):
            for control, identifier in (("SampledValueControl", "smvID"), ("GSEControl", "appID")):
                for one in device.iterfind(f"s:LN0/s:{control}", ns):
                    entries = device.findall(f"s:LN0/s:DataSet[@name='{one.get('datSet')}']/s:FCDA", ns)
                    address = addresses[ied.get("name"), device.get("inst"), one.get("name")]
                    found[one.get(identifier)] = (int(address["APPID"], 16), address["MAC-Address"], len(entries),
                                                  int(one.get("confRev")))
    return found


scd = published(demo / "substation" / "veskar.scd")
expect(len(scd) == 12 and scd["VSKMU66"] == (0x4066, "01-0C-CD-04-00-66", 16, 1) and scd["VSKR1"][3] == 4, scd)
has(run("scl", demo / "substation"), '"VSKMU66"', "0x4066 to 01-0c-cd-04-00-66, VLAN 66", "TCTR17.AmpSv.instMag.i [MX]")
run("scl", demo / "substation", "--write", "bench.cid")
own = published(scratch / "bench.cid")
for name in ("VSKMU66", "VSKMU11", "VSKMU0", "VSKMU1", "VSKBAY1"):
    expect(own[name] == scd[name], f"{name}: {own[name]}, {scd[name]} in the SCD")

# What contradicts the configuration is told with the line there.
case = scratch / "case"
case.mkdir()
for file in (demo / "substation").iterdir():
    (case / file.name).write_text(file.read_text())
(case / "bench.toml").write_text((case / "bench.toml").read_text().replace('id = "VSKMU66"', 'id = "VSKMU66"\nappid = 0x4067'))
text = run("check", case, code=2)
has(text, "bench.toml:", "stream.SH, appid: is 16487, and 16486 in", "veskar.scd:")


def times_of(name):
    """What its trials measured. Floods and forgeries want all of a computer: one in ten may be spoiled, none may fail."""
    def once():
        fine, says = tried([tool, "test", demo / name, "--out", name, "--no-figures"], timeout=200)
        if fine is not None or not (scratch / name / "results.json").exists():
            return fine, says
        trials = as_json((scratch / name / "results.json").read_text())["trials"]
        judged = [t for t in trials if not t["not_judged"]]
        return (True if len(judged) > 0.9 * len(trials) and all(t["passed"] for t in judged) else None), says
    attempts(once, tries=2)
    trials = as_json((scratch / name / "results.json").read_text())["trials"]
    return {(t["name"], v["expectation"]): v["measured"] for t in trials if not t["not_judged"] for v in t["verdicts"]}


frames = times_of("substation")
terminals = times_of("substation-terminals")
both = frames.keys() & terminals.keys()
expect(10 <= len(both) <= 14, f"{len(both)} verdicts in both: {sorted(both)}")
for key in both:
    a, b = frames[key], terminals[key]
    if not a.endswith(" s"):
        expect(a == b, f"{key}: {a} and {b}")
        continue
    # Debouncing, a sample, and what the computer holds a converter back.
    expect(abs(float(a.split()[0]) - float(b.split()[0])) < 0.015, f"{key}: {a} over frames, {b} at terminals")
finish()
