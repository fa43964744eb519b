"""The classes of a suite in several processes, as many as there are cores: most tests wait for
programs they started.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from typing import Any

LONGEST = (
    "OnACluster",
    "OnSpark",
    "TwoEvaluators",
    "Faulty",
    "Program",
    "TheSame",
    "CommandLine",
    "OnTheCommandLine",
    "Demo",
)
"""Classes that begin first, so that none of them is left alone at the end."""
SHOWN = 12


@dataclass(frozen=True)
class Told:
    """A test that ran in another process, as far as a report names it."""

    name: str
    words: str | None

    def id(self) -> str:
        return self.name

    def __str__(self) -> str:
        return self.name

    def shortDescription(self) -> str | None:
        return self.words


Outcome = tuple[Told, str, str]
"""A test, what became of it (`passed`, `failures`, `errors`, `skipped`, …), and the words on it."""


class Keeping(unittest.TestResult):
    """Notes what passes too, and how many tests ran."""

    def __init__(self) -> None:
        super().__init__()
        self.passed: list[tuple[unittest.TestCase, str]] = []

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed.append((test, ""))

    def outcomes(self) -> list[Outcome]:
        lists = (
            "passed",
            "failures",
            "errors",
            "skipped",
            "expectedFailures",
            "unexpectedSuccesses",
        )
        found = []
        for name in lists:
            for entry in getattr(self, name):
                test, words = entry if isinstance(entry, tuple) else (entry, "")
                found.append((Told(str(test), test.shortDescription()), name, words))
        return found


_classes: list[unittest.TestSuite] = []
"""Those of the suite that is run; worker processes are forked when they are known."""


@dataclass(frozen=True)
class Ran:
    """The tests of a class: how many there were, what became of them, and how long they took."""

    name: str
    count: int
    outcomes: list[Outcome]
    seconds: float


def _run(number: int) -> Ran:
    """In a process of its own: the tests of a class."""
    result = Keeping()
    begun = time.monotonic()
    tests = list(_tests(_classes[number]))
    _classes[number].run(result)
    seconds = time.monotonic() - begun
    return Ran(type(tests[0]).__name__, result.testsRun, result.outcomes(), seconds)


class SideBySide(unittest.TestSuite):
    """Runs as any suite does, but for the order and for what is printed by tests, which comes when
    it comes.
    """

    def run(
        self, result: unittest.TestResult, debug: bool = False
    ) -> unittest.TestResult:
        _classes[:] = list(by_class(self))
        order = sorted(range(len(_classes)), key=lambda number: _rank(_classes[number]))
        cores = (
            len(os.sched_getaffinity(0))
            if hasattr(os, "sched_getaffinity")
            else os.cpu_count() or 1
        )
        with ProcessPoolExecutor(cores, multiprocessing.get_context("fork")) as pool:
            slowest: list[Ran] = []
            for done in as_completed([pool.submit(_run, number) for number in order]):
                ran = done.result()
                result.testsRun += ran.count
                for told, kind, words in ran.outcomes:
                    _tell(result, told, kind, words)
                slowest.append(ran)
        slowest.sort(key=lambda ran: -ran.seconds)
        shown = ", ".join(f"{ran.name} {ran.seconds:.0f} s" for ran in slowest[:SHOWN])
        print(f"\nlongest: {shown}", file=sys.stderr)
        return result


def by_class(suite: unittest.TestSuite) -> Iterator[unittest.TestSuite]:
    """The tests of each class together, since they share what is set up for them."""
    found: dict[type, list[unittest.TestCase]] = {}
    for test in _tests(suite):
        found.setdefault(type(test), []).append(test)
    return (unittest.TestSuite(tests) for tests in found.values())


def _tests(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from _tests(one)
        else:
            yield one


def _rank(suite: unittest.TestSuite) -> int:
    name = type(next(iter(suite))).__name__
    return LONGEST.index(name) if name in LONGEST else len(LONGEST)


def _tell(result: Any, told: Told, kind: str, words: str) -> None:
    """Has a result count, and print, what happened elsewhere."""
    match kind:
        case "passed":
            result.addSuccess(told)
        case "skipped":
            result.addSkip(told, words)
        case "unexpectedSuccesses":
            result.addUnexpectedSuccess(told)
        case (
            _
        ):  # put into words already, where a result would make them of an exception
            getattr(result, kind).append((told, words))
            print(kind[0].upper(), end="", file=sys.stderr, flush=True)
