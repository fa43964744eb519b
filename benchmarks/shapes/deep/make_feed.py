#!/usr/bin/env python3
"""Deep nesting, with nulls and missing objects on the way: buoys and what they measure."""
import pathlib, sys; sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from feedkit import *


def gauge(rng):
    if rng.random() < .1:
        return None
    return {"unit": "m", "last": {"value": round(rng.random() * 9, 2), "at": moment(rng), "by": {"sensor": {"no": rng.randint(1, 99), "kind": rng.choice(["float", "radar"])}}}}


def buoy(rng, number, *_):
    return {
        "head": {"id": {"value": number + 1, "scheme": "M"}, "name": {"long": name(rng, 3), "short": name(rng, 1)}},
        "place": {"point": {"lat": round(rng.uniform(-60, 60), 5), "lon": round(rng.uniform(-60, 60), 5)}} if rng.random() < .95 else None,
        "water": {"level": {"now": gauge(rng), "tide": {"next": {"high": {"at": moment(rng), "height": str(round(rng.random() * 6, 1))}}}},
                  "note": {"texts": {"en": words(rng, 3, 9)}}},
        "crew": {"visits": {"done": [{"who": {"name": {"last": name(rng)}}, "when": {"day": day(rng)}} for _ in range(rng.randint(0, 3))]}},
    }


if __name__ == "__main__":
    write(options(__doc__), lambda n: '{"answer":{"page":%d,"data":{"buoys":{"all":[' % n, "]}}}}", buoy, lambda rng: rng.randint(1, 8), encoder())
