"""Zavrek's records and results in Python, with the standard library and numpy.

    import zavrek_records
    record = zavrek_records.read("out/veskar/01-three-phase-fault-close-on-cable-1.cfg")
    record.time, record["CT1.ia"].values, record["CT1.ia"].unit, record.points["R1.trip"]
    for trial in zavrek_records.results("out/line-programme"):
        print(trial.name, trial.passed, trial.fields["fault.at"], trial.verdicts[0].value)

Records: COMTRADE (IEC 60255-24: ASCII, BINARY, BINARY32, FLOAT32), CSV as the tool writes it, HDF5 where h5py is there.
"""
import csv
import dataclasses
import datetime
import json
import pathlib
import sqlite3

import numpy

__all__ = ["Record", "Signal", "Trial", "Verdict", "read", "results"]


@dataclasses.dataclass
class Signal:
    name: str
    unit: str
    values: numpy.ndarray  # NaN where a value is missing
    primary: float = 1.0   # of the transformer that it was measured through
    secondary: float = 1.0


@dataclasses.dataclass
class Record:
    time: numpy.ndarray  # s, from its first sample on
    signals: dict
    points: dict         # name to an array of booleans
    trigger: float = 0.0  # s, likewise: of the fault
    station: str = ""
    frequency: float = 50.0

    def __getitem__(self, name):
        """A signal; KeyError names those that are nearest."""
        if name in self.signals:
            return self.signals[name]
        import difflib
        near = difflib.get_close_matches(name, self.signals, 3)
        raise KeyError(f"no signal {name!r}" + (f", did you mean {' or '.join(map(repr, near))}?" if near else ""))

    def rms(self, name):
        """Of the fundamental's cycle that ends at each sample; NaN within the first."""
        cycle = round(1 / self.frequency / (self.time[1] - self.time[0]))
        squares = numpy.cumsum(numpy.insert(self[name].values ** 2, 0, 0.0))
        out = numpy.full(len(self.time), numpy.nan)
        out[cycle - 1:] = numpy.sqrt(numpy.maximum(0, squares[cycle:] - squares[:-cycle]) / cycle)
        return out

    def changes(self, point):
        """[(time, on)] of a point."""
        at = self.points[point]
        return [(float(self.time[k]), bool(at[k])) for k in range(1, len(at)) if at[k] != at[k - 1]]


def read(path):
    """A record by its file: .cfg (or .dat), .csv, .h5."""
    path = pathlib.Path(path)
    readers = {".cfg": _comtrade, ".dat": _comtrade, ".csv": _csv, ".h5": _hdf5}
    if path.suffix.lower() not in readers:
        raise ValueError(f"{path}: no record; .cfg, .csv and .h5 are")
    return readers[path.suffix.lower()](path)


def _comtrade(path):
    lines = path.with_suffix(".cfg").read_text().splitlines()
    analogs, points = (int(word[:-1]) for word in lines[1].split(",")[1:3])
    channels = [line.split(",") for line in lines[2:2 + analogs]]
    flags = [line.split(",")[1] for line in lines[2 + analogs:2 + analogs + points]]
    rest = lines[2 + analogs + points:]
    rates = int(rest[1])
    rate, count = rest[2].split(",")[:2] if rates else (0, rest[2].split(",")[1])
    after = rest[2 + max(rates, 1):]
    start, trigger = (_moment(text) for text in after[:2])
    kind = after[2].strip().upper()
    count = int(count)
    data = path.with_suffix(".dat")
    if kind == "ASCII":
        rows = [line.split(",") for line in data.read_text().splitlines() if line]
        raw = numpy.array([[float(word) if word.strip() else numpy.nan for word in row[2:2 + analogs]] for row in rows]).reshape(-1, analogs)
        bits = numpy.array([[word.strip() == "1" for word in row[2 + analogs:]] for row in rows], bool).reshape(len(rows), -1)
        stamps = numpy.array([float(row[1] or "nan") for row in rows])
    else:
        letter, missing = {"BINARY": ("<i2", -2**15), "BINARY32": ("<i4", -2**31), "FLOAT32": ("<f4", None)}[kind]
        words = (points + 15) // 16
        layout = numpy.dtype([("number", "<u4"), ("stamp", "<u4"), ("analog", letter, (analogs,)), ("words", "<u2", (words,))])
        rows = numpy.fromfile(data, layout)
        raw = rows["analog"].astype(float)
        if missing is not None:
            raw[rows["analog"] == missing] = numpy.nan
        bits = (rows["words"][:, [k // 16 for k in range(points)]] >> numpy.array([k % 16 for k in range(points)], "u2") & 1).astype(bool)
        stamps = rows["stamp"].astype(float)
    if len(raw) != count:
        raise ValueError(f"{data}: {len(raw)} samples, {count} are announced")
    time = numpy.arange(count) / float(rate) if float(rate) > 0 else stamps * 1e-6
    signals = {c[1]: Signal(c[1], c[4], float(c[5]) * raw[:, k] + float(c[6]), *(float(word) for word in c[10:12]))
               for k, c in enumerate(channels)}
    return Record(time, signals, {name: bits[:, k] for k, name in enumerate(flags)}, (trigger - start).total_seconds(),
                  lines[0].split(",")[0], float(rest[0]))


def _moment(text):
    """To the microsecond; what is finer is left out."""
    day, clock = text.strip().split(",")
    whole, _, part = clock.partition(".")
    return datetime.datetime.strptime(f"{day},{whole}", "%d/%m/%Y,%H:%M:%S") + datetime.timedelta(microseconds=int((part + "000000")[:6]))


def _csv(path):
    with open(path, newline="") as file:
        rows = list(csv.reader(file))
    table = numpy.array([[float(word) if word else numpy.nan for word in row] for row in rows[1:]]).reshape(-1, len(rows[0]))
    signals, points = {}, {}
    for k, head in enumerate(rows[0][1:], 1):
        name, _, unit = head.rpartition(" ")
        column = table[:, k]
        if not name and numpy.isin(column, (0, 1)).all():
            points[head] = column > 0.5
        else:
            signals[name or head] = Signal(name or head, unit if name else "", column)
    return Record(table[:, 0], signals, points)


def _hdf5(path):
    try:
        import h5py
    except ImportError as error:
        raise ImportError(f"{path}: HDF5 wants h5py (Debian: python3-h5py), or let the tool write .cfg") from error
    text = lambda value: value.decode() if isinstance(value, bytes) else str(value)
    with h5py.File(path) as file:
        if file.attrs.get("layout") != 1:
            raise ValueError(f"{path}: is not of the layout that the tool writes (1)")
        analogs, states = numpy.array(file["analogs"]), numpy.array(file["states"])
        signals = {text(c["name"]): Signal(text(c["name"]), text(c["unit"]), analogs[:, k], float(c["primary"]), float(c["secondary"]))
                   for k, c in enumerate(file["analog_channels"][:])}
        points = {text(c["name"]): states[:, k] > 0 for k, c in enumerate(file["state_channels"][:])}
        return Record(numpy.array(file["time_s"]), signals, points, float(file.attrs["trigger_s"]), text(file.attrs["station"]),
                      float(file.attrs["frequency_Hz"]))


@dataclasses.dataclass
class Verdict:
    expectation: str
    expected: str
    measured: str
    margin: str
    passed: bool
    value: float       # what was measured, SI; None where nothing was
    left: float        # of the tolerance: 1 in its middle, 0 at its edge; None where that says nothing


@dataclasses.dataclass
class Trial:
    number: int
    sweep: str
    name: str
    fields: dict       # "fault.at" to "5 %": what the sweep varies
    passed: bool
    failure: str
    fault_current: float
    record: str
    verdicts: list = dataclasses.field(default_factory=list)


def results(path):
    """All trials of a programme, by its folder or its results.sqlite."""
    path = pathlib.Path(path)
    if path.is_dir():
        path = path / "results.sqlite"
    if not path.exists():
        raise FileNotFoundError(f"{path} is not there; `zavrek programme` writes it")
    with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as database:
        trials = {row[0]: Trial(row[0], row[1], row[2], dict(json.loads(row[3])), bool(row[4]), row[5], row[6], row[7]) for row in database.execute(
            "SELECT number, sweep, name, fields, passed, failure, fault_current_A, record FROM trial ORDER BY number")}
        for number, *rest in database.execute(
                "SELECT trial, expectation, expected, measured, margin, passed, value, left_share FROM verdict ORDER BY trial, row"):
            if number in trials:
                trials[number].verdicts.append(Verdict(*rest[:4], bool(rest[4]), *rest[5:]))
    database.close()
    return list(trials.values())
