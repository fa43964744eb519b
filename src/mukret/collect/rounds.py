"""When a service was asked: a round from the first request to the end, on record in `rounds.jsonl`.

A round that did not come to its end is gone on with; one that did is not, and the next collection
begins another.
"""

from __future__ import annotations

from dataclasses import dataclass

from mukret.codes import Code
from mukret.collect.folder import ROUNDS, CaptureFolder, add_line
from mukret.collect.manners import instant
from mukret.documents.decode import NotJson, decode
from mukret.errors import InputError
from mukret.values import JsonValue


@dataclass(frozen=True)
class Round:
    """One round.

    `source`: the calls file or the address that it is of; `began` an RFC 3339 instant; `continued`:
    it was begun by an earlier process.
    """

    number: int
    source: str
    began: str
    continued: bool = False


def this_round(
    folder: CaptureFolder, source: str, *, anew: bool = False, go_on: bool = False
) -> Round:
    """The round that a collection belongs to: the last one of the same source, if that did not end
    (or is to be gone on with), else a new one, which is put on record. Raises InputError where
    there is none to go on with.
    """
    lines = _lines(folder)
    last = next(
        (line for line in reversed(lines) if line.get("source") == source), None
    )
    if (
        # A round that was broken off goes on by itself; one that ended only if that is asked for.
        last is not None
        and not anew
        and (go_on or not _has_ended(last["round"], lines))
    ):
        return Round(last["round"], source, str(last.get("began")), continued=True)
    if go_on:
        message = f"{folder.path}: there is no collection of {source} to go on with"
        raise InputError(Code.NO_INPUT, message, hint="leave out --go-on")
    numbers = [line["round"] for line in lines]
    # The list of rounds may have been lost; the answers say theirs, too.
    numbers += [record.round for record in folder.records() if record.round is not None]
    number = max(numbers, default=0) + 1
    began = instant()
    add_line(folder.path / ROUNDS, {"round": number, "source": source, "began": began})
    return Round(number, source, began)


def _has_ended(number: int, lines: list[dict[str, JsonValue]]) -> bool:
    """Whether a round came to its end.

    One that was continued after that has several ends on record.
    """
    return any(line["round"] == number and "ended" in line for line in lines)


def end_round(
    folder: CaptureFolder, round: Round, counts: dict[str, JsonValue]
) -> None:
    """Puts the end of a round on record, with what came of it."""
    add_line(
        folder.path / ROUNDS, {"round": round.number, "ended": instant(), **counts}
    )


def _lines(folder: CaptureFolder) -> list[dict[str, JsonValue]]:
    file = folder.path / ROUNDS
    if not file.exists():
        return []
    lines = []
    # What follows the last line end was torn off when a run was killed.
    for number, line in enumerate(file.read_bytes().split(b"\n")[:-1], start=1):
        try:
            record = decode(line)
        except NotJson as error:
            hint = "take that line away: the answers themselves are in capture.jsonl"
            raise InputError(
                Code.CAPTURE_BROKEN,
                f"{file}: line {number}: {error.finding.message}",
                hint=hint,
            ) from None
        if type(record) is dict and type(record.get("round")) is int:
            lines.append(record)
    return lines
