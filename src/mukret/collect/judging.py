"""Judging an answer: data, or why not; and whether another try may help."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from http import HTTPStatus

from mukret.codes import Code
from mukret.collect.masking import MASK, Masker
from mukret.documents import Diagnosis, Source, read_batches
from mukret.documents.glance import Skim
from mukret.errors import MukretError
from mukret.values import JsonValue

NOT_MODIFIED = 304
UNAUTHORIZED = 401
# Statuses after which the same request may do better.
PASSING = frozenset([408, 425, 429, 500, 502, 503, 504])
# Statuses with which a service means all requests, not only this one.
ASKS_TO_WAIT = frozenset([429, 503])


class AnswerSort(StrEnum):
    """What came of a request."""

    DATA = "data"
    UNCHANGED = "unchanged"
    STATUS = "status"
    EMPTY = "empty"
    NOT_JSON = Code.NOT_JSON


@dataclass(frozen=True)
class Judgement:
    """`problem` says why an answer is no data, secrets masked; `finding` where it stops being JSON.

    `documents` can be read, `bad` can't.
    """

    sort: AnswerSort
    problem: str | None = None
    finding: Diagnosis | None = None
    documents: int = 0
    bad: int = 0
    cut_off: bool = False
    """Whether its last document ends too early, and others before it can be read."""


def judged(
    status: int, size: int, file: str, masker: Masker, *, on_condition: bool
) -> Judgement:
    """Judges an answer by its status and its body, which is in a file of this name.

    `on_condition`: only what changed was asked for.
    """
    if status == NOT_MODIFIED and on_condition:
        return Judgement(AnswerSort.UNCHANGED)
    if not 200 <= status < 300:
        return Judgement(
            AnswerSort.STATUS, f"the service answered {status_text(status)}"
        )
    if not size:
        return Judgement(AnswerSort.EMPTY, "the body is empty")
    documents = 0
    findings: list[Diagnosis] = []
    try:
        # Only as much is decoded as it takes to count documents.
        for batch in read_batches([Source(file, named=False)], partly=Skim()):
            documents += len(batch.documents)
            findings += [bad.finding for bad in batch.bad]
    except MukretError as error:
        why = masker.excerpt(error.message.partition(": ")[2])
        return Judgement(AnswerSort.NOT_JSON, f"the body can't be read: {why}")
    if documents:
        # Good documents and a torn end: kept as data, and asked for again.
        cut_off = bool(findings) and findings[-1].sort == "cut-off"
        return Judgement(
            AnswerSort.DATA, documents=documents, bad=len(findings), cut_off=cut_off
        )
    finding = findings[0] if findings else Diagnosis("there is nothing in it")
    finding = replace(
        finding,
        message=masker.excerpt(finding.message),
        **masked_pointer(finding, masker),
    )
    return Judgement(
        AnswerSort.NOT_JSON,
        f"the body is not JSON: {finding.message}",
        finding,
        bad=len(findings),
    )


def masked_pointer(finding: Diagnosis, masker: Masker) -> dict[str, JsonValue]:
    """The text around a mistake without secrets, and the place in it."""
    before = masker.excerpt(finding.excerpt[: finding.caret])
    after = masker.excerpt(finding.excerpt[finding.caret :])
    if (
        masker.excerpt(finding.excerpt) != before + after
    ):  # one stands at the place itself
        return {"excerpt": MASK, "caret": 0}
    return {"excerpt": before + after, "caret": len(before)}


def status_text(status: int) -> str:
    """`404 Not Found`."""
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)
