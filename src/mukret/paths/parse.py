"""From the text of a JSONPath to a query, by the grammar of RFC 9535."""

from __future__ import annotations

import re
from contextlib import suppress

from mukret.errors import PathSyntaxError
from mukret.paths.filters import Condition
from mukret.paths.parse_filter import FilterParser
from mukret.paths.query import (
    Filter,
    Index,
    Name,
    Path,
    Segment,
    Selector,
    Slice,
    Wildcard,
)
from mukret.paths.scanner import Scanner
from mukret.text import shortened

# One set of all these ranges takes 40 ms to compile.
_BEYOND_ASCII = r"(?![\ud800-\udfff])[^\x00-\x7f]"
_NAME = re.compile(f"(?:[A-Za-z_]|{_BEYOND_ASCII})(?:[0-9A-Za-z_]|{_BEYOND_ASCII})*")
_LOOSE_NAME = re.compile(r"[^\s.\[\]'\"*?@$,:()&|=!<>]+")


# Of a query.
#
# A document has fewer than 1,000 levels, and what is made of queries goes down step by step too.
MOST_STEPS = 1000


def parse_path(text: str) -> Path:
    """Parse a JSONPath.

    Raises PathSyntaxError with the position (from 0) of the first character that can't stand there,
    the cause in words, and a hint where one can be given.
    """
    return _QueryParser(text).path()


def parse_condition(text: str) -> Condition:
    """Parse a logical expression as it stands in a filter (RFC 9535, `logical-expr`), without `?`
    and brackets.

    Raises PathSyntaxError as `parse_path` does.
    """
    return _QueryParser(text).condition()


def _write_instead(text: str) -> str:
    """A hint with the path that is meant by one without a root, as others write it."""
    tail = "" if text == "." else text if text[:1] in ("", ".", "[") else f".{text}"
    bare = tail.replace(".[", "[")
    for candidate in (tail, bare, bare.replace("[]", "[*]")):
        with suppress(PathSyntaxError):
            return f"write {shortened(parse_path(f'${candidate}').text)}"
    return "such as $.ports[*].code"


class _QueryParser(Scanner):
    def __init__(self, text: str) -> None:
        super().__init__(text)
        self.filters = FilterParser(self, self.segments)

    # ---- the whole text

    def path(self) -> Path:
        if not self.take("$"):
            raise self.no_root()
        segments = self.segments()
        if self.ended:
            return Path(self.text, segments, tuple(self.filters.doubts))
        before = self.at
        # RFC 9535 has no white space around a path; YAML and a shell easily add some.
        self.blank()
        if self.ended:
            raise self.fail("white space after the path", "take it away", before)
        raise self.odd_step()

    def no_root(self) -> PathSyntaxError:
        if self.text[:1].isspace():
            return self.fail("white space before the path", "take it away")
        if self.text.startswith("@"):
            return self.fail("a path begins with $", _write_instead(self.text[1:]))
        if not self.text:
            return self.fail("an empty path", "write $ for the whole row")
        return self.fail("a path begins with $", _write_instead(self.text))

    def odd_step(self) -> PathSyntaxError:
        if self.peek("]"):
            return self.fail("a ] that closes nothing")
        return self.fail(
            f"{self.character!r} can't follow here",
            "a step begins with . or [; odd names go into ['…']",
        )

    def condition(self) -> Condition:
        self.blank()
        # Who knows filters writes it here, too.
        if self.take("?"):
            raise self.fail(
                "a condition stands alone here", "leave out the ?", self.at - 1
            )
        logical = self.filters.logical()
        self.blank()
        if not self.ended:
            raise self.filters.odd_end()
        return Condition(self.text, logical, tuple(self.filters.doubts))

    # ---- segments

    def segments(self) -> tuple[Segment, ...]:
        """All segments from here on; blank space may stand before each."""
        segments: list[Segment] = []
        while True:
            before = self.at
            self.blank()
            if not (self.peek(".") or self.peek("[")):
                # Blank space at the end belongs to whatever comes next (RFC 9535, section 2.1.1).
                self.at = before
                return tuple(segments)
            if len(segments) == MOST_STEPS:
                raise self.fail(
                    f"more than {MOST_STEPS} steps",
                    "a table within another goes on from its rows",
                )
            segments.append(self.segment())

    def segment(self) -> Segment:
        descend = self.take("..")
        if self.take("["):
            return Segment(self.bracketed(), descend)
        if not descend:
            self.take(".")
        return Segment((self.shorthand(descend),), descend)

    def shorthand(self, descend: bool) -> Selector:
        """`.*` or `.name`, after the dot."""
        if self.take("*"):
            return Wildcard()
        match = _NAME.match(self.text, self.at)
        loose = _LOOSE_NAME.match(self.text, self.at)
        if match and (not loose or loose.end() <= match.end()):
            self.at = match.end()
            return Name(match.group())
        dots = ".." if descend else "."
        # What people write that is no member name: `.per-page`, `.2nd`.
        if loose:
            bad = match.end() if match else self.at
            bracketed = f"{'..' if descend else ''}['{shortened(loose.group())}']"
            hint = f"write {bracketed} instead of {dots}{shortened(loose.group())}"
            raise self.fail(
                f"{self.text[bad]!r} can't stand in a plain member name", hint, bad
            )
        raise self.no_name(descend)

    def no_name(self, descend: bool) -> PathSyntaxError:
        """What stands after a dot and begins no member name."""
        if self.ended:
            more = "..* finds every node below" if descend else None
            return self.fail("the path ends where a member name should follow", more)
        if self.character in "'\"":
            hint = f"write {'..' if descend else ''}['name']"
            return self.fail("a quoted name stands in brackets", hint)
        # Other dialects have it, and it is what people paste.
        if self.character == "[":
            return self.fail("a dot before [", "leave out the dot", self.at - 1)
        if self.character == ".":
            return self.fail(
                "three dots", "two go to every node below, one to a member"
            )
        return self.fail(f"{self.character!r} is no member name")

    def bracketed(self) -> tuple[Selector, ...]:
        opened = self.at - 1
        selectors = []
        while True:
            self.blank()
            selectors.append(self.selector(opened))
            self.blank()
            if self.take("]"):
                return tuple(selectors)
            if not self.take(","):
                # The caret goes to the bracket: its end could be anywhere.
                if self.ended:
                    raise self.fail("this [ is never closed", "add ]", opened)
                raise self.fail(
                    f"{self.character!r} can't follow here",
                    "a selector is followed by , or ]",
                )

    # ---- selectors

    def selector(self, opened: int) -> Selector:
        if self.ended:
            raise self.fail("this [ is never closed", "add a selector and ]", opened)
        if self.take("?"):
            return self.filter()
        if self.take("*"):
            return Wildcard()
        if self.character in "'\"":
            return Name(self.quoted())
        if self.peek("]"):
            raise self.fail("empty brackets", "write [*] for all elements")
        # An index, or the first number of a slice: what follows tells.
        start = self.integer()
        after_start = self.at
        self.blank()
        if not self.take(":"):
            self.at = after_start
            if start is None:
                raise self.no_selector()
            return Index(start)
        self.blank()
        end = self.integer()
        self.blank()
        step = None
        if self.take(":"):
            self.blank()
            step = self.integer()
        return Slice(start, end, step)

    def filter(self) -> Filter:
        start = self.at
        self.blank()
        logical = self.filters.logical()
        return Filter(self.text[start : self.at].strip(), logical)

    def no_selector(self) -> PathSyntaxError:
        loose = _LOOSE_NAME.match(self.text, self.at)
        # The most frequent slip: `[name]` for `['name']`.
        if loose and not loose.group()[0].isdigit():
            return self.fail(
                "a name in brackets needs quotes",
                f"write ['{shortened(loose.group())}']",
            )
        if self.character in "(@":
            return self.fail(
                f"{self.character!r} is no selector", "a filter begins with ?"
            )
        return self.fail(
            f"{self.character!r} is no selector",
            "an index, a slice, *, a quoted name or a ?filter",
        )
