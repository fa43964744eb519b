"""`integer`, `decimal(p,s)` and `float`: JSON numbers and numeric strings,
exactly or not at all.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from decimal import (
    MAX_EMAX,
    MIN_EMIN,
    ROUND_HALF_EVEN,
    ROUND_HALF_UP,
    Context,
    Decimal,
    InvalidOperation,
)
from functools import lru_cache

from mukret.codes import Code
from mukret.types.base import (
    COMMON_OPTIONS,
    WHITE_SPACE,
    Bad,
    Elsewhere,
    ReadingOptions,
    ValueType,
)
from mukret.values import JsonValue, Number

INT64_MIN, INT64_MAX = -(2**63), 2**63 - 1
MAX_DIGITS = 38
# A longer numeric text is out of every type's range; the limit bounds the work.
LONGEST = 1000

EXACT = Context(
    prec=3 * LONGEST, Emax=MAX_EMAX, Emin=MIN_EMIN, traps=[InvalidOperation]
)
ROUNDINGS = {"half-even": ROUND_HALF_EVEN, "half-up": ROUND_HALF_UP}
NUMBER_OPTIONS = COMMON_OPTIONS | {"grouping", "point", "percent", "accounting"}


@lru_cache(maxsize=64)
def numeric_pattern(grouping: str | None, point: str) -> str:
    """The regular expression of a numeric string (RE2 and Python read it alike).

    Grouping marks stand where they belong (threes, or India's twos before a last three), so that
    `12,50` under `grouping: ","` is refused instead of becoming 1250.
    """
    whole = "[0-9]+"
    if grouping:
        mark = re.escape(grouping)
        threes = f"[0-9]{{1,3}}(?:{mark}[0-9]{{3}})+"
        twos = f"[0-9]{{1,2}}(?:{mark}[0-9]{{2}})+{mark}[0-9]{{3}}"
        whole = f"(?:[0-9]+|{threes}|{twos})"
    dot = re.escape(point)
    return f"[+-]?(?:{whole}(?:{dot}[0-9]*)?|{dot}[0-9]+)(?:[eE][+-]?[0-9]+)?"


@lru_cache(maxsize=64)
def _compiled(grouping: str | None, point: str) -> re.Pattern[str]:
    return re.compile(numeric_pattern(grouping, point))


def plain_number(value: JsonValue, options: ReadingOptions, example: str) -> str:
    """The number's digits as a text that `Decimal` and `float` read, percent not yet applied.

    Raises Bad.
    """
    kind = type(value)
    if kind is int or kind is Number:
        return str(value)
    if kind is not str:
        raise Bad(Code.WRONG_KIND, f"a number or a numeric string, such as {example}")
    text, negative = _without_marks_around(value, options)
    fits = _compiled(options.grouping, options.point).fullmatch(text)
    # `(-5)` could be either.
    if not fits or (negative and text[0] in "+-"):
        raise Bad(Code.NOT_A_NUMBER, f"a number, such as {example}")
    if options.grouping:
        text = text.replace(options.grouping, "")
    if options.point != ".":
        text = text.replace(options.point, ".")
    return f"-{text}" if negative else text


def _without_marks_around(text: str, options: ReadingOptions) -> tuple[str, bool]:
    """The text without the parentheses of accounting and without its percent sign; whether the
    parentheses were there, which make it negative.
    """
    negative = options.accounting and text.startswith("(") and text.endswith(")")
    if negative:
        text = text[1:-1].strip(WHITE_SPACE)
    if options.percent and text.endswith("%"):
        text = text[:-1].strip(WHITE_SPACE)
    return text, negative


def decimal_of(text: str, *, shift: int = 0) -> Decimal:
    """The number that a numeric text says, times ten to the power of `shift`, exactly.

    Raises Bad for one that is too long, or whose exponent is beyond all bounds.
    """
    if len(text) > LONGEST:
        raise Bad(Code.OUT_OF_RANGE, f"a number of at most {LONGEST} characters")
    try:
        number = Decimal(text)
        return number.scaleb(shift, EXACT) if shift else number
    except InvalidOperation:
        raise Bad(Code.OUT_OF_RANGE, "a number with a smaller exponent") from None


def exact_number(value: JsonValue, options: ReadingOptions, example: str) -> Decimal:
    """The number as it is, as a Decimal of any precision, percent applied. Raises Bad."""
    return decimal_of(
        plain_number(value, options, example), shift=-2 if options.percent else 0
    )


def rounded(number: Decimal, scale: int, rounding: str | None) -> Decimal | None:
    """The number with `scale` fraction digits; None if digits would be lost and no rounding is
    allowed.

    The caller has looked at the size: `number.adjusted()` must be small.
    """
    result = number.quantize(
        Decimal((0, (1,), -scale)), ROUNDINGS[rounding or "half-even"], EXACT
    )
    if rounding is None and result != number:
        return None
    return (
        result if result else result.copy_abs()
    )  # no negative zero: columns of decimals have none


@dataclass(frozen=True)
class Integer(ValueType):
    """64-bit whole numbers."""

    @property
    def name(self) -> str:
        return "integer"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            "long",
            "bigint",
            "INTEGER",
            {"type": "integer", "minimum": INT64_MIN, "maximum": INT64_MAX},
        )

    @property
    def is_number(self) -> bool:
        return True

    @property
    def accepts_options(self) -> frozenset[str]:
        return NUMBER_OPTIONS | {"round"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> int:
        if type(value) is int and not options.percent:
            return in_int64(value)
        number = exact_number(value, options, "12")
        # Before it is made an integer: an exponent may say a billion digits.
        if number and number.adjusted() > 19:
            raise _outside_int64()
        whole = rounded(number, 0, options.round)
        if whole is None:
            raise Bad(
                Code.NOT_WHOLE, "a whole number, such as 12 (or say round: half-even)"
            )
        return in_int64(int(whole))


def in_int64(number: int) -> int:
    if not INT64_MIN <= number <= INT64_MAX:
        raise _outside_int64()
    return number


def _outside_int64() -> Bad:
    return Bad(Code.OUT_OF_RANGE, f"a whole number between {INT64_MIN} and {INT64_MAX}")


@dataclass(frozen=True)
class DecimalType(ValueType):
    """Exact numbers of `precision` digits, `scale` of them after the point."""

    precision: int
    scale: int

    @property
    def name(self) -> str:
        return f"decimal({self.precision},{self.scale})"

    @property
    def elsewhere(self) -> Elsewhere:
        digits = f"0.{'0' * self.scale}" if self.scale else "0"
        # JSON Schema knows no digits, only bounds.
        bound = 10 ** (self.precision - self.scale)
        return Elsewhere(
            {"base": "decimal", "format": digits},
            f"numeric({self.precision},{self.scale})",
            json_schema={
                "type": "number",
                "exclusiveMinimum": -bound,
                "exclusiveMaximum": bound,
            },
        )

    @property
    def is_number(self) -> bool:
        return True

    @property
    def accepts_options(self) -> frozenset[str]:
        return NUMBER_OPTIONS | {"round"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> Decimal:
        return self.fitted(exact_number(value, options, "1204.50"), options.round)

    def fitted(self, number: Decimal, rounding: str | None) -> Decimal:
        """The number in this type, exactly unless `rounding` says otherwise. Raises Bad."""
        # Before rounding, which would take memory for all digits of a huge exponent.
        if number and number.adjusted() >= self.precision - self.scale + 1:
            raise self._outside()
        result = rounded(number, self.scale, rounding)
        if result is None:
            raise Bad(
                Code.TOO_MANY_DIGITS,
                f"at most {self.scale} digits after the point (or say round: half-even)",
            )
        # Rounding may add a digit: 99.995.
        if result and result.adjusted() >= self.precision - self.scale:
            raise self._outside()
        return result

    def _outside(self) -> Bad:
        return Bad(
            Code.OUT_OF_RANGE,
            f"at most {self.precision - self.scale} digits before the point",
        )

    def written(self, value: object) -> str:
        return format(value, "f")


@dataclass(frozen=True)
class Float(ValueType):
    """Binary floating point of 64 bits (IEEE 754): the double nearest to what was said."""

    @property
    def name(self) -> str:
        return "float"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere("double", "double precision", "REAL", {"type": "number"})

    @property
    def is_number(self) -> bool:
        return True

    @property
    def accepts_options(self) -> frozenset[str]:
        return NUMBER_OPTIONS

    def convert(self, value: JsonValue, options: ReadingOptions) -> float:
        if options.percent:
            number = float(exact_number(value, options, "97.5%"))
        else:
            number = float(plain_number(value, options, "57.25"))
        # Python's float gives an infinity for it, without an error.
        if math.isinf(number):
            raise Bad(
                Code.OUT_OF_RANGE,
                "a number that a double can hold, up to about 1.8e308",
            )
        return number

    def written(self, value: object) -> str:
        return float_text(float(str(value)))


def float_text(number: float) -> str:
    """The shortest text that reads back as the same double: no fraction of nought, an exponent only
    for the very large (from 1e16) and the very small (below 1e-6).
    """
    text = repr(number)
    if text.endswith(".0"):
        return text[:-2]
    # Python writes e-05, JSON and databases e-5.
    mantissa, e, exponent = text.partition("e")
    if not e:
        return text
    return (
        format(Decimal(text), "f")
        if int(exponent) in (-5, -6)
        else f"{mantissa}e{int(exponent):+d}"
    )
