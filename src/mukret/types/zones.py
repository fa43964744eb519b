"""Time zones, from the `tzdata` package alone, so that a run gives the same instants on every
machine.
"""

from __future__ import annotations

import datetime as dt
import re
from functools import lru_cache
from zoneinfo import ZoneInfo

from mukret.codes import Code
from mukret.types.base import Bad

OFFSET = re.compile(r"([+-])([01][0-9]|2[0-3]):?([0-5][0-9])")
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_+-]*(?:/[A-Za-z0-9_+-]+)*")
MICROSECOND = dt.timedelta(microseconds=1)


@lru_cache(maxsize=256)
def zone(name: str) -> dt.tzinfo:
    """The time zone with an IANA name, or a fixed offset such as `+02:00`.

    Raises KeyError for an unknown one.
    """
    offset = OFFSET.fullmatch(name)
    if offset:
        sign = -1 if offset[1] == "-" else 1
        return dt.timezone(
            sign * dt.timedelta(hours=int(offset[2]), minutes=int(offset[3]))
        )
    if not _NAME.fullmatch(name):
        raise KeyError(name)
    from importlib import resources

    # Of the package, not of the system: two machines must read a local time alike.
    place = resources.files("tzdata").joinpath("zoneinfo", *name.split("/"))
    try:
        with place.open("rb") as file:
            return ZoneInfo.from_file(file, key=name)
    except (OSError, ValueError):
        raise KeyError(name) from None


@lru_cache(maxsize=1)
def zone_names() -> tuple[str, ...]:
    """All IANA names known."""
    from importlib import resources

    return tuple(resources.files("tzdata").joinpath("zones").read_text("utf-8").split())


def offset_micros(
    local: dt.datetime, where: dt.tzinfo, fold: str | None, name: str
) -> int:
    """Microseconds by which local time is ahead of UTC.

    Raises Bad where a local time is missing or occurs twice.
    """
    first = where.utcoffset(local.replace(tzinfo=where, fold=0))
    second = where.utcoffset(local.replace(tzinfo=where, fold=1))
    assert first is not None
    assert second is not None
    if first == second:
        return first // MICROSECOND
    # The clock jumps forward: by both readings the hour does not exist.
    if first < second:
        raise Bad(
            Code.LOCAL_TIME_MISSING,
            f"a local time that exists in {name} (the clock jumped over this one)",
        )
    if fold is None:
        raise Bad(
            Code.LOCAL_TIME_TWICE,
            f"a local time that occurs once in {name} (or say fold: first or second)",
        )
    return (first if fold == "first" else second) // MICROSECOND
