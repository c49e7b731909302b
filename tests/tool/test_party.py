"""An island with a gateway and a supervisor, each a case of its own in its own process, over DNP3 and IEC 60870-5-104."""
import shutil

from field_case import *

has(run("check", demo / "yard/gateway"), "dnp3_master yard", "iec104_station to_supervisor")
has(run("check", demo / "yard"), "dnp3_outstation yard", "modbus_server meter")
# Few repeats at a time, so that a machine that is busy with other work is not waited for beyond the time of a test.
for name in ("the plan is advice: the gateway goes by its own and keeps the workshops", "the gateway is deaf: the frequency sheds the offices later"):
    has(run_paced("test", demo / "yard", "--only", name, "--repeats", 1, tries=3), name, "1 of 1")
# Without them the same case is judged by what it does alone.
alone = run("test", demo / "yard", "--place", "plant", "--only", "the gateway is deaf: the frequency sheds the offices later")
has(alone, "1 of 1")
# The same logic inside, as fast as it goes, and by the clock over three buses: judged by one trial, laid over each other.
name = "the grid is lost and comes back: shed, led, closed in phase, restored"
both = ["bash", str(demo / "yard/both"), name, str(scratch / "both")]
said = attempts(lambda: tried(both, timeout=200, env={**os.environ, "ZAVREK": str(tool)}), tries=3)
has(said, "1 of 1 trials passed", "5 of 5 signals stay within their bands")
expect(said.count("1 of 1 trials passed") == 2 and (scratch / "both/both.png").stat().st_size > 10000, "both verdicts, a figure")
wrong = run("compare", next((scratch / "both/pure").glob("*.cfg")), next((scratch / "both/paced").glob("*.cfg")), "--signals", "battery.p within 10 W over 1 ms", code=1)
has(wrong, "FAILED: 0 of 1 signals")
record = next((scratch / "both/pure").glob("*.cfg"))
has(run("compare", record, record, "--signals", "battery.p beyond 3 kW", code=2), "\"beyond\" is neither within nor over")
# A party that ends ends the run, and says why; one outside the case, or none, is a flaw.
case = scratch / "yard"
shutil.copytree(demo / "yard", case, dirs_exist_ok=True)
shutil.copytree(demo / "island", scratch / "island", dirs_exist_ok=True)
(case / "gateway/logic.toml").write_text("period = \"0 s\"\n")
has(run("run", case, "--for", "3 s", code=1), "the party gateway has ended")
text = (case / "bench.toml").read_text()
(case / "bench.toml").write_text(text.replace('case = "gateway"', 'case = "../island"'))
has(run("check", case, code=2), "leads out of the case")
(case / "bench.toml").write_text(text.replace('case = "gateway"', 'case = "gatway"'))
has(run("check", case, code=2), "no folder \"gatway\" in this case")
finish()
