"""The text of a JSONPath with a place in it, and the tokens of RFC 9535 that more than one rule
needs.
"""

from __future__ import annotations

import re

from mukret.codes import Code
from mukret.errors import PathSyntaxError
from mukret.text import shortened

_BLANK = re.compile(r"[ \t\n\r]*")
_INTEGER = re.compile(r"0|-?[1-9][0-9]*")
_LOOSE_INTEGER = re.compile(r"[-+]?[0-9]+")
_HEX = re.compile(r"[0-9A-Fa-f]{4}")
_SIMPLE_ESCAPES = {
    "b": "\b",
    "f": "\f",
    "n": "\n",
    "r": "\r",
    "t": "\t",
    "/": "/",
    "\\": "\\",
}
_LARGEST = 2**53 - 1  # I-JSON's range of exact integers (RFC 7493)


class Scanner:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    def fail(
        self, cause: str, hint: str | None = None, at: int | None = None
    ) -> PathSyntaxError:
        return PathSyntaxError(
            Code.PATH_SYNTAX, cause, self.text, self.at if at is None else at, hint
        )

    @property
    def character(self) -> str:
        """The character here; empty at the end."""
        return self.text[self.at : self.at + 1]

    @property
    def ended(self) -> bool:
        return self.at >= len(self.text)

    def peek(self, expected: str) -> bool:
        return self.text.startswith(expected, self.at)

    def take(self, expected: str) -> bool:
        if self.peek(expected):
            self.at += len(expected)
            return True
        return False

    def blank(self) -> None:
        match = _BLANK.match(self.text, self.at)
        assert match
        self.at = match.end()

    def match(self, pattern: re.Pattern[str]) -> re.Match[str] | None:
        """What a pattern matches here, stepped over."""
        match = pattern.match(self.text, self.at)
        if match:
            self.at = match.end()
        return match

    def integer(self) -> int | None:
        """An index, or None if none stands here."""
        loose = _LOOSE_INTEGER.match(self.text, self.at)
        if not loose:
            return None
        written = loose.group()
        if not _INTEGER.fullmatch(written):
            raise self.fail(
                f"{shortened(written)} is no index",
                "no leading zeros, no plus sign, no -0",
            )
        # Python takes seconds for millions of digits: longer ones are too large, whatever they are.
        number = int(written) if len(written) < 20 else _LARGEST + 1
        if abs(number) > _LARGEST:
            hint = "indexes lie between -(2^53 - 1) and 2^53 - 1"
            raise self.fail(f"{shortened(written)} is out of range", hint)
        self.at = loose.end()
        return number

    def quoted(self) -> str:
        """A text in single or double quotes, its escapes resolved."""
        opened = self.at
        quote = self.character
        self.at += 1
        parts: list[str] = []
        while not self.ended:
            character = self.character
            if character == quote:
                self.at += 1
                return "".join(parts)
            # Control characters and lone surrogates can't stand in a JSON text, and so in no name.
            if character < " " or "\ud800" <= character <= "\udfff":
                what = f"the character U+{ord(character):04X} can't stand in quotes"
                raise self.fail(what, "write it as an escape")
            if character == "\\":
                parts.append(self.escape(quote))
            else:
                parts.append(character)
                self.at += 1
        raise self.fail("this quote is never closed", f"add {quote}", opened)

    def escape(self, quote: str) -> str:
        self.at += 1
        letter = self.character
        if letter == quote or (letter in _SIMPLE_ESCAPES and letter):
            self.at += 1
            return quote if letter == quote else _SIMPLE_ESCAPES[letter]
        if letter != "u":
            hint = "known: \\b \\f \\n \\r \\t \\/ \\\\ \\uXXXX and the quote"
            raise self.fail(f"\\{letter} is no escape here", hint)
        # Beyond U+FFFF a character is two escapes, as in JSON.
        first = self.code_unit()
        if 0xDC00 <= first <= 0xDFFF:
            raise self.fail("a low surrogate without its high one", at=self.at - 6)
        if not 0xD800 <= first <= 0xDBFF:
            return chr(first)
        if not self.peek("\\u"):
            raise self.fail("a high surrogate without its low one", at=self.at - 6)
        self.at += 1
        second = self.code_unit()
        if not 0xDC00 <= second <= 0xDFFF:
            raise self.fail("a high surrogate without its low one", at=self.at - 6)
        return chr(0x10000 + ((first - 0xD800) << 10) + (second - 0xDC00))

    def code_unit(self) -> int:
        match = _HEX.match(self.text, self.at + 1)
        if not match:
            raise self.fail("\\u wants four hexadecimal digits")
        self.at = match.end()
        return int(match.group(), 16)
