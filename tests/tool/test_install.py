"""The library as another project finds it: install, find_package(zavrek), build, run; and its tool."""
import shutil

from harness import *

prefix = scratch / "prefix"
done = subprocess.run(["cmake", "--install", build, "--prefix", prefix], capture_output=True, text=True)
expect(done.returncode == 0, done.stderr)
user = scratch / "project"
shutil.copytree(source / "examples/project", user)
flags = ["-DCMAKE_CXX_FLAGS=-fsanitize=address,undefined"] if "sanitize" in str(build) else []


def built(folder, *more):
    for words in (["cmake", "-G", "Ninja", "-S", user, "-B", folder, f"-DCMAKE_PREFIX_PATH={prefix}", *flags, *more], ["cmake", "--build", folder]):
        done = subprocess.run(words, capture_output=True, text=True)
        expect(done.returncode == 0, done.stdout + done.stderr)


built(user / "build")
done = subprocess.run([user / "build" / "earth_fault"], capture_output=True, text=True)
flows, through = (float(word) for word in done.stdout.split() if word.isdigit())
expect(abs(through - 1000) < 1 and 0.98 * through < flows < through, done.stdout)
done = subprocess.run([user / "build" / "play", demo / "veskar"], capture_output=True, text=True)
expect(done.returncode == 0 and done.stdout.count("pass ") == 8, done.stdout + done.stderr)
# The core alone asks for nothing that only the rest wants; the rest says what it lacks.
hidden = [f"-DCMAKE_DISABLE_FIND_PACKAGE_{name}=ON" for name in ("SQLite3", "pugixml", "PkgConfig")]
built(user / "core", *hidden)
expect((user / "core" / "earth_fault").exists() and not (user / "core" / "play").exists(), "the core alone")
(user / "CMakeLists.txt").write_text("cmake_minimum_required(VERSION 3.25)\nproject(all CXX)\nfind_package(zavrek REQUIRED)\n")
done = subprocess.run(["cmake", "-S", user, "-B", user / "all", f"-DCMAKE_PREFIX_PATH={prefix}", *hidden], capture_output=True, text=True)
expect(done.returncode != 0, "nothing was missed")
has(done.stderr.replace("\n ", ""), "SQLite3", "COMPONENTS core does without")
done = subprocess.run([prefix / "bin" / "zavrek", "--version"], capture_output=True, text=True)
has(done.stdout, "zavrek 0.1.0")
done = subprocess.run([prefix / "bin" / "zavrek", "export", demo / "crane", "--out", scratch / "crane.so"], capture_output=True, text=True)
has(done.stdout, "crane.so", "outputs") if "sanitize" not in str(build) else None
finish()
