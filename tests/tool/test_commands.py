"""The commands that the documents show are carried out as they stand, from the folder of the project, and end as they say.
Those that keep to the clock for long, or want a second computer, stand in tests of their own, which are named here."""
import atexit
import re
import shutil
import sqlite3

from harness import *

# What is carried out elsewhere: how the command begins, and the test that does it.
ELSEWHERE = {
    "zavrek programme demo/line": ("slurm", 'demo / "line"'),
    "sbatch --array=1-8": ("slurm", "sbatch"),
    "zavrek merge whole shards/shard-*": ("slurm", '"merge"'),
    "zavrek test demo/substation": ("substation", 'times_of("substation")'),
    "zavrek test demo/substation-terminals": ("substation", 'times_of("substation-terminals")'),
    "zavrek prove demo/substation-terminals": ("terminals", 'run_paced("prove", case)'),
    "zavrek test demo/bay": ("bay", '"test", case'),
    "zavrek test demo/amplifier": ("bay", 'demo / "amplifier"'),
    "zavrek panel demo/bay": ("bay", '"panel"'),
    "zavrek test demo/yard": ("party", 'demo / "yard"'),
    "demo/yard/both": ("party", "yard/both"),
    "zavrek test demo/tractor": ("can", 'demo / "tractor"'),
    "zavrek test demo/roof": ("outside_control", 'demo / "roof"'),
    "demo/process-image/show": ("ethercat", "process-image"),
    "demo/two-halls/show": ("partner", "two-halls"),
    "zavrek serve demo/yard": ("engine", '"serve"'),
    "zavrek target name bench3": ("engine", '"name"'),
    "zavrek run mycase --on bench3": ("engine", '"--on"'),
}

home = scratch / "home"
home.mkdir()
for entry in ("demo", "examples", "starts", "docs"):
    (home / entry).symlink_to(source / entry)
environment = {**os.environ, "PATH": f"{build}:{os.environ['PATH']}", "HOME": str(home), "XDG_RUNTIME_DIR": str(home)}
under_way = []


COMMAND = r"^    (zavrek|sbatch|\./dev|curl|demo/[a-z-]+/[a-z]+)\b"


def carried_out(command, code=0):
    """What it prints. What keeps to the clock may be tried again."""
    def once():
        return tried(["bash", "-c", command], code=code, cwd=home, env=environment)
    if command.startswith("zavrek run") or "--place outside" in command:
        return attempts(once)
    fine, says = once()
    expect(fine, says)
    return says


def left_running(command, until):
    """One that goes on, until it says something."""
    began = subprocess.Popen(["bash", "-c", f"exec {command}"], cwd=home, env=environment, stdout=subprocess.PIPE,
                             stderr=subprocess.STDOUT, text=True)
    under_way.append(began)
    for line in began.stdout:
        if until in line:
            return
    expect(False, f"$ {command}\nended with {began.wait()}")


def end_them():
    for one in under_way:
        one.terminate()
        one.communicate(timeout=20)
    under_way.clear()


atexit.register(end_them)


def commands_in(name):
    """Indented lines that begin with a command of the tool, without what explains them, and lines below that it prints."""
    lines = (source / name).read_text().splitlines()
    for number, line in enumerate(lines):
        if not re.match(COMMAND, line):
            continue
        printed = []
        for below in lines[number + 1:]:
            if not below.startswith("    ") or re.match(COMMAND, below):
                break
            printed.append(below.strip())
        yield re.split(r"\s{2,}#", line.strip())[0], printed


def is_elsewhere(command):
    for begins, (test, words) in ELSEWHERE.items():
        if command == begins or command.startswith(begins + " "):
            text = (source / f"tests/tool/test_{test}.py").read_text()
            expect(words in text, f"{command}: test_{test}.py has no {words}")
            return True
    return False


# What the guide writes down is a case, and it is the one that its commands mean.
for name, body in re.findall(r"```toml (berth/\S+)\n(.*?)```\n", (source / "docs/guide.md").read_text(), flags=re.S):
    (home / name).parent.mkdir(exist_ok=True)
    with open(home / name, "a") as file:
        file.write(body + "\n")
has(carried_out("zavrek check berth"), "one berth", "trials                2")
has(carried_out("zavrek test berth --place plant --pace free"), "2 of 2 trials passed", "(earth1)")
for name, body in re.findall(r"```toml (demo/\S+)\n(.*?)```\n", (source / "docs/guide.md").read_text(), flags=re.S):
    for table in body.split("\n\n"):
        expect(table.strip() in (source / name).read_text(), f"{name} has no\n{table}")
# What others of them mean: settings of one's own, and a record.
for name in ("R1.toml", "found.toml", "approved.toml"):
    shutil.copy(demo / "veskar/R1.toml", home / name)
carried_out("zavrek test demo/veskar --place plant --pace free --no-figures --out out/veskar")
for end in (".cfg", ".dat"):
    shutil.copy(home / f"out/veskar/04-solid-earth-fault-on-cable-1{end}", home / f"fault{end}")

# What it says where it goes on, and what it ends with where that is not 0.
GOES_ON = {"zavrek serve demo/bay demo/veskar": "engine at", "zavrek target watch VT0.va,CT1.ia": "VT0.va"}
# What is outside for it.
OUTSIDE = {"zavrek inject found.toml": "zavrek relay found.toml --name R1 --stream R1place1@16384"}
ENDS_WITH = {"zavrek programme demo/veskar --coverage --least-coverage \"60 %\"": 1}
shown, here = 0, set()
for name in ("README.md", *(f"docs/{one}.md" for one in ("bench", "field", "guide", "live", "models", "partners", "protection"))):
    for command, printed in commands_in(name):
        shown += 1
        if command.startswith(("./dev", "curl")) or is_elsewhere(command) or command in here:
            continue
        here.add(command)
        began = time.monotonic()
        if command in GOES_ON:
            left_running(command, GOES_ON[command])
        else:
            for begins, other in OUTSIDE.items():
                if command.startswith(begins):
                    under_way.append(subprocess.Popen(["bash", "-c", f"exec {other}"], cwd=home, env=environment, stdout=subprocess.PIPE, text=True))
            says = carried_out(command, ENDS_WITH.get(command, 0))
            has(says, *(line.split("...")[0] for line in printed))
        print(f"{time.monotonic() - began:6.1f} s  {name}: {command}", flush=True)
end_them()

# A programme's results are as docs/formats.md describes them.
described = dict(re.findall(r"^\| `(\w+)` \| (`.*`) \|$", (source / "docs/formats.md").read_text().split("## Results of a programme")[1], flags=re.M))
with sqlite3.connect(home / "out/proof-programme/results.sqlite") as database:
    tables = [name for (name,) in database.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
    expect(sorted(tables) == sorted(described), f"{tables}, {list(described)} in formats.md")
    for name in tables:
        columns = [row[1] for row in database.execute(f"PRAGMA table_info({name})")]
        expect(columns == described[name].replace("`", "").split(", "), f"{name}: {columns}, {described[name]} in formats.md")
expect(shown > 55 and len(here) > 30, f"{shown} commands, {len(here)} of them carried out here")
finish()
