"""The first hour of a new user: a demo copied, a case begun, what the shell completes, the manual page."""
import shutil

from harness import *

listed = run("demo")
has(listed, "veskar", "Veskar quay, 11 kV shore supply", "two-halls", "zavrek demo NAME copies one here")
expect(len(listed.splitlines()) > 20, "all of them")
has(run("demo", "veskar"), "is in the folder veskar", "zavrek test veskar")
expect((scratch / "veskar/R1.toml").read_text() == (demo / "veskar/R1.toml").read_text(), "as it is")
has(run("check", "veskar"), "S1 -> device R1")
has(run("demo", "veskar", code=2), "veskar is already there")
has(run("demo", "veskr", code=2), 'no demo "veskr", did you mean "veskar"?')
# One that takes files from its neighbours brings them along.
elsewhere = scratch / "elsewhere"
elsewhere.mkdir()
has(run("demo", "yard", cwd=elsewhere), "from its neighbours beside it", "yard/both")
expect((elsewhere / "island/control.toml").exists(), "the island")
run("check", "yard", cwd=elsewhere)
for kind, passes in (("feeder", 3), ("line", 3), ("transformer", 3), ("converter", 2)):
    has(run("new", kind), f"{kind} is a {kind} to start from", f"zavrek test {kind}")
    checked = run("check", kind)
    expect("note" not in checked or kind == "line", checked)
    has(run("test", kind, "--pace", "free", "--place", "plant"), f"{passes} of {passes} trials passed")
    text = "".join(file.read_text() for file in (scratch / kind).glob("*.toml"))
    expect("Veskar" not in text and text.count("#") >= 5, "it is nobody's, and says what it is")
has(run("new", "feeder", "mine"), "mine is a feeder to start from")
has(run("new", "feeder", code=2), "feeder is already there")
has(run("new", "feder", code=2), 'no kind of case "feder", did you mean "feeder"?')
has(run("programme", "mine", "--place", "plant"), "30 of 30")

# What bash completes.
script = scratch / "zavrek.bash"
script.write_text(run("manual", "--as", "bash"))


def completed(*words):
    line = " ".join(f"'{word}'" for word in words)
    done = subprocess.run(["bash", "-c", f"source {script}; COMP_WORDS=({line}); COMP_CWORD={len(words) - 1}; _zavrek; printf '%s\\n' \"${{COMPREPLY[@]}}\""],
                          capture_output=True, text=True, cwd=scratch)
    expect(done.returncode == 0 and done.stderr == "", done.stderr)
    return done.stdout.split()


expect(completed("zavrek", "te") == ["test"], f"{completed('zavrek', 'te')}")
expect("--signals" in completed("zavrek", "run", "x", "--s"), "an option")
expect(completed("zavrek", "run", "x", "--pace", "f") == ["free"], "what an option may be")
expect("veskar" in completed("zavrek", "test", "ves"), "a folder")
page = run("manual", "--as", "man")
has(page, ".TH ZAVREK 1", ".SS split", ".SS new", "\\-\\-signals", ".SH EXIT STATUS")
expect(not any(line.startswith(("'", "...")) for line in page.splitlines()), "no text is taken for a request")
if shutil.which("mandoc"):
    done = subprocess.run(["mandoc", "-T", "lint", "-W", "warning"], input=page, capture_output=True, text=True)
    expect(done.returncode == 0, done.stdout)
finish()
