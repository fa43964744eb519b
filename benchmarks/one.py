"""Time `mukret.extract_one` on a small response: three rows, thirteen values.

    python benchmarks/one.py [--runs 2000]

Prints the median of five rounds, in microseconds a call, for a parsed object and for bytes.
"""

from __future__ import annotations

import argparse
import json
import statistics
import time
from typing import Any

import mukret
from mukret.rules import parse_rules

RULES = """
mukret: 1
enums: {state: {values: {boarding: {}, departed: {accept: [DEP]}}}}
tables:
  ports:
    rows: "$.ports[*]"
    key: [code]
    fields:
      code: {at: $.code, required: true}
      name: $.name.en
      opened: {at: $.opened, type: date}
  sailings:
    within: ports
    rows: "$.sailings[*]"
    inherit: [code]
    fields:
      id: {at: $.id, type: integer, required: true}
      state: {at: $.state, type: state}
      departs: {at: $.departs, type: timestamp}
      fare: {at: $.fare, type: "decimal(9,2)", grouping: ","}
      twice: {compute: "2 * fare"}
"""
RESPONSE = {
    "ports": [
        {
            "code": "OTV",
            "name": {"en": "Otterwick"},
            "opened": "1904-05-02",
            "sailings": [
                {
                    "id": "1",
                    "state": "DEP",
                    "departs": "2031-04-01T10:22:00Z",
                    "fare": "1,204.50",
                },
                {
                    "id": "2",
                    "state": "boarding",
                    "departs": "2031-04-01T11:22:00Z",
                    "fare": "12",
                },
            ],
        }
    ]
}


def microseconds(document: Any, runs: int) -> float:
    """The median of five rounds, for one call."""
    rules = parse_rules(RULES)
    rounds = []
    for _ in range(5):
        begun = time.perf_counter()
        for _ in range(runs):
            mukret.extract_one(rules, document)
        rounds.append((time.perf_counter() - begun) / runs * 1e6)
    return statistics.median(rounds)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=2000)
    runs = parser.parse_args().runs
    for name, document in (
        ("a parsed object", RESPONSE),
        ("bytes", json.dumps(RESPONSE).encode()),
    ):
        print(f"{name}: {microseconds(document, runs):.0f} µs")


if __name__ == "__main__":
    main()
