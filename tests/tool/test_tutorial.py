"""docs/tutorial.md as it stands: its files are written, its commands run in an empty folder, and print what stands beneath them."""
import re

from harness import *

home = scratch / "morning"
home.mkdir()
commands = 0
for info, body in re.findall(r"```([^\n]*)\n(.*?)```\n", (source / "docs/tutorial.md").read_text(), flags=re.S):
    if info.startswith("toml"):
        _, name, *add = info.split()
        file = home / name
        file.parent.mkdir(exist_ok=True)
        file.write_text((file.read_text() if add else "") + body)
        continue
    for step in re.split(r"^\$ ", body, flags=re.M)[1:]:
        words, _, printed = step.partition("\n")
        commands += 1

        def once():
            _, says = tried(["bash", "-c", re.sub(r"^zavrek ", f"{tool} ", words)], timeout=250, code=None, cwd=home)
            rest = says.splitlines()
            for line in printed.splitlines():
                at = next((k for k, said in enumerate(rest) if said.rstrip() == line), None)
                if at is None:
                    return None, f"$ {words}\nno line \"{line}\" in\n{says}"
                rest = rest[at + 1:]
            return True, says
        # What keeps to the clock may be held back by others on this computer.
        paced = "free" not in words and "programme" not in words
        if paced:
            attempts(once)
        else:
            expect(*once())
expect(commands >= 15, f"{commands} commands")
expect((home / "out/feeder/report.html").exists() and (home / "first.png").exists(), "the report and the figure are there")
finish()
