"""Typed expressions over whole columns, by Arrow's kernels.

The meaning is that of `mukret.expressions.evaluate`, row by row. An error belongs to its row alone:
where a kernel can't go on because of some rows, those are taken out first, or that one operation is
done row by row.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import any_true, row_mask, true_rows, with_values
from mukret.columns.read import Column, Failures, column_of, read_strings
from mukret.columns.types import nulls, repeated, value_type, written
from mukret.expressions import families
from mukret.expressions.evaluate import arithmetic, as_number, call, negated, read_text
from mukret.expressions.functions import FUNCTIONS
from mukret.expressions.likeness import is_like, like_pattern
from mukret.expressions.temporal import at_zone, extracted, temporal
from mukret.expressions.tree import (
    NOW,
    Aggregate,
    Arithmetic,
    AtZone,
    Binary,
    Case,
    Coalesce,
    Comparison,
    Concatenation,
    Constant,
    Conversion,
    EnumAttribute,
    Expression,
    Extraction,
    FieldValue,
    FunctionCall,
    Inversion,
    Like,
    Logical,
    Negation,
    Now,
    NullTest,
    Temporal,
)
from mukret.expressions.values import Value, division_by_zero, overflow
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Float,
    Integer,
    Json,
    ReadingOptions,
    Text,
    Timestamp,
    TypeSpec,
    ValueType,
)
from mukret.types.json import json_as_text
from mukret.types.numbers import MAX_DIGITS

Columns = Mapping[str, pa.Array]


def evaluate_column(node: Expression, columns: Columns, count: int) -> Column:
    """The values of an expression for all rows; `columns` holds an array of `count` values for each
    field.
    """
    column = _Evaluator(columns, count).column(node)
    # A failed operand counts as null on the way, and some operators make a value of that
    # (IS NULL, FALSE AND null).
    column.array = with_values(column.array, dict.fromkeys(column.failures))
    return column


class _Evaluator:
    def __init__(self, columns: Columns, count: int) -> None:
        self.columns = columns
        self.count = count

    def column(self, node: Expression) -> Column:  # noqa: C901  # a case for each kind of node
        match node:
            case Constant():
                return Column(repeated(node.value, node.type, self.count))
            case FieldValue():
                return Column(self.columns[node.name])
            case EnumAttribute():
                return Column(self.attribute(node))
            case Arithmetic():
                return self.arithmetic(node)
            case Temporal():
                return self.temporal(node)
            case Concatenation():
                return self.binary(
                    node,
                    lambda left, right: pc.binary_join_element_wise(left, right, ""),
                )
            case Comparison():
                return self.binary(
                    node, lambda left, right: compared(node, left, right)
                )
            case Logical():
                kernel = pc.or_kleene if node.operator == "OR" else pc.and_kleene
                return self.binary(node, kernel)
            case Negation():
                return self.negation(node)
            case Inversion():
                return self.unary(node.operand, pc.invert)
            case NullTest():
                return self.unary(node.operand, pc.is_null)
            case Conversion():
                return self.conversion(node)
            case FunctionCall():
                return self.call(node)
            case Like():
                return self.like(node)
            case Extraction():
                return self.extraction(node)
            case AtZone():
                return self.by_value(
                    self.column(node.operand),
                    node.type,
                    lambda value: at_zone(value, node.zone),
                )
            case Now():
                return Column(repeated(self.columns[NOW], node.type, self.count))
            case Aggregate():
                aggregated = self.columns[node.key]
                return Column(aggregated.array, dict(aggregated.failures))
            case Case():
                return self.case(node)
            case Coalesce():
                return self.coalesce(node)
        raise AssertionError(node)

    # ---- simple ones

    def unary(
        self, operand: Expression, kernel: Callable[[pa.Array], pa.Array]
    ) -> Column:
        column = self.column(operand)
        return Column(kernel(column.array), column.failures)

    def binary(
        self, node: Binary, kernel: Callable[[pa.Array, pa.Array], pa.Array]
    ) -> Column:
        left, right = self.column(node.left), self.column(node.right)
        return Column(
            kernel(left.array, right.array), {**right.failures, **left.failures}
        )

    def attribute(self, node: EnumAttribute) -> pa.Array:
        enum = node.enum
        positions = pc.index_in(
            self.columns[node.name], value_set=pa.array(enum.names, pa.string())
        )
        attributes = [enum.attribute(name, node.attribute) for name in enum.names]
        return pa.array(attributes, value_type(node.type)).take(positions)

    # ---- arithmetic

    def arithmetic(self, node: Arithmetic) -> Column:
        left, right = self.column(node.left), self.column(node.right)
        failures: Failures = {**right.failures, **left.failures}
        divisor = right.array
        if node.operator == "/":
            divisor = self.without_zeros(left.array, divisor, failures)
        # A kernel fails as a whole; which row is to blame only the plain way tells.
        array = calculated(node, left.array, divisor)
        if array is None:
            return self.row_by_row(node, left.array, divisor, failures)
        if isinstance(node.type, Float):
            array = self.finite(array, failures)
        return Column(array, failures)

    def without_zeros(
        self, left: pa.Array, divisor: pa.Array, failures: Failures
    ) -> pa.Array:
        """The divisor with its zeros as null; they are noted,
        unless the dividend is null anyway.
        """
        zero = pc.fill_null(pc.equal(divisor, pa.scalar("0").cast(divisor.type)), False)
        for row in true_rows(pc.and_(zero, pc.is_valid(left))):
            failures.setdefault(row, division_by_zero())
        return pc.if_else(zero, pa.scalar(None, divisor.type), divisor)

    def finite(self, array: pa.Array, failures: Failures) -> pa.Array:
        wrong = pc.fill_null(pc.invert(pc.is_finite(array)), False)
        for row in true_rows(wrong):
            failures.setdefault(row, overflow("a double can hold"))
        return pc.if_else(wrong, pa.scalar(None, array.type), array)

    def row_by_row(
        self,
        node: Arithmetic,
        left: pa.Array,
        right: pa.Array,
        failures: Failures,
    ) -> Column:
        def result(operands: tuple[Value, Value]) -> Value:
            a, b = operands
            return None if a is None or b is None else arithmetic(node, a, b)

        # What was wrong with an operand is told rather than what became of it.
        rows = zip(left.to_pylist(), right.to_pylist(), strict=True)
        return column_of(result, rows, node.type, failures)

    def negation(self, node: Negation) -> Column:
        column = self.column(node.operand)
        try:
            return Column(pc.negate_checked(column.array), column.failures)
        except pa.ArrowInvalid:  # the smallest integer has no positive counterpart
            return self.each(column, node.type, lambda value: negated(node.type, value))

    def each(
        self,
        column: Column,
        kind: ValueType | None,
        function: Callable[[Value], object],
    ) -> Column:
        """A function applied to every value that is not null, one by one."""
        return column_of(
            lambda value: None if value is None else function(value),
            column.array.to_pylist(),
            kind,
            column.failures,
        )

    def by_value(
        self,
        column: Column,
        kind: ValueType | None,
        function: Callable[[Value], object],
    ) -> Column:
        """As `each`, but once for each different value: where a function costs more than to find
        them.
        """
        array = (
            column.array.combine_chunks()
            if isinstance(column.array, pa.ChunkedArray)
            else column.array
        )
        # A dictionary is made in one pass; a function of Python is called for each of its words
        # only.
        encoded = array.dictionary_encode()
        few = self.each(Column(encoded.dictionary), kind, function)
        failures = dict(column.failures)
        if few.failures:
            for row, index in enumerate(encoded.indices.to_pylist()):
                if index in few.failures:
                    failures.setdefault(row, few.failures[index])
        return Column(few.array.take(encoded.indices), failures)

    def together(
        self,
        kind: ValueType | None,
        columns: list[Column],
        function: Callable[..., object],
    ) -> Column:
        """A function applied to the values of each row."""
        failures: Failures = {}
        # Of several operands that failed the first one is told.
        for column in reversed(columns):
            failures.update(column.failures)
        rows = zip(*(column.array.to_pylist() for column in columns), strict=True)
        return column_of(lambda values: function(*values), rows, kind, failures)

    # ---- functions

    def call(self, node: FunctionCall) -> Column:
        columns = [self.column(argument) for argument in node.arguments]
        if FUNCTIONS[node.function].skips_nulls:
            return self.together(node.type, columns, lambda *values: call(node, values))
        # The kernel gives None for what it does not do exactly as SQL says.
        kernel = _KERNELS.get(node.function)
        if kernel is not None and len(columns) == 1:
            array = kernel(columns[0].array)
            if array is not None:
                return Column(array, columns[0].failures)
        others = node.arguments[1:]
        constants = [argument for argument in others if isinstance(argument, Constant)]
        # With all but the first the same in all rows, it is called once for each different value.
        if columns and len(constants) == len(others):
            rest = [constant.value for constant in constants]
            return self.by_value(
                columns[0], node.type, lambda value: call(node, [value, *rest])
            )
        return self.together(node.type, columns, lambda *values: call(node, values))

    def like(self, node: Like) -> Column:
        # Mostly a literal, which becomes one regular expression for all rows.
        pattern = node.right
        if isinstance(pattern, Constant) and isinstance(pattern.value, str):
            text = self.column(node.left)
            return Column(
                pc.match_substring_regex(
                    text.array, like_pattern(pattern.value, node.escape)
                ),
                text.failures,
            )

        def value(text: str | None, pattern: str | None) -> bool | None:
            return (
                None
                if text is None or pattern is None
                else is_like(text, pattern, node.escape)
            )

        return self.together(
            node.type, [self.column(node.left), self.column(node.right)], value
        )

    def extraction(self, node: Extraction) -> Column:
        column = self.column(node.operand)
        kernel = (
            # Kernels know timestamps; parts of durations are rare.
            _PARTS.get(node.part) if pa.types.is_timestamp(column.array.type) else None
        )
        if kernel is not None:
            return Column(
                kernel(column.array.cast(pa.timestamp("us"))).cast(pa.int64()),
                column.failures,
            )
        return self.by_value(
            column, node.type, lambda value: extracted(node.part, value)
        )

    def temporal(self, node: Temporal) -> Column:
        left, right = self.column(node.left), self.column(node.right)
        # The difference of two instants is one subtraction; everything else with dates is done
        # value by value.
        if (
            node.operator == "-"
            and pa.types.is_timestamp(left.array.type)
            and left.array.type == right.array.type
        ):
            return Column(
                pc.subtract(left.array, right.array),
                {**right.failures, **left.failures},
            )

        def value(a: object, b: object) -> object:
            return (
                None
                if a is None or b is None
                else temporal(node.operator, node.type, a, b)
            )

        return self.together(node.type, [left, right], value)

    # ---- conversion

    def conversion(self, node: Conversion) -> Column:
        column = self.column(node.operand)
        converted = self.converted(node, column.array)
        return Column(converted.array, {**converted.failures, **column.failures})

    def converted(self, node: Conversion, array: pa.Array) -> Column:
        source, target = node.operand.type, node.target.type
        assert source is not None
        if families.is_textual(source):
            # CAST takes texts as SQL does; a field with reading options as these say.
            strict = not node.lenient
            options = node.target.options if node.lenient else ReadingOptions()
            return read_strings(
                TypeSpec(target, options),
                array,
                lambda text: read_text(node, text),
                strict=strict,
            )
        match target:
            case Text() if isinstance(source, Json):
                return self.each(Column(array), target, json_as_text)
            case Text():
                return Column(written(array, source))
            case Float():
                return Column(as_floats(array, source))
            case Integer() | DecimalType():
                return self.number(node, array, source)
            case Datetime() if isinstance(source, Date):
                return Column(array.cast(pa.timestamp("us")))
            case Date() if isinstance(source, Timestamp | Datetime):
                return Column(
                    pc.floor_temporal(array.cast(pa.timestamp("us")), unit="day").cast(
                        pa.date32()
                    )
                )
        return Column(array)

    def number(self, node: Conversion, array: pa.Array, source: ValueType) -> Column:
        """To integer or decimal, exactly: by a cast that checks, and where that refuses, value by
        value.
        """
        if array.type == value_type(node.target.type):
            return Column(array)
        if _never_wraps(source, node.target.type):
            try:
                return Column(array.cast(value_type(node.target.type)))
            # One value that does not fit refuses the whole column; which one it is, the slow way
            # tells.
            except pa.ArrowInvalid:
                pass
        return self.each(
            Column(array), node.target.type, lambda value: as_number(node.target, value)
        )

    # ---- branches

    def case(self, node: Case) -> Column:
        result = nulls(node.type, self.count)
        failures: Failures = {}
        # Rows that no condition has taken yet: a branch counts for these alone, and so do its
        # failures (SQL evaluates no other).
        open_rows = repeated(True, Boolean(), self.count)
        for condition, branch in node.branches:
            asked = self.column(condition)
            open_rows = self.closed(open_rows, asked.failures, failures)
            taken = pc.and_(open_rows, pc.fill_null(asked.array, False))
            result = self.taken(result, taken, branch, failures)
            open_rows = pc.and_not(open_rows, taken)
        return Column(self.taken(result, open_rows, node.otherwise, failures), failures)

    def coalesce(self, node: Coalesce) -> Column:
        result = nulls(node.type, self.count)
        failures: Failures = {}
        open_rows = repeated(True, Boolean(), self.count)
        for item in node.items:
            # An operand is not evaluated once all rows have a value: it may fail for some that
            # don't need it.
            if not any_true(open_rows):
                break
            result = self.taken(result, open_rows, item, failures)
            open_rows = self.closed(
                pc.and_(open_rows, pc.is_null(result)), failures, failures
            )
        return Column(result, failures)

    def taken(
        self, result: pa.Array, taken: pa.Array, branch: Expression, failures: Failures
    ) -> pa.Array:
        """The result with the branch's values where it is taken; its errors count there alone."""
        if not any_true(taken):
            return result
        column = self.column(branch)
        for row, bad in column.failures.items():
            if taken[row].as_py():
                failures[row] = bad
        return pc.if_else(taken, column.array, result)

    def closed(
        self, open_rows: pa.Array, failed: Failures, failures: Failures
    ) -> pa.Array:
        """The open rows without those that failed, which are noted."""
        rows = [row for row in failed if open_rows[row].as_py()]
        failures.update({row: failed[row] for row in rows})
        return pc.and_not(open_rows, row_mask(rows, self.count)) if rows else open_rows


def _absolute(array: pa.Array) -> pa.Array:
    try:
        return pc.abs_checked(array)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return None


# Functions of one argument for which a kernel gives the very same; None where it gives up.
_KERNELS: dict[str, Callable[[pa.Array], pa.Array]] = {
    "ABS": _absolute,
    "CHAR_LENGTH": lambda array: pc.utf8_length(array).cast(pa.int64()),
}

_PARTS: dict[str, Callable[[pa.Array], pa.Array]] = {
    "YEAR": pc.year,
    "QUARTER": pc.quarter,
    "MONTH": pc.month,
    "WEEK": pc.iso_week,
    "DAY": pc.day,
    "DOY": pc.day_of_year,
    "HOUR": pc.hour,
    "MINUTE": pc.minute,
}


def as_floats(array: pa.Array, source: ValueType) -> pa.Array:
    """The nearest doubles; decimals by way of their text, since Arrow's direct cast is off in the
    last digit.
    """
    if isinstance(source, DecimalType):
        return array.cast(pa.string()).cast(pa.float64())
    return array.cast(pa.float64(), safe=False)


def _never_wraps(source: ValueType, target: ValueType) -> bool:
    """Whether Arrow's cast gives the number or refuses: from one decimal to another it multiplies
    in 128 bits, which hold 38 digits, before it looks at the size.
    """
    if isinstance(source, DecimalType) and isinstance(target, DecimalType):
        return source.precision - source.scale + target.scale <= MAX_DIGITS
    return not isinstance(source, Float)


def calculated(node: Arithmetic, left: pa.Array, right: pa.Array) -> pa.Array:
    """The result by a kernel; None where no kernel is exact, or some row overflows."""
    kernels = {"+": pc.add_checked, "-": pc.subtract_checked, "*": pc.multiply_checked}
    if isinstance(node.type, Float):
        return {
            **kernels,
            "+": pc.add,
            "-": pc.subtract,
            "*": pc.multiply,
            "/": pc.divide,
        }[node.operator](left, right)
    # Division of decimals in Arrow cuts digits off: done row by row, exactly rounded.
    if node.operator == "/":
        return None
    try:
        if isinstance(node.type, Integer):
            return kernels[node.operator](left, right)
        if not _fits(node):
            return None
        return kernels[node.operator](_decimal(left), _decimal(right)).cast(
            value_type(node.type)
        )
    except pa.ArrowInvalid:
        return None


def _fits(node: Arithmetic) -> bool:
    """Whether the result surely has no more than 38 digits, by the types alone."""
    assert node.left.type is not None
    assert node.right.type is not None
    a, b = families.as_decimal(node.left.type), families.as_decimal(node.right.type)
    if node.operator == "*":
        return a.precision + b.precision < MAX_DIGITS
    scale = max(a.scale, b.scale)
    return max(a.precision - a.scale, b.precision - b.scale) + scale < MAX_DIGITS


def _decimal(array: pa.Array) -> pa.Array:
    return (
        array.cast(pa.decimal128(19, 0)) if pa.types.is_integer(array.type) else array
    )


def compared(node: Comparison, left: pa.Array, right: pa.Array) -> pa.Array:
    """A comparison of two arrays of one family, as booleans."""
    left, right = _aligned(left, right)
    kernel = {
        "=": pc.equal,
        "<>": pc.not_equal,
        "<": pc.less,
        "<=": pc.less_equal,
        ">": pc.greater,
        ">=": pc.greater_equal,
    }[node.operator]
    result = kernel(left, right)
    if not node.distinct:
        return result
    # IS [NOT] DISTINCT FROM: null is a value like others.
    both_null = pc.and_(pc.is_null(left), pc.is_null(right))
    return pc.if_else(
        both_null, node.operator == "=", pc.fill_null(result, node.operator == "<>")
    )


def _aligned(left: pa.Array, right: pa.Array) -> tuple[pa.Array, pa.Array]:
    """Decimals of one scale; booleans as numbers, since Arrow gives them no order."""
    if pa.types.is_boolean(left.type) and pa.types.is_boolean(right.type):
        return left.cast(pa.int8()), right.cast(pa.int8())
    if not (pa.types.is_decimal(left.type) or pa.types.is_decimal(right.type)):
        return (
            (left.cast(right.type), right)
            if pa.types.is_null(left.type)
            else (left, right)
        )
    scale = max(_scale(left.type), _scale(right.type))
    # Wide enough for every decimal that there can be, so that comparing never overflows.
    common = pa.decimal256(2 * MAX_DIGITS, scale)
    return tuple(array.cast(common) for array in (left, right))


def _scale(kind: pa.DataType) -> int:
    """Digits after the point of a decimal type; whole numbers have none."""
    return kind.scale if pa.types.is_decimal(kind) else 0
