"""What the documents write is what the tool takes: verbs, options, kinds, fields; files that they name are there."""
import re
import tomllib

from harness import expect, finish, run, source

documents = [source / "README.md", *sorted((source / "docs").glob("*.md"))]

helps = {}
def options_of(verb):
    if verb not in helps:
        text = run(verb, "--help")
        helps[verb] = set(re.findall(r"--[a-z][a-z-]*", text))
    return helps[verb]

verbs = set(re.findall(r"^  ([a-z]+) ", run("--help").split("Subcommands:")[1], flags=re.M))
commands = 0
for document in documents:
    for line in document.read_text().splitlines():
        pieces = re.findall(r"`(zavrek [^`]+)`", line) + re.findall(r"^(?:    |\$ )(zavrek .+)", line)
        for piece in pieces:
            for command in re.split(r"\s[&|;]+\s|;\s", piece.split("  #")[0]):
                words = re.sub(r'"[^"]*"', "TEXT", command).split()
                if len(words) < 2 or words[0] != "zavrek" or not re.fullmatch(r"[a-z]+", words[1]) or words[-1] == "1":
                    continue
                expect(words[1] in verbs, f"{document.name}: no verb in \"{command}\"")
                for word in words[2:]:
                    if word.startswith("--"):
                        option = word.split("=")[0].rstrip(".,:)")
                        expect(option in options_of(words[1]), f"{document.name}: no option {option} in \"{command}\"")
                commands += 1
expect(commands > 80, f"{commands} commands")

kinds = {}
for line in run("describe").splitlines():
    if re.match(r"  [a-z]", line):
        kinds[line.split()[0]] = None

def fields_of(kind):
    if kinds[kind] is None:
        kinds[kind] = set(re.findall(r"^  ([a-z_0-9]+) +(?:a |an |one of|the |true|two|names)", run("describe", kind), flags=re.M))
    return kinds[kind]

def blocks_in(text):
    """Indented and fenced ones, as they stand."""
    yield from (body for info, body in re.findall(r"```([^\n]*)\n(.*?)```", text, flags=re.S))
    lines, block = text.splitlines(), []
    for line in [*lines, "end"]:
        if line.startswith("    ") or (block and not line.strip()):
            block.append(line)
        elif block:
            yield "\n".join(re.sub("^    ", "", each) for each in block)
            block = []

tables = 0
for document in documents:
    for block in blocks_in(document.read_text()):
        if not re.search(r"^\[+[a-z]", block, flags=re.M):
            continue
        try:
            read = tomllib.loads(block)
        except tomllib.TOMLDecodeError:
            continue
        for kind, named in read.items():
            if kind not in kinds or kind in ("bus", "geometry") or not isinstance(named, (dict, list)):
                continue
            for name, body in (named.items() if isinstance(named, dict) else enumerate(named)):
                if not isinstance(body, dict):
                    continue
                extra = {"fault", "evolves", "operate", "expect", "vary", "states"}
                wrong = set(body) - fields_of(kind) - extra - (fields_of("trial") if kind == "sweep" else set())
                expect(not wrong, f"{document.name}: [{kind}.{name}] has no field {sorted(wrong)}")
                tables += 1
expect(tables > 25, f"{tables} tables")

# Files and folders of the tree that they name.
for document in documents:
    text = document.read_text()
    for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", text):
        expect((document.parent / target).exists(), f"{document.name}: {target} is not there")
    for path in re.findall(r"`((?:demo|examples|starts|manual)/[a-z0-9_./-]+)`", text):
        expect((source / path).exists(), f"{document.name}: {path} is not there")
finish()
