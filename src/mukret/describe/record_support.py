"""What records in Python need beside their classes.

`python_records.py` copies out of here what the classes of some rules use, so that what is handed
over stands alone: only the standard library is used, and every name is private.
"""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Callable, Mapping
from decimal import Context, Decimal, Inexact, InvalidOperation
from enum import Enum
from typing import Any, TypeVar

_Value = TypeVar("_Value")
_DURATION = re.compile(
    r"(-?)P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)(?:\.(\d{1,6}))?S)?)?"
)


class _Number(Decimal):
    """A number that is written again digit for digit as it was read."""

    text: str

    def __new__(cls, text: str) -> _Number:
        made = super().__new__(cls, text)
        made.text = text
        return made


# ---- reading


def _whole_number(text: str) -> int | _Number:
    """No whole number of Python is -0."""
    return _Number(text) if text == "-0" else int(text)


def _members(
    record: str | bytes | Mapping[str, Any], known: set[str]
) -> Mapping[str, Any]:
    """The members of a record, as JSON text or already parsed."""
    members: Any = record
    if isinstance(record, str | bytes):
        # Digits stay as they were written: a float would change some of them.
        members = json.loads(record, parse_float=_Number, parse_int=_whole_number)
    if not isinstance(members, Mapping):
        raise ValueError(f"an object is wanted, not {members!r}")
    for name in members:
        if name not in known:
            raise ValueError(
                f"there is a member {name}, which these records do not have"
            )
    return members


def _read(
    members: Mapping[str, Any], name: str, kind: Callable[[Any], _Value]
) -> _Value:
    """A member that is never null."""
    if name not in members:
        raise ValueError(
            f"there is no member {name} (tables within others are members with --nested)"
        )
    try:
        return kind(members[name])
    except (TypeError, ValueError, ArithmeticError) as error:
        raise ValueError(f"{name}: {error}") from None


def _read_or_null(
    members: Mapping[str, Any], name: str, kind: Callable[[Any], _Value]
) -> _Value | None:
    if name in members and members[name] is None:
        return None
    return _read(members, name, kind)


def _list_of(kind: Callable[[Any], _Value]) -> Callable[[Any], list[_Value]]:
    def read(value: Any) -> list[_Value]:
        if not isinstance(value, list):
            raise ValueError(f"an array is wanted, not {value!r}")
        return [kind(element) for element in value]

    return read


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"a text is wanted, not {value!r}")
    return value


def _integer(value: Any) -> int:
    if not isinstance(value, int) or isinstance(value, bool):
        raise ValueError(f"a whole number is wanted, not {value!r}")
    return value


def _decimal_of(digits: int) -> Callable[[Any], Decimal]:
    """Reads decimals with so many digits after the point; what a parser made a float of is the
    number that it shows.
    """
    unit = Decimal(1).scaleb(-digits)
    exact = Context(prec=60, traps=[InvalidOperation, Inexact])

    def read(value: Any) -> Decimal:
        number = value if isinstance(value, Decimal) else Decimal(repr(value))
        return number.quantize(unit, context=exact)

    return read


def _float(value: Any) -> float:
    return (
        float(value) if isinstance(value, Decimal | float) else float(_integer(value))
    )


def _boolean(value: Any) -> bool:
    if not isinstance(value, bool):
        raise ValueError(f"true or false is wanted, not {value!r}")
    return value


def _anything(value: Any) -> Any:
    return value


def _duration(value: Any) -> dt.timedelta:
    match = _DURATION.fullmatch(_text(value))
    if match is None:
        raise ValueError(f"a duration is wanted, not {value!r}")
    days, hours, minutes, seconds = (int(part or 0) for part in match.groups()[1:5])
    fraction = int((match[6] or "").ljust(6, "0"))
    span = dt.timedelta(days, seconds, fraction, minutes=minutes, hours=hours)
    return -span if match[1] else span


# ---- writing


def _object(members: Mapping[str, object]) -> str:
    return (
        "{"
        + ",".join(f"{_json(name)}:{_json(value)}" for name, value in members.items())
        + "}"
    )


def _json(value: Any) -> str:
    """JSON text, in the form in which these records are delivered."""
    if hasattr(value, "to_json"):
        return str(value.to_json())
    if isinstance(value, Enum):
        return _json(value.value)
    if isinstance(value, list):
        return "[" + ",".join(map(_json, value)) + "]"
    if isinstance(value, Mapping):
        return _object(value)
    # Byte for byte what was read, for those who compare files.
    if isinstance(value, Decimal):
        return value.text if isinstance(value, _Number) else format(value, "f")
    if isinstance(value, float):
        return _float_text(value)
    if isinstance(value, dt.timedelta):
        return f'"{_duration_text(value)}"'
    if isinstance(value, dt.date | dt.time):
        return f'"{_moment_text(value)}"'
    return json.dumps(value, ensure_ascii=False)


def _float_text(number: float) -> str:
    """The shortest text that reads back as the same number, without a fraction of nought, and with
    an exponent only for the very large and the very small.
    """
    text = repr(number)
    mantissa, e, exponent = text.partition("e")
    if not e:
        return text.removesuffix(".0")
    if int(exponent) in (-5, -6):
        return format(Decimal(text), "f")
    return f"{mantissa}e{int(exponent):+d}"


def _moment_text(moment: dt.date | dt.time) -> str:
    """ISO 8601; instants in UTC with a Z; no more digits of a second than it has."""
    if not isinstance(moment, dt.datetime | dt.time):
        return moment.isoformat()
    zone = ""
    if isinstance(moment, dt.datetime) and moment.tzinfo is not None:
        moment = moment.astimezone(dt.UTC).replace(tzinfo=None)
        zone = "Z"
    text = moment.isoformat()
    return (text.rstrip("0") if moment.microsecond else text) + zone


def _duration_text(span: dt.timedelta) -> str:
    """ISO 8601, in days, hours, minutes and seconds."""
    sign = "-" if span < dt.timedelta(0) else ""
    span = abs(span)
    minutes, seconds = divmod(span.seconds, 60)
    hours, minutes = divmod(minutes, 60)
    # Without noughts at the end, as deliveries have them.
    fraction = f".{span.microseconds:06}".rstrip("0") if span.microseconds else ""
    date = f"{span.days}D" if span.days else ""
    time = f"{hours}H" if hours else ""
    time += f"{minutes}M" if minutes else ""
    time += f"{seconds}{fraction}S" if seconds or fraction else ""
    if not date and not time:
        return "PT0S"
    return f"{sign}P{date}{'T' + time if time else ''}"
