#!/usr/bin/env python3
"""Filters and alternatives: parcels with events, texts in several languages, and attributes in a list of pairs."""
import pathlib, sys; sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from feedkit import *

KINDS = ["received", "sorted", "loaded", "delivered", "note"]


def event(rng):
    made = {"kind": rng.choice(KINDS), "at": moment(rng), "by": name(rng)}
    made["port" if rng.random() < .7 else "harbour"] = name(rng, 1)
    if rng.random() < .05:
        made["void"] = True
    return made


def parcel(rng, number, *_):
    attributes = [{"name": "weight", "value": "%d.%d" % (rng.randint(0, 30), rng.randint(0, 9))}, {"name": "colour", "value": rng.choice(["red", "blue"])},
                  {"name": "insured", "value": rng.choice(["yes", "no"])}]
    rng.shuffle(attributes)
    made = {"no": number + 1, "attributes": attributes,
            "texts": [{"lang": lang, "text": words(rng, 2, 6)} for lang in rng.sample(["en", "fo", "da"], rng.randint(1, 3))],
            "events": [event(rng) for _ in range(rng.randint(0, 6))]}
    if rng.random() < .6:
        made["receiver"] = {"name": name(rng, 3)}
    else:
        made["receiverName"] = name(rng, 3)
    return made


if __name__ == "__main__":
    write(options(__doc__), lambda n: '{"page":%d,"parcels":[' % n, "]}", parcel, lambda rng: rng.randint(1, 8), encoder())
