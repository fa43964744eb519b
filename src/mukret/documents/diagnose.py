"""What is wrong with a text that should be JSON, in words and at a place.

The fast decoder only says that it gave up; this scanner reads the same text slowly, without
recursion, and knows the mistakes that people and services make. Where it is plain what was meant it
reads on, to say how many lines are wrong.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, replace
from typing import Literal

from mukret.documents.levels import MOST_LEVELS
from mukret.text import counted, escaped

_BLANK = re.compile(r"[ \t\n\r]*")
_STRING = re.compile(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*"')
_STRING_PART = re.compile(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*')
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?")
_WORD = re.compile(r"[A-Za-z_$][A-Za-z0-9_$]*")
_LOOSE_NUMBER = re.compile(r"[-+.0-9][-+.0-9A-Za-z]*")
_LITERALS = ("true", "false", "null")
_OTHER_LANGUAGES = {
    "True": "true",
    "False": "false",
    "None": "null",
    "undefined": "null",
    "nil": "null",
}
# Where a message names the line of an opening bracket.
_LINE_NAMED = re.compile(r"(?<=(?:at|of) )line (\d+)")
_WINDOW = 30
# So many characters are read on after the first mistake.
_FAR = 1_000_000

# A mistake in JSON text, a page in its stead, a text that ends too early, or anything else.
DiagnosisSort = Literal["slip", "page", "cut-off", "other"]


@dataclass(frozen=True)
class Diagnosis:
    """What is wrong and where.

    `excerpt` is the text around it, `caret` the place within it; where there is neither a text nor
    a way to it, it is the whole that is wrong.
    """

    message: str
    line: int = 1
    column: int = 1
    offset: int = 0
    excerpt: str = ""
    caret: int = 0
    sort: DiagnosisSort = "other"

    @property
    def placed(self) -> bool:
        """Whether the place of the mistake is known."""
        return bool(self.excerpt or self.offset)

    def __str__(self) -> str:
        if not self.placed:
            return self.message
        return f"{self.message} (line {self.line}, column {self.column}, byte {self.offset})"

    def moved(self, lines: int, offset: int) -> Diagnosis:
        """The same finding in a larger text that has so many lines and bytes before this one."""
        message = _LINE_NAMED.sub(
            lambda match: f"line {int(match[1]) + lines}", self.message
        )
        return replace(
            self, message=message, line=self.line + lines, offset=self.offset + offset
        )

    def inside(self, what: str) -> Diagnosis:
        """The same finding, told as inside a part of the file, such as a body in an archive."""
        return replace(self, message=f"{self.message}, in {what}")


def diagnose(raw: bytes, decoder_says: str) -> Diagnosis:
    """Finds the first mistake of a JSON text that a decoder refused."""
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError as error:
        return _wrong_encoding(raw, error.start)
    head = text.lstrip()[:200].lower()
    if not head:
        return Diagnosis("there is nothing in it")
    if head.startswith("<"):
        kind = (
            "an HTML page"
            if head.startswith(("<!doctype html", "<html"))
            else "XML or HTML"
        )
        return _finding(text, text.index("<"), f"this is {kind}, not JSON", "page")
    scanner = _Scanner(text)
    mistake = scanner.mistake()
    if mistake is not None:
        place, message = mistake
        sort: DiagnosisSort = (
            "cut-off" if max(scanner.at, place) >= len(text) else "slip"
        )
        return _finding(text, place, message + scanner.more_mistakes(place), sort)
    # The text follows the grammar: the decoder has limits of its own, and says which in words.
    if "recursion" in decoder_says:
        return Diagnosis(f"nested too deeply (more than about {MOST_LEVELS:,} levels)")
    if "out of range" in decoder_says:
        return Diagnosis("an integer with more digits than can be handled (4,300)")
    return Diagnosis(f"not JSON: {decoder_says}")


def _wrong_encoding(raw: bytes, place: int) -> Diagnosis:
    """Bytes that are no UTF-8 from this place on."""
    before = raw[:place].decode("utf-8")
    message = f"invalid UTF-8 (byte 0x{raw[place]:02x})"
    if raw[place] == 0xED and raw[place + 1 : place + 2] >= b"\xa0":
        message = "half of a surrogate pair stands alone"
    # It explains all of what follows, and comes last to count.
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff") or b"\0" in raw[:4]:
        message = "this is UTF-16 or UTF-32, not UTF-8"
    return _finding(before + "�", len(before), message)


def _finding(
    text: str, at: int, message: str, sort: DiagnosisSort = "other"
) -> Diagnosis:
    line_start = text.rfind("\n", 0, at) + 1
    line_end = text.find("\n", at)
    line = text[line_start : line_end if line_end >= 0 else len(text)]
    column = at - line_start
    # Lines of megabytes are usual: some characters around the mistake are enough.
    first = max(0, column - _WINDOW)
    before = escaped(line[first:column])
    after = escaped(line[column : column + _WINDOW])
    return Diagnosis(
        message,
        text.count("\n", 0, at) + 1,
        column + 1,
        len(text[:at].encode()),
        before + after,
        len(before),
        sort,
    )


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        # Brackets that are open, with their places.
        self.open: list[tuple[str, int]] = []
        # What is wanted after a mistake, and where, if it is plain what was meant.
        self.go_on: tuple[str, int] | None = None
        # Whether the mistake is that another document begins.
        self.another = False

    def mistake(self, wants: str = "value") -> tuple[int, str] | None:
        """Place and description of the next mistake; None if the text is JSON to its end."""
        self.go_on, self.another = None, False
        while True:
            blank = _BLANK.match(self.text, self.at)
            assert blank
            self.at = blank.end()
            if self.at_end:
                return None if wants == "end" else (self.at, self.cut_off())
            # A state names the method that takes the next character; each gives the next state, or
            # the mistake.
            outcome = getattr(self, f"_{wants.replace('-', '_')}")(self.text[self.at])
            if isinstance(outcome, tuple):
                return outcome
            wants = outcome

    def more_mistakes(self, first: int) -> str:
        """How many lines have others, after the first, in words."""
        lines = {self.text.count("\n", 0, first)}
        line, place = next(iter(lines)), first
        while self.go_on is not None and self.at < first + _FAR:
            wants, self.at = self.go_on
            mistake = self.mistake(wants)
            # Mistakes that only follow from the first are no others: after each it goes on where
            # the text is JSON again.
            if mistake is None or self.at_end:
                break
            line, place = line + self.text.count("\n", place, mistake[0]), mistake[0]
            if not self.another:
                lines.add(line)
        others = len(lines) - 1
        return f", and {counted(others, 'more line')} with mistakes" if others else ""

    @property
    def at_end(self) -> bool:
        return self.at >= len(self.text)

    def cut_off(self) -> str:
        if not self.open:
            return "there is nothing in it"
        # The innermost one: the end is missing from there on.
        bracket, place = self.open[-1]
        line = self.text.count("\n", 0, place) + 1
        return (
            "cut off inside "
            f"{'an object' if bracket == '{' else 'an array'} that began at line {line}"
        )

    def fail(self, message: str, at: int | None = None) -> tuple[int, str]:
        return (self.at if at is None else at), message

    def slip(self, message: str, wants: str, after: int) -> tuple[int, str]:
        """A mistake after which reading can go on."""
        self.go_on = wants, after
        return self.fail(message)

    def quoted(self, wants: str) -> tuple[int, str]:
        """A text, or a name, in single quotes."""
        end = self.text.find("'", self.at + 1)
        return self.slip(
            "single quotes: JSON wants double",
            wants,
            end + 1 if end > 0 else len(self.text),
        )

    def comment(self, wants: str) -> tuple[int, str]:
        ends = "*/" if self.text.startswith("/*", self.at) else "\n"
        end = self.text.find(ends, self.at)
        return self.slip(
            "a comment: JSON has none",
            wants,
            # Read on behind it: there may be further slips.
            end + len(ends) if end > 0 else len(self.text),
        )

    def after_value(self) -> str:
        return "more" if self.open else "end"

    # ---- one method per thing that is wanted

    def _end(self, character: str) -> tuple[int, str]:
        if character in "{[":
            # Remembered: the reader of lines may be what is wanted.
            self.another = True
            message = (
                "text after the end of the document, where another begins: several go one "
                "to a line (JSON Lines)"
            )
            return self.slip(message, "value", self.at)
        return self.fail("text after the end of the document")

    def _value(self, character: str) -> str | tuple[int, str]:
        if character in "{[":
            self.open.append((character, self.at))
            self.at += 1
            return "first-key" if character == "{" else "first-value"
        if character == '"':
            return self.string() or self.after_value()
        number = _NUMBER.match(self.text, self.at)
        # `007` begins like a number and is none.
        if number and not re.match(
            r"[.0-9A-Za-z_+-]", self.text[number.end() : number.end() + 1]
        ):
            self.at = number.end()
            return self.after_value()
        return self.odd_value(character)

    def odd_value(self, character: str) -> str | tuple[int, str]:
        word = _WORD.match(self.text, self.at)
        if word:
            name = word.group()
            if name in _LITERALS:
                self.at = word.end()
                return self.after_value()
            message = f"{name[:30]}: a text wants double quotes"
            if name in ("NaN", "Infinity"):
                message = f"{name} is no JSON number"
            # `None`, `True`, `undefined`: what other languages write, with what JSON writes.
            if name in _OTHER_LANGUAGES:
                message = f"{name}: JSON writes {_OTHER_LANGUAGES[name]}"
            return self.slip(message, self.after_value(), word.end())
        if character == "'":
            return self.quoted(self.after_value())
        if character in "]}":
            return self.closed_too_early(character)
        if self.text.startswith(("//", "/*", "#"), self.at):
            return self.comment("value")
        loose = _LOOSE_NUMBER.match(self.text, self.at)
        if loose:
            name = "Infinity" if "Infinity" in loose.group() else loose.group()[:30]
            return self.slip(
                f"{name} is no JSON number", self.after_value(), loose.end()
            )
        return self.fail(f"{escaped(character)!r} can't stand where a value should")

    def closed_too_early(self, character: str) -> str | tuple[int, str]:
        """A bracket where a value should stand."""
        if not self.open:
            return self.fail(f"a {character} that closes nothing")
        # The most frequent of all slips.
        if self.character_before() == ",":
            return self.slip(
                "a trailing comma: a value should follow it", "more", self.at
            )
        return self.slip(f"a value is missing before {character}", "more", self.at)

    def character_before(self) -> str:
        """The last one that is no white space."""
        at = self.at - 1
        while at >= 0 and self.text[at].isspace():
            at -= 1
        return self.text[max(0, at) : at + 1]

    def _first_value(self, character: str) -> str | tuple[int, str]:
        return self.closed() if character == "]" else self._value(character)

    def _first_key(self, character: str) -> str | tuple[int, str]:
        return self.closed() if character == "}" else self._key(character)

    def _key(self, character: str) -> str | tuple[int, str]:
        if character == '"':
            return self.string() or "colon"
        if character == "'":
            return self.quoted("colon")
        # A member should follow the comma; most often nothing more was meant.
        if character == "}":
            return self.slip(
                "a trailing comma: a member should follow it", "more", self.at
            )
        if self.text.startswith(("//", "/*", "#"), self.at):
            return self.comment("key")
        word = _WORD.match(self.text, self.at)
        if word:
            return self.slip("a member name wants double quotes", "colon", word.end())
        return self.fail("a member name wants double quotes")

    def _colon(self, character: str) -> str | tuple[int, str]:
        if character != ":":
            return self.slip("a colon should follow the member name", "value", self.at)
        self.at += 1
        return "value"

    def _more(self, character: str) -> str | tuple[int, str]:
        bracket, place = self.open[-1]
        if character == ",":
            self.at += 1
            return "key" if bracket == "{" else "value"
        if character == {"{": "}", "[": "]"}[bracket]:
            return self.closed()
        # The bracket that is open may stand far above: its line is named.
        line = self.text.count("\n", 0, place) + 1
        if character in "]}":
            return self.fail(f"{character} does not close the {bracket} of line {line}")
        if self.text.startswith(("//", "/*", "#"), self.at):
            return self.comment("more")
        return self.slip(
            "a comma is missing", "key" if bracket == "{" else "value", self.at
        )

    def closed(self) -> str:
        self.open.pop()
        self.at += 1
        return self.after_value()

    def string(self) -> tuple[int, str] | None:
        match = _STRING.match(self.text, self.at)
        if match:
            if "\\u" in match.group() and not _encodable(match.group()):
                return self.fail("half of a surrogate pair stands alone in this text")
            self.at = match.end()
            return None
        part = _STRING_PART.match(self.text, self.at)
        assert part
        if part.end() == len(self.text):
            return self.fail(
                "cut off inside a text that began at line "
                f"{self.text.count(chr(10), 0, self.at) + 1}",
                part.end(),
            )
        if self.text[part.end()] == "\\":
            return self.fail(
                f"{escaped(self.text[part.end() : part.end() + 2])} is no escape of JSON",
                part.end(),
            )
        # Control characters must be escaped (RFC 8259, section 7).
        control = ord(self.text[part.end()])
        what = (
            "a line break"
            if control in (10, 13)
            else f"the control character U+{control:04X}"
        )
        return self.fail(f"{what} inside a text", part.end())


def _encodable(literal: str) -> bool:
    try:
        json.loads(literal).encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True
