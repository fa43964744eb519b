"""Local times of a zone → instants, for whole columns.

Arrow reads zones from the system, which differs between machines and may be missing. So each
calendar day is asked once in Python: on nearly all days a zone has one offset, and the whole day is
shifted by it; times of other days are refused here and read one by one.
"""

from __future__ import annotations

import datetime as dt
from functools import lru_cache

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import UTC, any_true
from mukret.types.zones import MICROSECOND, zone

_EPOCH_DAY = dt.datetime(1970, 1, 1)


def to_utc(local: pa.Array, name: str, fold: str | None) -> tuple[pa.Array, pa.Array]:
    """Naive timestamps as instants, and a mask of the times that have to be looked
    at one by one.
    """
    micros = local.cast(pa.int64())
    # The offset of a zone is asked once a day, not once a value: it changes on few days, and those
    # are refused here.
    days = (
        pc.floor_temporal(local, unit="day")
        .cast(pa.date32())
        .cast(pa.int32())
        .dictionary_encode()
    )
    offsets = pa.array(
        [_offset_of_day(name, day) for day in days.dictionary.to_pylist()], pa.int64()
    )
    shift = offsets.take(days.indices)
    instants = pc.subtract(micros, shift).cast(UTC)
    refused = pc.and_(pc.is_valid(local), pc.is_null(shift))
    return instants, refused if any_true(refused) else None


@lru_cache(maxsize=100_000)
def _offset_of_day(name: str, day: int) -> int | None:
    """Microseconds by which local time is ahead of UTC on a day; None where that changes on the day
    or beside it.
    """
    where = zone(name)
    offsets = set()
    # Every hour up to the next midnight, both sides of a fold: if all agree, the day has one
    # offset.
    for hour in range(25):
        try:
            moment = (_EPOCH_DAY + dt.timedelta(days=day, hours=hour)).replace(
                tzinfo=where
            )
        except OverflowError:
            return None
        offsets |= {where.utcoffset(moment), where.utcoffset(moment.replace(fold=1))}
    if len(offsets) != 1:
        return None
    offset = offsets.pop()
    return offset // MICROSECOND if offset is not None else None
