"""python3 -m zavrek_records FILE ... lists what records and results hold."""
import pathlib
import sys

import numpy

from . import read, results


def main(words):
    if not words:
        print(__doc__)
        return 2
    for word in words:
        path = pathlib.Path(word)
        if path.is_dir() or path.suffix == ".sqlite":
            trials = results(path)
            print(f"{word}: {len(trials)} trials, {sum(trial.passed for trial in trials)} passed")
            for trial in trials:
                if not trial.passed:
                    print(f"  {trial.name}: {trial.failure or '; '.join(f'{v.expectation} {v.measured}' for v in trial.verdicts if not v.passed)}")
            continue
        record = read(path)
        step = record.time[1] - record.time[0] if len(record.time) > 1 else 0
        print(f"{word}: {len(record.time)} samples, {1e6 * step:g} us apart{', ' + record.station if record.station else ''}")
        for signal in record.signals.values():
            values = signal.values
            print(f"  {signal.name:<24} {numpy.nanmin(values):>14.6g} ... {numpy.nanmax(values):<14.6g} {signal.unit}")
        for name in record.points:
            told = ", ".join(f"{'on' if on else 'off'} at {at:.4f} s" for at, on in record.changes(name))
            print(f"  {name:<24} {told or ('on' if record.points[name].all() else 'off')}")
    return 0


if __name__ == "__main__":
    try:
        sys.exit(main(sys.argv[1:]))
    except (ValueError, OSError, ImportError, KeyError) as problem:
        print(problem, file=sys.stderr)
        sys.exit(2)
