#!/usr/bin/env python3
"""Twenty typed columns: words, local times of a zone, numbers with marks, lists, expressions and a key: crossings."""
import pathlib, sys; sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from feedkit import *


def money(rng):
    return f"{rng.randint(0, 90000) + rng.random():,.2f}"


def crossing(rng, number, *_):
    return {
        "ref": f"X{number + 1:07d}", "state": rng.choice(["BRD", "departed", "Cancelled", "late"]), "open": rng.choice(["yes", "no", "Y", "N"]),
        "local": moment(rng, ""), "utc": moment(rng), "epoch": 1932964927000 + number * 1000, "day": day(rng),
        "clock": "%02d:%02d" % (rng.randint(0, 23), rng.randint(0, 59)), "takes": f"PT{rng.randint(1, 9)}H{rng.randint(0, 59)}M",
        "fare": money(rng), "dues": "%d,%02d" % (rng.randint(1, 99), rng.randint(0, 99)), "load": f"{rng.randint(0, 100)}%", "draught": f"{rng.random() * 9:.2f} m",
        "cars": str(rng.randint(0, 90)), "people": rng.randint(0, 900), "lat": round(rng.uniform(50, 60), 6), "lon": round(rng.uniform(-9, 9), 6),
        "tags": rng.sample(["night", "fast", "small", "old"], rng.randint(0, 3)), "decks": ";".join(str(rng.randint(1, 9)) for _ in range(rng.randint(1, 3))),
        "note": words(rng, 0, 8), "vessel": f"{name(rng)} {rng.choice(['I', 'II'])}",
    }


if __name__ == "__main__":
    write(options(__doc__), lambda n: '{"page":%d,"crossings":[' % n, "]}", crossing, lambda rng: rng.randint(1, 12), encoder())
