"""Made-up feeds to time, and rules for them. The same arguments give the same bytes."""

from __future__ import annotations

import json
import random
import re
from datetime import date, timedelta
from pathlib import Path
from typing import Any

dump = json.JSONEncoder(separators=(",", ":")).encode

STATES = ["boarding", "Departed", "CANCELLED", "delayed "]
WRONG = [("fare", "ask crew"), ("state", "adrift"), ("arrives", "soon"), ("id", None)]

SAILINGS_RULES = """\
mukret: 1
enums:
  sailing_state: {values: {boarding: {}, departed: {}, cancelled: {}, delayed: {}}}
tables:
  ports:
    rows: "$.result.ports[*]"
    fields:
      port_code: {at: "$.code", type: text, required: true, keep: false}
  sailings:
    within: ports
    rows: "$.sailings[*]"
    inherit: [port_code]
    fields:
      sailing_no: {at: "$.id", type: integer, required: true}
      vessel: {at: "$.vessel.name", type: text}
      hull: {at: "$.vessel.hull", type: integer}
      state: {at: "$.state", type: sailing_state}
      departs_at: {at: "$.departs", type: timestamp, format: epoch-ms}
      arrives_at: {at: "$.arrives", type: timestamp}
      fare: {at: "$.fare", type: "decimal(12,2)", grouping: ","}
      load: {at: "$.load", type: float, percent: true}
      takings: {compute: "CAST(fare AS float) * load", type: float}
"""
KEYED_RULES = SAILINGS_RULES.replace(
    "    inherit: [port_code]", "    inherit: [port_code]\n    key: sailing_no"
)


def sailing(draw: random.Random, number: int, dirt: float) -> dict[str, Any]:
    state, departs = (
        draw.choice(STATES),
        1900000000000 + number * 60000 + draw.randrange(1000),
    )
    month, day, hour, minute = (
        draw.randint(1, 12),
        draw.randint(1, 28),
        draw.randint(0, 23),
        draw.randint(0, 59),
    )
    found = {
        "id": str(number),
        "vessel": {
            "name": f"MV Petrel {number % 7}",
            "hull": 9000000 + number % 7,
            "flags": ["a", "b", "c"],
        },
        "state": state,
        "departs": departs,
        "arrives": f"2031-{month:02}-{day:02}T{hour:02}:{minute:02}:07+02:00",
        "fare": f"{draw.randint(1, 9)},{draw.randint(0, 999):03}.{draw.randint(0, 99):02}",
        "load": f"{draw.randint(0, 100)}%",
        "remarks": {
            "en": "some remark that no rule reads",
            "fo": "another remark that no rule reads at all",
        },
        "fares": {"adult": "12.50", "child": "6.25"},
    }
    if draw.random() < dirt:
        name, value = draw.choice(WRONG)
        found[name] = value
    return found


def port(draw: random.Random, index: int, dirt: float) -> dict[str, Any]:
    return {
        "code": f"P{index % 400:03}",
        "name": f"Port of Nowhere {index % 400}",
        "location": {
            "lat": str(50 + index % 1000 / 100),
            "lon": str(index % 777 / 10),
            "elevation": None,
        },
        "contacts": [
            {"role": "master", "phone": "+00 1 2 3"},
            {"role": "duty", "phone": "+00 1 2 4"},
        ],
        "sailings": [
            sailing(draw, index * 10 + number, dirt)
            for number in range(draw.randint(2, 8))
        ],
    }


def sailings(
    path: Path, megabytes: float, *, dirt: float = 0.0, one_document: bool = False
) -> None:
    """Responses with one port each, a line each; or one response with all of them."""
    draw = random.Random(20310401)
    written = index = 0
    with open(path, "w", encoding="utf-8", newline="\n") as out:
        if one_document:
            meta = {"request_id": "r-1", "generated": "2031-04-01T10:00:00Z"}
            written += out.write(dump({"meta": meta, "result": {"ports": []}})[:-3])
        while written < megabytes * 1_000_000:
            body = port(draw, index, dirt)
            if one_document:
                written += out.write(("," if index else "") + dump(body))
            else:
                generated = f"2031-03-0{index % 9 + 1}T1{index % 10}:22:07+02:00"
                meta = {
                    "request_id": f"r-{index:08}",
                    "generated": generated,
                    "notes": "x" * 40,
                }
                written += out.write(
                    dump({"meta": meta, "result": {"ports": [body]}}) + "\n"
                )
            index += 1
        if one_document:
            out.write("]}}\n")


def repeated(path: Path, megabytes: float, files: list[Path]) -> None:
    """Timetables of a day, one to a line, again and again, as of ever later days and with sailings
    of their own.
    """
    days = {
        str(date(2031, 3, 28) + timedelta(days=n)): dump(json.loads(f.read_bytes()))
        for n, f in enumerate(files)
    }
    written = number = 0
    with open(path, "w", encoding="utf-8", newline="\n") as out:
        while written < megabytes * 1_000_000:
            day, text = list(days.items())[number % len(days)]
            text = text.replace(day, str(date(2031, 3, 28) + timedelta(days=number)))
            text = re.sub(r'("id":"|"ref":"B)(?=\d)', rf"\g<1>{number or ''}", text)
            written += out.write(text + "\n")
            number += 1
