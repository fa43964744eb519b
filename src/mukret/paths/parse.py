"""From the text of a JSONPath to a query, by the grammar of RFC 9535 (child segments; the rest is refused by name)."""

from __future__ import annotations

import re

from mukret.errors import PathSyntaxError
from mukret.paths.query import Index, Name, Path, Segment, Selector, Slice, Wildcard

_BLANK = re.compile(r"[ \t\n\r]*")
_NAME = re.compile("[A-Za-z_\x80-\ud7ff\ue000-\U0010ffff][0-9A-Za-z_\x80-\ud7ff\ue000-\U0010ffff]*")
_INTEGER = re.compile(r"0|-?[1-9][0-9]*")
_LOOSE_INTEGER = re.compile(r"[-+]?[0-9]+")
_LOOSE_NAME = re.compile(r"[^\s.\[\]'\"*?@$,:]+")
_HEX = re.compile(r"[0-9A-Fa-f]{4}")
_SIMPLE_ESCAPES = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "/": "/", "\\": "\\"}
_LARGEST = 2**53 - 1  # I-JSON's range of exact integers (RFC 7493)


def parse_path(text: str) -> Path:
    """Parse a JSONPath.

    Raises PathSyntaxError with the position (from 0) of the first character that can't stand there, the cause in
    words, and a hint where one can be given.
    """
    return _Parser(text).path()


class _Parser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    def fail(
        self, cause: str, hint: str | None = None, at: int | None = None, code: str = "path-syntax"
    ) -> PathSyntaxError:
        return PathSyntaxError(code, cause, self.text, self.at if at is None else at, hint)

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

    # ---- the grammar, rule by rule

    def path(self) -> Path:
        if not self.take("$"):
            raise self._no_root()
        segments: list[Segment] = []
        while True:
            end_of_segment = self.at
            self.blank()
            if self.at == len(self.text):
                if self.at != end_of_segment:
                    raise self.fail("white space after the path", "take it away", end_of_segment)
                return Path(self.text, tuple(segments))
            segments.append(self.segment())

    def _no_root(self) -> PathSyntaxError:
        if self.text[:1].isspace():
            return self.fail("white space before the path", "take it away")
        if self.text.startswith("@"):
            return self.fail("a path begins with $", f"write ${self.text[1:]}")
        if not self.text:
            return self.fail("an empty path", "write $ for the whole row")
        tail = self.text if self.text[0] in ".[" else f".{self.text}"
        return self.fail("a path begins with $", f"write ${tail}")

    def segment(self) -> Segment:
        if self.peek(".."):
            raise self.fail(
                "descendants (..) are not supported yet", "name each member on the way", code="not-supported"
            )
        if self.take("."):
            return (self.shorthand(),)
        if self.take("["):
            return self.bracketed()
        if self.peek("]"):
            raise self.fail("a ] that closes nothing")
        raise self.fail(
            f"{self.text[self.at]!r} can't follow here", "a step begins with . or [; odd names go into ['…']"
        )

    def shorthand(self) -> Selector:
        if self.take("*"):
            return Wildcard()
        match = _NAME.match(self.text, self.at)
        loose = _LOOSE_NAME.match(self.text, self.at)
        if match and (not loose or loose.end() <= match.end()):
            self.at = match.end()
            return Name(match.group())
        if loose:
            bad = match.end() if match else self.at
            hint = f"write ['{loose.group()}'] instead of .{loose.group()}"
            raise self.fail(f"{self.text[bad]!r} can't stand in a plain member name", hint, bad)
        if self.at == len(self.text):
            raise self.fail("the path ends where a member name should follow")
        if self.text[self.at] in "'\"":
            raise self.fail("a quoted name stands in brackets", "write ['name'], without the dot")
        if self.text[self.at] == "[":
            raise self.fail("a dot before [", "leave out the dot", self.at - 1)
        raise self.fail(f"{self.text[self.at]!r} is no member name")

    def bracketed(self) -> Segment:
        opened = self.at - 1
        selectors = []
        while True:
            self.blank()
            selectors.append(self.selector(opened))
            self.blank()
            if self.take("]"):
                return tuple(selectors)
            if not self.take(","):
                if self.at == len(self.text):
                    raise self.fail("this [ is never closed", "add ]", opened)
                raise self.fail(f"{self.text[self.at]!r} can't follow here", "a selector is followed by , or ]")

    def selector(self, opened: int) -> Selector:
        if self.at == len(self.text):
            raise self.fail("this [ is never closed", "add a selector and ]", opened)
        if self.peek("?"):
            raise self.fail("filters (?) are not supported yet", "use the table's where", code="not-supported")
        if self.take("*"):
            return Wildcard()
        if self.peek("'") or self.peek('"'):
            return Name(self.quoted())
        if self.peek("]"):
            raise self.fail("empty brackets", "write [*] for all elements")
        start = self.integer()
        after_start = self.at
        self.blank()
        if not self.take(":"):
            self.at = after_start
            if start is None:
                raise self._no_selector()
            return Index(start)
        self.blank()
        end = self.integer()
        self.blank()
        step = None
        if self.take(":"):
            self.blank()
            step = self.integer()
        return Slice(start, end, step)

    def _no_selector(self) -> PathSyntaxError:
        loose = _LOOSE_NAME.match(self.text, self.at)
        if loose and not loose.group()[0].isdigit():
            return self.fail("a name in brackets needs quotes", f"write ['{loose.group()}']")
        return self.fail(f"{self.text[self.at]!r} is no selector", "an index, a slice, * or a quoted name stands here")

    def integer(self) -> int | None:
        loose = _LOOSE_INTEGER.match(self.text, self.at)
        if not loose:
            return None
        if not _INTEGER.fullmatch(loose.group()):
            raise self.fail(f"{loose.group()} is no index", "no leading zeros, no plus sign, no -0")
        number = int(loose.group()) if len(loose.group()) < 20 else _LARGEST + 1
        if abs(number) > _LARGEST:
            raise self.fail(f"{loose.group()} is out of range", "indexes lie between -(2^53 - 1) and 2^53 - 1")
        self.at = loose.end()
        return number

    def quoted(self) -> str:
        opened = self.at
        quote = self.text[self.at]
        self.at += 1
        parts: list[str] = []
        while self.at < len(self.text):
            character = self.text[self.at]
            if character == quote:
                self.at += 1
                return "".join(parts)
            if character < " " or "\ud800" <= character <= "\udfff":
                raise self.fail(f"the character U+{ord(character):04X} can't stand in a name", "write it as an escape")
            if character == "\\":
                parts.append(self.escape(quote))
            else:
                parts.append(character)
                self.at += 1
        raise self.fail("this quote is never closed", f"add {quote}", opened)

    def escape(self, quote: str) -> str:
        self.at += 1
        letter = self.text[self.at : self.at + 1]
        if letter == quote or (letter in _SIMPLE_ESCAPES and letter):
            self.at += 1
            return quote if letter == quote else _SIMPLE_ESCAPES[letter]
        if letter != "u":
            raise self.fail(
                f"\\{letter} is no escape here", "known: \\b \\f \\n \\r \\t \\/ \\\\ \\uXXXX and the quote"
            )
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
