"""A reader of ASCII COMTRADE records (IEC 60255-24:2013) that shares nothing with the library."""
import datetime


def read(stem):
    lines = open(f"{stem}.cfg", newline="").read().split("\r\n")
    analogs, digitals = (int(word[:-1]) for word in lines[1].split(",")[1:])
    channels = [line.split(",") for line in lines[2:2 + analogs]]
    flags = [line.split(",")[1] for line in lines[2 + analogs:2 + analogs + digitals]]
    rest = lines[2 + analogs + digitals:]
    rate, samples = rest[2].split(",")
    parse = lambda text: datetime.datetime.strptime(text, "%d/%m/%Y,%H:%M:%S.%f")
    trigger = (parse(rest[4]) - parse(rest[3])).total_seconds()
    assert rest[5] == "ASCII" and int(rest[1]) == 1
    rows = [line.split(",") for line in open(f"{stem}.dat", newline="").read().split("\r\n") if line]
    assert len(rows) == int(samples)
    return {
        "rate": float(rate), "trigger": trigger,
        "analog": {c[1]: [float(c[5]) * float(row[2 + k]) + float(c[6]) for row in rows] for k, c in enumerate(channels)},
        "digital": {name: [row[2 + analogs + k] == "1" for row in rows] for k, name in enumerate(flags)},
    }
