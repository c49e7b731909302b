"""Trip times of a programme over the place of the fault, a row for each kind of fault.

    zavrek programme demo/line --only "both ends"      # or your own sweep over "fault.at"
    python3 examples/trip_time_over_place.py out/line-programme "DM trip" [FIGURE.png]

The figure wants python3-matplotlib; the table wants nothing but numpy.
"""
import pathlib
import sys

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent / "python"))
import zavrek_records

folder, expectation = sys.argv[1], sys.argv[2]
times = {}
for trial in zavrek_records.results(folder):
    place = float(trial.fields["fault.at"].rstrip(" %"))
    for verdict in trial.verdicts:
        if verdict.expectation == expectation and verdict.value is not None:
            times.setdefault(trial.fields.get("fault.phases", "fault"), {}).setdefault(place, []).append(verdict.value)
places = sorted({place for by_place in times.values() for place in by_place})
print(f"{'':<6}" + "".join(f"{place:>8g} %" for place in places))
for phases, by_place in times.items():
    print(f"{phases:<6}" + "".join(f"{1e3 * max(by_place[place]):>7.1f} ms" if place in by_place else f"{'-':>10}" for place in places))
if len(sys.argv) > 3:
    import matplotlib
    matplotlib.use("Agg")
    from matplotlib import pyplot
    for phases, by_place in times.items():
        pyplot.plot(sorted(by_place), [1e3 * max(by_place[place]) for place in sorted(by_place)], marker="o", label=phases)
    pyplot.xlabel("place of the fault, %")
    pyplot.ylabel(f"{expectation}, latest, ms")
    pyplot.legend()
    pyplot.savefig(sys.argv[3], dpi=120)
