"""How long typing a column of texts takes, as a ratio to Arrow's own cast of the same texts.

    python benchmarks/typing_columns.py [--rows 1000000] [--runs 7]

Clean texts, and the same with 1% that the type can't take (Arrow's cast would refuse the column, so
its time is that of the clean ones). Only the ratios carry over to other machines.
"""

from __future__ import annotations

import argparse
import random
import statistics
import time
from collections.abc import Callable
from typing import Any

import pyarrow as pa

from mukret.columns.arrow import UTC
from mukret.columns.read import read_column
from mukret.columns.types import value_type
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Enum,
    EnumValue,
    Float,
    Integer,
    Text,
    Timestamp,
    TypeSpec,
    ValueType,
)

CHOSEN = random.Random(20310401)
STATE = Enum(
    "state", (EnumValue("boarding", ("BRD",)), EnumValue("departed", ("DEP",)))
)
MAKERS: dict[str, tuple[ValueType, Callable[[], str]]] = {
    "text": (Text(), lambda: f"berth {CHOSEN.randrange(10**6)}"),
    "integer": (Integer(), lambda: str(CHOSEN.randrange(10**9))),
    "decimal(12,2)": (
        DecimalType(12, 2),
        lambda: f"{CHOSEN.randrange(10**7) / 100:.2f}",
    ),
    "float": (Float(), lambda: f"{CHOSEN.uniform(-90, 90):.4f}"),
    "boolean": (Boolean(), lambda: CHOSEN.choice(["true", "false"])),
    "date": (
        Date(),
        lambda: f"2031-{CHOSEN.randint(1, 12):02d}-{CHOSEN.randint(1, 28):02d}",
    ),
    "datetime": (
        Datetime(),
        lambda: (
            f"2031-{CHOSEN.randint(1, 12):02d}-{CHOSEN.randint(1, 28):02d}T10:22:07"
        ),
    ),
    "timestamp": (
        Timestamp(),
        lambda: (
            f"2031-{CHOSEN.randint(1, 12):02d}-{CHOSEN.randint(1, 28):02d}T10:22:07Z"
        ),
    ),
    "enum": (STATE, lambda: CHOSEN.choice(["BRD", "DEP", "departed"])),
}
BAD = "ask crew"


def arrow_cast(kind: ValueType, texts: list[str]) -> object:
    """What Arrow alone does: a column of strings, cast.

    There is no cast to an enum; a dictionary stands for it.
    """
    strings = pa.array(texts, pa.string())
    if isinstance(kind, Enum):
        return strings.dictionary_encode()
    return strings.cast(UTC if isinstance(kind, Timestamp) else value_type(kind))


def seconds(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def measured(
    kind: ValueType, make: Callable[[], str], rows: int, runs: int
) -> tuple[float, float, float]:
    """Median seconds of the cast alone, of typing clean texts, and of typing texts of which 1% is
    bad, in turn.
    """
    clean = [make() for _ in range(rows)]
    dirty = [BAD if number % 100 == 0 else text for number, text in enumerate(clean)]
    reading = TypeSpec(kind)
    times: list[Any] = [
        (
            seconds(lambda: arrow_cast(kind, clean)),
            seconds(lambda: read_column(reading, clean)),
            seconds(lambda: read_column(reading, dirty)),
        )
        for _ in range(runs)
    ]
    alone, typed, spoiled = (
        statistics.median(column) for column in zip(*times, strict=True)
    )
    return alone, typed, spoiled


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__.splitlines()[0] if __doc__ else ""
    )
    options.add_argument("--rows", type=int, default=1_000_000)
    options.add_argument("--runs", type=int, default=7)
    chosen = options.parse_args()
    print(
        "| type | Arrow's cast alone, s | clean, times as long | 1% bad, times as long |"
    )
    print("| --- | --- | --- | --- |")
    for name, (kind, make) in MAKERS.items():
        alone, typed, spoiled = measured(kind, make, chosen.rows, chosen.runs)
        print(
            f"| {name} | {alone:.3f} | {typed / alone:.2f} | {spoiled / alone:.2f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
