"""The logical expressions of filters (RFC 9535, sections 2.3.5 and 2.4), checked to be well-typed
as they are read.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import cast

from mukret.errors import PathSyntaxError
from mukret.paths.filters import (
    Argument,
    Both,
    Comparable,
    Doubt,
    Either,
    FilterCall,
    FilterComparison,
    Literally,
    Logical,
    Not,
    Operator,
    Query,
)
from mukret.paths.functions import FUNCTIONS, Function, FunctionType
from mukret.paths.query import Segment
from mukret.paths.regexps import PatternError, check_pattern
from mukret.paths.scanner import Scanner
from mukret.text import nearest, shortened
from mukret.values import JsonValue, Number, shown_text

_OPERATOR = re.compile(r"==|!=|<=|>=|<|>")
_NUMBER = re.compile(r"(-?(?:0|[1-9][0-9]*))(\.[0-9]+)?([eE][-+]?[0-9]+)?(?![0-9.eE+])")
_LOOSE_NUMBER = re.compile(r"[-+.0-9][-+.0-9A-Za-z]*")
_WORD = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_FUNCTION_NAME = re.compile(r"[a-z][a-z_0-9]*")
_CONSTANTS = {"true": True, "false": False, "null": None}
# How deeply parentheses, filters and calls may be nested in each other.
MOST_LEVELS = 40

_KINDS = {"value": "a value", "logical": "true or false", "nodes": "a path"}
Operand = Literally | Query | FilterCall | Logical


class FilterParser:
    """Reads from a scanner; `segments` reads the segments of a query there."""

    def __init__(
        self, scanner: Scanner, segments: Callable[[], tuple[Segment, ...]]
    ) -> None:
        self.scanner = scanner
        self.segments = segments
        self.level = 0
        self.doubts: list[Doubt] = []

    def fail(
        self, cause: str, hint: str | None = None, at: int | None = None
    ) -> PathSyntaxError:
        return self.scanner.fail(cause, hint, at)

    # ---- logical expressions

    def logical(self) -> Logical:
        self.level += 1
        if self.level > MOST_LEVELS:
            raise self.fail("nested too deeply", f"at most {MOST_LEVELS} levels")
        parts = self.joined(self.both, "||")
        self.level -= 1
        return parts[0] if len(parts) == 1 else Either(tuple(parts))

    def both(self) -> Logical:
        parts = self.joined(self.basic, "&&")
        return parts[0] if len(parts) == 1 else Both(tuple(parts))

    def joined(self, part: Callable[[], Logical], operator: str) -> list[Logical]:
        parts = [part()]
        while True:
            before = self.scanner.at
            self.scanner.blank()
            if not self.scanner.take(operator):
                self.no_word_operator()
                # White space that is followed by nothing belongs to what comes after.
                self.scanner.at = before
                return parts
            self.scanner.blank()
            parts.append(part())

    def no_word_operator(self) -> None:
        """Refuses `and` and `or`, which other languages write between conditions, with a hint; the
        grammar would only say that they can't stand there.
        """
        word = _WORD.match(self.scanner.text, self.scanner.at)
        meant = {"and": "&&", "or": "||"}.get(word.group().lower()) if word else None
        if word and meant:
            raise self.fail(f"{word.group()} is no operator", f"write {meant}")
        mark = self.scanner.character
        if mark and mark in "&|" and not self.scanner.peek(mark * 2):
            raise self.fail(f"a single {mark}", f"write {mark * 2}")

    def basic(self) -> Logical:
        scanner = self.scanner
        start = scanner.at
        if scanner.take("!"):
            scanner.blank()
            if scanner.peek("!"):
                raise self.fail("two ! in a row", "one is enough, or none")
            if scanner.peek("("):
                return Not(self.parenthesized())
            inner = scanner.at
            operand = self.operand()
            after = scanner.at
            if self.operator_follows():
                # `!@.a == 1` reads as two things: the grammar has neither.
                hint = f"write !({shortened(scanner.text[inner:after])} …)"
                raise self.fail("! before a comparison wants parentheses", hint, start)
            scanner.at = after
            return Not(self.tested(operand, inner))
        if scanner.peek("("):
            return self.parenthesized()
        left = self.operand()
        after = scanner.at
        if not self.operator_follows():
            scanner.at = after
            return self.tested(left, start)
        operator = cast(re.Match[str], scanner.match(_OPERATOR)).group()
        scanner.blank()
        right_start = scanner.at
        right = self.operand()
        return FilterComparison(
            self.compared(left, start, after),
            cast(Operator, operator),
            self.compared(right, right_start, scanner.at),
        )

    def operator_follows(self) -> bool:
        self.scanner.blank()
        if self.scanner.character == "=" and not self.scanner.peek("=="):
            raise self.fail("a single = compares nothing", "write ==")
        if self.scanner.peek("==="):
            raise self.fail("three =", "write ==")
        return bool(_OPERATOR.match(self.scanner.text, self.scanner.at))

    def parenthesized(self) -> Logical:
        opened = self.scanner.at
        self.scanner.take("(")
        self.scanner.blank()
        inner = self.logical()
        self.scanner.blank()
        if not self.scanner.take(")"):
            if self.scanner.ended or self.scanner.peek("]"):
                raise self.fail("this ( is never closed", "add )", opened)
            raise self.odd_end()
        before = self.scanner.at
        self.scanner.blank()
        # `(@.a) == 1` looks harmless, and is no comparison in the grammar.
        if _OPERATOR.match(self.scanner.text, self.scanner.at):
            raise self.fail(
                "what stands in parentheses is a condition and can't be compared",
                at=opened,
            )
        self.scanner.at = before
        return inner

    def odd_end(self) -> PathSyntaxError:
        """The error for text behind the end of an expression."""
        if self.scanner.peek(")"):
            return self.fail("a ) that closes nothing")
        hint = "conditions are joined by && and ||, values compared by == != < <= > >="
        return self.fail(f"{self.scanner.character!r} can't follow here", hint)

    # ---- what a value can be used as

    def tested(self, operand: Operand, start: int) -> Logical:
        # `[?true]` would find all or nothing, which nobody means.
        if isinstance(operand, Literally):
            raise self.fail(
                "a value alone is no condition", "compare it with something", start
            )
        if isinstance(operand, FilterCall) and operand.function.result != "logical":
            name = operand.function.name
            raise self.fail(
                f"{name}() gives a value, which is no condition",
                f"such as {operand.function.example}",
                start,
            )
        return operand

    def compared(self, operand: Operand, start: int, end: int) -> Comparable:
        if isinstance(operand, Query) and not operand.singular:
            # `$..a == 1`: which of the nodes is meant only `value()` says.
            written = self.scanner.text[start:end]
            hint = (
                "value(…) gives the one value of a path"
                if len(written) > 60
                else f"write value({written})"
            )
            raise self.fail(
                "a comparison wants a path that finds one node at most", hint, start
            )
        if isinstance(operand, FilterCall) and operand.function.result != "value":
            name = operand.function.name
            raise self.fail(
                f"{name}() gives true or false, which can't be compared",
                "use it alone, or with !",
                start,
            )
        assert isinstance(operand, Literally | Query | FilterCall)
        return operand

    # ---- operands

    def operand(self) -> Literally | Query | FilterCall:
        scanner = self.scanner
        character = scanner.character
        if character and character in "@$":
            scanner.at += 1
            return Query(character == "$", self.segments())
        if character and character in "'\"":
            return Literally(scanner.quoted())
        if _LOOSE_NUMBER.match(scanner.text, scanner.at):
            return self.number()
        # true, false, null, or a function: nothing else begins with a letter.
        word = scanner.match(_WORD)
        if not word:
            raise self.no_operand()
        if scanner.peek("("):
            return self.call(word)
        if word.group() in _CONSTANTS:
            return Literally(_CONSTANTS[word.group()])
        raise self.odd_word(word)

    def no_operand(self) -> PathSyntaxError:
        scanner = self.scanner
        if scanner.ended:
            return self.fail("the text ends where a condition should follow")
        # RFC 9535 compares with scalars and single nodes alone.
        if scanner.character in "[{":
            return self.fail(
                "arrays and objects can't be written here",
                "compare with a text, a number or a path",
            )
        return self.fail(
            f"{scanner.character!r} can't stand here",
            "a path (@…), a text in quotes, a number, a function",
        )

    def odd_word(self, word: re.Match[str]) -> PathSyntaxError:
        name = word.group()
        # `True` and `None` come from Python.
        if name.lower() in _CONSTANTS:
            hint = f"write {name.lower()}"
        elif name in FUNCTIONS:
            hint = f"write {FUNCTIONS[name].example}"
        elif name.lower() == "not":
            hint = "write !"
        else:
            hint = f"write @.{shortened(name)} for a member, '{shortened(name)}' for a text"
        return self.fail(f"{shortened(name)} means nothing here", hint, word.start())

    def number(self) -> Literally:
        match = self.scanner.match(_NUMBER)
        if not match:
            loose = _LOOSE_NUMBER.match(self.scanner.text, self.scanner.at)
            assert loose
            hint = "as in JSON: no plus sign, no leading zeros, digits on both sides of the point"
            raise self.fail(f"{shortened(loose.group())} is no number", hint)
        whole, fraction, exponent = match.groups()
        # Python refuses to make an integer of more digits, as a guard against slow input.
        if fraction or exponent or len(whole) > 4000:
            return Literally(Number(match.group()))
        return Literally(int(whole))

    # ---- functions

    def call(self, word: re.Match[str]) -> FilterCall:
        name = word.group()
        if name not in FUNCTIONS:
            known = ", ".join(FUNCTIONS)
            near = nearest(name, FUNCTIONS)
            hint = f"did you mean {near}?" if near else f"known: {known}"
            cause = (
                "no function" if _FUNCTION_NAME.fullmatch(name) else "no function name"
            )
            raise self.fail(f"{cause} {shortened(name)}", hint, word.start())
        function = FUNCTIONS[name]
        # Each level takes a few frames of Python's stack.
        self.level += 1
        if self.level > MOST_LEVELS:
            raise self.fail("nested too deeply", f"at most {MOST_LEVELS} levels")
        arguments = self.arguments(function, word.start())
        self.level -= 1
        return FilterCall(function, arguments)

    def arguments(self, function: Function, start: int) -> tuple[Argument, ...]:
        opened = self.scanner.at
        self.scanner.take("(")
        arguments: list[Argument] = []
        self.scanner.blank()
        while not self.scanner.peek(")"):
            if arguments and not self.scanner.take(","):
                if self.scanner.ended:
                    raise self.fail("this ( is never closed", "add )", opened)
                raise self.fail(
                    f"{self.scanner.character!r} can't follow here",
                    "arguments are divided by commas",
                )
            self.scanner.blank()
            # One too many is told with the number that is wanted, not as an odd character.
            if len(arguments) == len(function.parameters):
                break
            arguments.append(self.argument(function, len(arguments)))
            self.scanner.blank()
        if len(arguments) != len(function.parameters) or not self.scanner.take(")"):
            wanted = len(function.parameters)
            what = (
                f"{function.name}() takes {wanted} argument{'s' if wanted > 1 else ''}"
            )
            raise self.fail(what, f"such as {function.example}", start)
        return tuple(arguments)

    def argument(self, function: Function, number: int) -> Argument:
        start, wanted = self.scanner.at, function.parameters[number]
        argument = self.logical_or_value()
        if self.type_fits(argument, wanted):
            # A pattern in the path can be judged now; one out of the data only when it is met.
            if number in function.patterns and isinstance(argument, Literally):
                self.note_pattern(argument.value, start)
            return argument
        hint = f"such as {function.example}"
        if wanted == "value" and isinstance(argument, Query):
            raise self.fail(
                f"{function.name}() wants a path that finds one node at most",
                hint,
                start,
            )
        raise self.fail(f"{function.name}() wants {_KINDS[wanted]} here", hint, start)

    def note_pattern(self, pattern: JsonValue, start: int) -> None:
        """RFC 9535 silently treats an invalid pattern as no match; we warn."""
        if type(pattern) is not str:
            self.doubts.append(
                Doubt(
                    start,
                    f"{shown_text(pattern)} is no text, and no pattern",
                    "put it in quotes",
                )
            )
            return
        try:
            check_pattern(pattern)
        except PatternError as error:
            cause = f"{shown_text(pattern)} is no I-Regexp and will never match: {error.cause}"
            self.doubts.append(Doubt(start, cause, error.hint))

    def logical_or_value(self) -> Argument:
        """An argument may be any expression;
        what it is used as decides whether it is well-typed.
        """
        start = self.scanner.at
        if not (self.scanner.peek("!") or self.scanner.peek("(")):
            operand = self.operand()
            after = self.scanner.at
            self.scanner.blank()
            if self.scanner.peek(",") or self.scanner.peek(")"):
                self.scanner.at = after
                return operand
            # It was the beginning of a comparison: read once more, as that.
            self.scanner.at = start
        return self.logical()

    @staticmethod
    def type_fits(argument: Argument, wanted: FunctionType) -> bool:
        match wanted:
            case "nodes":
                return isinstance(argument, Query)
            case _:
                if isinstance(argument, FilterCall):
                    return argument.function.result == "value"
                return isinstance(argument, Literally) or (
                    # A value is wanted: a query must find one node at most (RFC 9535, section
                    # 2.4.3).
                    isinstance(argument, Query) and argument.singular
                )
