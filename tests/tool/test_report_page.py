"""The report in a real browser: charts appear, dragging zooms all of a trial together, double-click goes back."""
import subprocess

from harness import *

run("test", demo / "veskar", "--only", "earth fault", "--out", "page", "--place", "plant", "--pace", "free", "--no-figures")
script = source / "tests" / "tool" / "report_page.mjs"
done = subprocess.run(["node", str(script), str(scratch / "page" / "report.html"), str(source / "web")], capture_output=True, text=True, timeout=200)
expect(done.returncode == 0, done.stdout + done.stderr)
print(done.stdout.strip())
finish()
