"""I-Regexp (RFC 9485), matched in time that grows with the text alone.

A pattern is checked against the grammar of the RFC and mapped, by its section 5.4, to RE2, which
has no backtracking.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any

_PROPERTY = re.compile(
    r"(?:L[lmotu]?|M[cen]?|N[dlo]?|P[cdefios]?|Z[lps]?|S[ckmo]?|C[cfno]?)\}"
)
_QUANTIFIER = re.compile(r"[*+?]|\{([0-9]+)(?:,([0-9]*))?\}")
_ESCAPABLE = frozenset("()*+-.?[\\]^nrt{|}")
_SHORTHANDS = {"d": "[0-9]", "s": "[ \\t\\r\\n]", "w": "[A-Za-z0-9_]"}
MOST_REPEATS = 1000
# How deeply groups may be nested.
MOST_GROUPS = 50


class PatternError(ValueError):
    """A text that is no I-Regexp: `position` counts from 0 in the pattern."""

    def __init__(self, position: int, cause: str, hint: str | None = None) -> None:
        super().__init__(cause)
        self.position = position
        self.cause = cause
        self.hint = hint


def check_pattern(pattern: str) -> None:
    """Raises PatternError for what RFC 9485 does not allow, or what is too large to be matched."""
    _compiled(pattern)


def matches(pattern: str, text: str) -> bool:
    """Whether the whole of `text` matches. Raises PatternError."""
    return _compiled(pattern).fullmatch(_writable(text)) is not None


def found_in(pattern: str, text: str) -> bool:
    """Whether some part of `text` matches. Raises PatternError."""
    return _compiled(pattern).search(_writable(text)) is not None


_SURROGATE = re.compile("[\ud800-\udfff]")


def _writable(text: str) -> str:
    """RE2 reads UTF-8, which has no lone surrogates; a noncharacter stands in for one, since no
    pattern can name it.
    """
    return text if text.isascii() else _SURROGATE.sub("\uffff", text)


# The name of the group that captures, in what `capturing` gives.
CAPTURED = "captured"


@lru_cache(maxsize=100)
def capturing(pattern: str) -> str:
    """A pattern for RE2 that matches a whole text and whose first group is named.

    `\\d`, `\\s` and `\\w`, which I-Regexp does not have, are taken as ASCII shorthands. Raises
    PatternError, also for a pattern without a group.
    """
    mapper = _Mapper(pattern, captures=True)
    mapped = f"^(?:{mapper.mapped()})$"
    # It would capture nothing in every row, and each would be rejected.
    if not mapper.captured:
        raise PatternError(
            0,
            "a pattern without a group captures nothing",
            "put ( and ) around what is wanted",
        )
    _compiled_re2(mapped)
    return mapped


def captured(pattern: str, text: str) -> str | None:
    """What the first group holds where the whole text matches; "" where the group takes no part;
    None if the text does not match. Raises PatternError.
    """
    match = _compiled_re2(capturing(pattern)).fullmatch(_writable(text))
    return None if match is None else match.group(1) or ""


@lru_cache(maxsize=500)
def _compiled(pattern: str) -> Any:
    return _compiled_re2(_Mapper(pattern).mapped())


@lru_cache(maxsize=500)
def _compiled_re2(mapped: str) -> Any:
    # Loaded with the first pattern: most rules have none.
    import re2

    options = re2.Options()
    # It writes to standard error by itself.
    options.log_errors = False
    try:
        return re2.compile(mapped, options)
    except (re2.error, UnicodeEncodeError) as error:
        raise PatternError(
            0, f"a pattern that can't be matched: {_reason(error)}"
        ) from None


def _reason(error: Exception) -> str:
    said = error.args[0] if error.args else ""
    return said.decode("utf-8", "replace") if isinstance(said, bytes) else str(error)


class _Mapper:
    """Reads a pattern by the grammar of RFC 9485, section 3, and writes it for RE2."""

    def __init__(self, pattern: str, *, captures: bool = False) -> None:
        self.pattern = pattern
        self.captures = captures
        self.captured = False
        self.at = 0
        self.parts: list[str] = []
        self.in_class = False

    def mapped(self) -> str:
        self.branches(0)
        if self.at < len(self.pattern):
            raise PatternError(
                self.at, "a ) that closes nothing", "write \\) for the character itself"
            )
        return "".join(self.parts)

    def character(self) -> str:
        return self.pattern[self.at : self.at + 1]

    def branches(self, depth: int) -> None:
        if depth > MOST_GROUPS:
            raise PatternError(self.at, "groups nested too deeply")
        while True:
            while self.character() not in ("", "|", ")"):
                self.piece(depth)
            if self.character() != "|":
                return
            self.take("|")

    def take(self, written: str, length: int = 1) -> None:
        self.parts.append(written)
        self.at += length

    def piece(self, depth: int) -> None:
        self.atom(depth)
        quantifier = _QUANTIFIER.match(self.pattern, self.at)
        if not quantifier:
            return
        low, high = quantifier.groups()
        if low and high and int(high) < int(low):
            raise PatternError(
                self.at, f"{quantifier.group()}: the upper bound is below the lower one"
            )
        # RE2 refuses more, and compiles so many copies of what is repeated.
        if any(
            bound and (len(bound) > 4 or int(bound) > MOST_REPEATS)
            for bound in (low, high)
        ):
            raise PatternError(
                self.at, f"{quantifier.group()}: more than {MOST_REPEATS} repeats"
            )
        self.take(quantifier.group(), len(quantifier.group()))

    def atom(self, depth: int) -> None:
        """One character, class or group (RFC 9485), as RE2 and Python write it."""
        character = self.character()
        match character:
            case "(":
                self.group(depth)
            case "[":
                self.character_class()
            case ".":
                self.take("[^\\n\\r]")
            case "\\":
                self.escape()
            case "^" | "$":
                # As the mapping of section 5.4 leaves them: the text's two ends.
                self.take(character)
            case "*" | "+" | "?" | "{" | "}" | "]":
                hint = f"write \\{character} for the character"
                raise PatternError(self.at, f"{character!r} can't stand here", hint)
            case _:
                self.take(re.escape(character) if character.isascii() else character)

    def group(self, depth: int) -> None:
        """Parentheses: the first one captures, if anything is to be captured."""
        if self.pattern.startswith("(?", self.at):
            message = "I-Regexp has plain groups alone: no (?…)"
            raise PatternError(self.at, message, "write ( … )")
        opened = self.at
        # Groups come in the order in which they open: the first is the outermost.
        first = self.captures and not self.captured
        self.captured = self.captured or first
        self.take(f"(?P<{CAPTURED}>" if first else "(?:")
        self.branches(depth + 1)
        if self.character() != ")":
            raise PatternError(opened, "this ( is never closed", "add ), or write \\(")
        self.take(")")

    def escape(self) -> None:
        letter = self.pattern[self.at + 1 : self.at + 2]
        if letter in ("p", "P"):
            self.take(self.property_class(), 0)
        elif letter in _ESCAPABLE and letter:
            self.take(f"\\{letter}", 2)
        # `capture` is our own key and takes \d and \w; a path keeps to I-Regexp, which has neither.
        elif letter in _SHORTHANDS and self.captures:
            self.take(self.shorthand(letter), 2)
        else:
            hint = (
                f"write {_SHORTHANDS[letter]}"
                if letter in _SHORTHANDS
                else "known: \\n \\r \\t, \\p{…}, and marks"
            )
            raise PatternError(self.at, f"\\{letter} is no escape of I-Regexp", hint)

    def shorthand(self, letter: str) -> str:
        """A class of ASCII characters; inside a class without its brackets."""
        return _SHORTHANDS[letter][1:-1] if self.in_class else _SHORTHANDS[letter]

    def property_class(self) -> str:
        start = self.at
        # Braces are part of it, whatever else they mean in a pattern.
        match = (
            _PROPERTY.match(self.pattern, self.at + 3)
            if self.pattern[self.at + 2 : self.at + 3] == "{"
            else None
        )
        if not match:
            raise PatternError(
                self.at,
                "no such category of characters",
                "\\p{L}, \\p{Lu}, \\p{Nd} and their like",
            )
        self.at = match.end()
        return self.pattern[start : self.at]

    def character_class(self) -> None:
        opened = self.at
        self.in_class = True
        self.take("[")
        if self.character() == "^":
            self.take("^")
        # A hyphen at the beginning stands for itself.
        if self.character() == "-":
            self.take("\\-")
        elif self.character() == "]":
            raise PatternError(
                self.at, "an empty class", "write \\] for the character itself"
            )
        while self.character() != "]":
            if self.at >= len(self.pattern):
                raise PatternError(
                    opened, "this [ is never closed", "add ], or write \\["
                )
            self.class_part()
        self.take("]")
        self.in_class = False

    def class_part(self) -> None:
        if self.character() == "-":
            if self.pattern[self.at + 1 : self.at + 2] != "]":
                raise PatternError(
                    self.at, "a - inside a class stands first or last", "write \\-"
                )
            self.take("\\-")
            return
        start = self.at
        first = self.class_character()
        if (
            first is None
            or self.character() != "-"
            or self.pattern[self.at + 1 : self.at + 2] in ("]", "")
        ):
            return
        # A range, unless the hyphen is the last character of the class.
        self.take("-")
        last = self.class_character()
        if last is None or last < first:
            raise PatternError(start, f"{self.pattern[start : self.at]} is no range")

    def class_character(self) -> str | None:
        """Writes one character of a class and gives it; None for a category."""
        character = self.character()
        if character == "[":
            raise PatternError(self.at, "'[' can't stand in a class", "write \\[")
        if character != "\\":
            # Characters that mean something to RE2 in a class, and nothing to I-Regexp.
            self.take(f"\\{character}" if character in "^&~|" else character)
            return character
        letter = self.pattern[self.at + 1 : self.at + 2]
        self.escape()
        return (
            None
            if letter in ("p", "P", *(_SHORTHANDS if self.captures else ()))
            else {"n": "\n", "r": "\r", "t": "\t"}.get(letter, letter)
        )


Matcher = Callable[[str, str], bool]
