"""A reader of COMTRADE records (IEC 60255-24:2013) that shares nothing with the library."""
import datetime
import struct

letters = {"BINARY": "h", "BINARY32": "i", "FLOAT32": "f"}


def rows_of(stem, encoding, analogs, digitals):
    if encoding == "ASCII":
        rows = [line.split(",") for line in open(f"{stem}.dat", newline="").read().split("\r\n") if line]
        return [([float(word) if word else None for word in row[2:2 + analogs]], [word == "1" for word in row[2 + analogs:]])
                for row in rows]
    layout = struct.Struct(f"<II{analogs}{letters[encoding]}{(digitals + 15) // 16}H")
    missing = {"BINARY": -2**15, "BINARY32": -2**31}.get(encoding)
    rows = []
    for row in layout.iter_unpack(open(f"{stem}.dat", "rb").read()):
        words = row[2 + analogs:]
        rows.append(([None if value == missing or value != value else value for value in row[2:2 + analogs]],
                     [words[k // 16] >> k % 16 & 1 == 1 for k in range(digitals)]))
    return rows


def read(stem):
    lines = open(f"{stem}.cfg", newline="").read().split("\r\n")
    analogs, digitals = (int(word[:-1]) for word in lines[1].split(",")[1:])
    channels = [line.split(",") for line in lines[2:2 + analogs]]
    flags = [line.split(",")[1] for line in lines[2 + analogs:2 + analogs + digitals]]
    rest = lines[2 + analogs + digitals:]
    rate, samples = rest[2].split(",")
    parse = lambda text: datetime.datetime.strptime(text, "%d/%m/%Y,%H:%M:%S.%f")
    trigger = (parse(rest[4]) - parse(rest[3])).total_seconds()
    assert int(rest[1]) == 1
    rows = rows_of(stem, rest[5], analogs, digitals)
    assert len(rows) == int(samples)
    return {
        "rate": float(rate), "trigger": trigger, "encoding": rest[5],
        "analog": {c[1]: [None if row[0][k] is None else float(c[5]) * row[0][k] + float(c[6]) for row in rows]
                   for k, c in enumerate(channels)},
        "digital": {name: [row[1][k] for row in rows] for k, name in enumerate(flags)},
    }
