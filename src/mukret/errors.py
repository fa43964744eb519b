"""The errors that a user can meet, and no defects.

    MukretError
    ├── PathSyntaxError        a JSONPath text that RFC 9535 forbids (or that is not supported yet)
    ├── ExpressionError        an expression that can't be read or typed
    ├── RulesError             a rules file with problems; lists all of them
    ├── UsageError             a request that makes no sense
    ├── InputError             an input that can't be opened, or no document of the run can be read
    ├── OutputError            a destination that can't be written
    └── StoppedError           `bad: stop` or a limit on rejects ended the run

Each carries a short code (see docs/messages.md), one sentence, where, and a hint with the next
thing to do. `exit_code` is what the command line ends with.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from mukret.codes import Code


class MukretError(Exception):
    """Base of all errors that a user can meet."""

    exit_code = 2

    def __init__(
        self,
        code: str,
        message: str,
        *,
        place: str | None = None,
        hint: str | None = None,
    ) -> None:
        super().__init__(message)
        self.code = code
        self.message = message
        self.place = place
        self.hint = hint
        # The text around the mistake, and where in it the mistake is (from 0), where that helps.
        self.pointer: tuple[str, int] | None = None

    def __reduce__(self) -> tuple[object, ...]:
        """Errors go from one process to another as they are, whatever their constructors want."""
        return _restored, (type(self), self.args), self.__dict__


def _restored(kind: type[MukretError], args: tuple[object, ...]) -> MukretError:
    error = kind.__new__(kind)
    error.args = args
    return error


class PositionedError(MukretError):
    """An error at a character of a text that a person wrote: `position` counts from 0 in `text`."""

    def __init__(
        self, code: str, message: str, text: str, position: int, hint: str | None = None
    ) -> None:
        super().__init__(
            code, message, place=f"character {position + 1} of {text!r}", hint=hint
        )
        self.pointer = (text, position)
        self.text = text
        self.position = position

    @property
    def cause(self) -> str:
        return self.message


class PathSyntaxError(PositionedError):
    """A text that is no JSONPath (RFC 9535), with the position of the first character that can't
    stand there.
    """


class ExpressionError(PositionedError):
    """An expression that can't be parsed or typed."""


@dataclass(frozen=True)
class Diagnostic:
    """One problem of a rules file.

    Line and column count from 1; `source` is the line as it stands.
    """

    file: str
    line: int
    column: int
    code: str
    message: str
    hint: str | None = None
    source: str = ""

    def __str__(self) -> str:
        hint = f" ({self.hint})" if self.hint else ""
        return (
            f"{self.file}:{self.line}:{self.column}: {self.code}: {self.message}{hint}"
        )


@dataclass(frozen=True)
class Notice:
    """A warning: a code, one sentence, where (`FILE:LINE:COLUMN` in the rules, or a path in a
    document), and a hint; and the table that it is about, if it is about one.
    """

    code: str
    message: str
    place: str | None
    hint: str | None
    table: str | None = None


class RulesError(MukretError):
    """A rules file that can't be used; `diagnostics` holds every problem, in order of position."""

    def __init__(self, file: str, diagnostics: Sequence[Diagnostic]) -> None:
        count = len(diagnostics)
        listing = "\n".join(f"  {diagnostic}" for diagnostic in diagnostics)
        super().__init__(
            Code.RULES,
            f"{file}: {count} problem{'s' if count != 1 else ''}\n{listing}",
            place=file,
        )
        self.file = file
        self.diagnostics = tuple(diagnostics)


class UsageError(MukretError):
    """A request that makes no sense: a table that is not there, options that exclude each other."""


class InputError(MukretError):
    """An input that can't be opened or holds nothing that can be read."""

    exit_code = 3


class OutputError(MukretError):
    """A destination that can't be written; what was there before is still there."""

    exit_code = 4


class StoppedError(MukretError):
    """The rules (`bad: stop`) or a limit on rejects ended the run; nothing was published."""

    exit_code = 1


class Interrupted(KeyboardInterrupt):
    """An interrupt, with what became of the work."""

    def __init__(self, outcome: str) -> None:
        super().__init__(outcome)
        self.outcome = outcome


@contextmanager
def if_interrupted(outcome: str) -> Iterator[None]:
    """Says of an interrupt what became of the work, if nobody has said it yet."""
    try:
        yield
    except KeyboardInterrupt as interrupt:
        raise (
            interrupt if isinstance(interrupt, Interrupted) else Interrupted(outcome)
        ) from None
