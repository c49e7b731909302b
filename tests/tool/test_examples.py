"""Every example prints what stands in the file beside it."""
from harness import *

for code in sorted((source / "examples").glob("*.cpp")):
    done = subprocess.run([build / "examples" / code.stem], capture_output=True, text=True, timeout=60)
    expect(done.returncode == 0, f"{code.stem}: exit {done.returncode}")
    wanted = code.with_suffix(".out").read_text()
    expect(done.stdout == wanted, f"{code.stem} printed\n{done.stdout}\nwanted\n{wanted}")
    expect(len(code.read_text().splitlines()) < 100, f"{code.stem} has a hundred lines or more")
finish()
