"""The library as another project finds it: install, find_package(zavrek), build, run; and its tool."""
from harness import *

prefix = scratch / "prefix"
done = subprocess.run(["cmake", "--install", build, "--prefix", prefix], capture_output=True, text=True)
expect(done.returncode == 0, done.stderr)
user = scratch / "user"
user.mkdir()
(user / "CMakeLists.txt").write_text(
    "cmake_minimum_required(VERSION 3.25)\nproject(user CXX)\nfind_package(zavrek REQUIRED)\n"
    "add_executable(user main.cpp)\ntarget_link_libraries(user zavrek::zavrek)\n")
(user / "main.cpp").write_text(
    "#include <cstdio>\n#include <zavrek/zavrek.hpp>\nint main(int, char** argv) {\n"
    "  const auto all = zavrek::casefile::read_case(argv[1]);\n"
    "  auto plant = zavrek::emt::compile(all.network);\n"
    "  for (int k = 0; k < 100; ++k) (void)plant.step();\n"
    "  std::printf(\"%.3f ms, %d nodes\\n\", 1e3 * plant.time_s(), plant.summary().nodes);\n}\n")
flags = ["-DCMAKE_CXX_FLAGS=-fsanitize=address,undefined"] if "sanitize" in str(build) else []
for words in (["cmake", "-G", "Ninja", "-S", user, "-B", user / "build", f"-DCMAKE_PREFIX_PATH={prefix}", *flags], ["cmake", "--build", user / "build"]):
    done = subprocess.run(words, capture_output=True, text=True)
    expect(done.returncode == 0, done.stdout + done.stderr)
done = subprocess.run([user / "build" / "user", demo / "veskar"], capture_output=True, text=True)
expect(done.stdout == "5.000 ms, 36 nodes\n", done.stdout + done.stderr)
done = subprocess.run([prefix / "bin" / "zavrek", "--version"], capture_output=True, text=True)
has(done.stdout, "zavrek 0.1.0")
done = subprocess.run([prefix / "bin" / "zavrek", "export", demo / "crane", "--out", scratch / "crane.so"], capture_output=True, text=True)
has(done.stdout, "crane.so", "outputs") if "sanitize" not in str(build) else None
finish()
