#!/usr/bin/env python3
"""A room includes only rooms below it; the core has no files, sockets, threads or clocks; the paths that
HACKING.md names exist."""
import pathlib
import re
import sys

root = pathlib.Path(__file__).resolve().parent.parent
floors = [
    {"quantity"}, {"network"}, {"emt", "control", "protection"}, {"model"}, {"record"}, {"pace", "wire", "card"}, {"scl"},
    {"bench"}, {"trial"}, {"casefile"}, {"exported"}, {"handover", "report", "page"}, {"engine"}, {"tool"},
]
height = {room: level for level, rooms in enumerate(floors) for room in rooms}
# What each room within emt may include beside itself and the rooms below emt: from the bottom up.
within_emt = {
    "solve": set(),
    "lines": {"solve"},
    "parts": {"solve"},
    "elements": {"solve", "lines", "parts"},
    "groups": {"solve", "parts"},
    "condensed": {"solve", "parts", "groups"},
    "step": {"solve", "parts", "groups", "condensed"},
    "kinds": {"solve", "parts", "groups", "condensed", "step"},
    "steady": {"solve", "parts", "groups", "kinds"},
    "compile": {"solve", "lines", "parts", "elements", "groups", "condensed", "step", "kinds", "steady"},
    "written": {"solve", "parts", "groups", "step", "compile"},
    "leap": {"solve", "parts", "groups", "step"},
    "reference": {"solve", "parts", "groups", "step", "kinds", "compile"},
}
core = {"quantity", "network", "emt", "protection", "control", "model"}
forbidden = re.compile(r"#include <(fstream|iostream|thread|mutex|chrono|filesystem|cstdio|ctime|sys/.*|unistd\.h|netinet/.*)>")
flaws = []


def room_named(word):
    # error.hpp, limits.hpp, count.hpp and state_archive.hpp are the ground floor's other headers, controller.h what control offers to C, element.h what networks do.
    return {"error": "quantity", "limits": "quantity", "state_archive": "quantity", "count": "quantity", "controller": "control", "element": "network"}.get(word, word)


def room_of(path):
    parts = path.relative_to(root).parts
    return room_named(parts[1] if parts[0] == "src" else pathlib.Path(parts[2]).stem)


for path in sorted([*root.glob("src/**/*.[ch]pp"), *root.glob("include/zavrek/**/*.hpp")]):
    room = room_of(path)
    if room == "zavrek":
        continue
    for number, line in enumerate(path.read_text().splitlines(), 1):
        where = f"{path.relative_to(root)}:{number}"
        if room in core and forbidden.search(line):
            flaws.append(f"{where}: the core may not include this: {line}")
        inner = re.match(r'#include "emt/([a-z]+)/', line)
        if inner and room == "emt":
            own = path.relative_to(root / "src/emt").parts[0] if path.is_relative_to(root / "src/emt") else ""
            if own in within_emt and inner[1] not in within_emt[own] | {own}:
                flaws.append(f"{where}: emt/{own} may not include emt/{inner[1]}")
        match = re.match(r'#include "(?:zavrek/)?([a-z_]+)', line)
        other = room_named(match[1]) if match else room
        if other == room:
            continue
        if height.get(other, 99) >= height[room]:
            flaws.append(f"{where}: {room} may not include {other}")

for folder in (root / "src/emt").iterdir():
    if folder.is_dir() and folder.name not in within_emt:
        flaws.append(f"src/emt/{folder.name}: no room of emt")

for path in re.findall(r"`((?:src|include|tests|demo|docs|benchmarks|examples)/[^`]*)`", (root / "HACKING.md").read_text()):
    if not (root / path).exists():
        flaws.append(f"HACKING.md: no {path}")

# Each hop of HACKING.md is a file and an identifier that it defines.
for path, identifier in re.findall(r"^\d\. `([^`]+\.[ch]pp)`: `([^`]+)`", (root / "HACKING.md").read_text(), re.M):
    word = identifier.split("::")[-1]
    if (root / path).exists() and not re.search(rf"\b{word}\(", (root / path).read_text()):
        flaws.append(f"HACKING.md: no {identifier} in {path}")

print("\n".join(flaws) or "floors: every room stands on rooms below it")
sys.exit(1 if flaws else 0)
