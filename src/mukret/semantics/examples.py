"""The examples of a rules file, run through the reference evaluator."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from mukret.errors import StoppedError
from mukret.rules.model import Example, Rules
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.reference import BadResponse, Document, LeftOut, ReferenceRun, Row
from mukret.semantics.rejects import Reject
from mukret.types.base import ValueType

MOST_REJECTS = 5


@dataclass(frozen=True)
class Outcome:
    """`differences` says in words what an example gave instead of what it should; none if it
    passed.
    """

    example: Example
    differences: tuple[str, ...]

    @property
    def passed(self) -> bool:
        return not self.differences


def run_examples(rules: Rules) -> list[Outcome]:
    """All examples of the rules, each as a run of its own."""
    return [
        Outcome(example, tuple(_differences(rules, example)))
        for example in rules.examples
    ]


def _differences(rules: Rules, example: Example) -> Iterator[str]:
    # By the evaluator without shortcuts: what an example shows is what the rules mean.
    run = ReferenceRun(rules, example.now)
    document = Document(
        example.response, example.input, example.document, example.origin
    )
    try:
        run.prepare([document])
        rows, rejects = run.document(document)
    except StoppedError as error:
        yield f"the run stopped: {error.message} at {error.place}"
        return
    except BadResponse as error:
        hint = f" ({error.hint})" if error.hint else ""
        yield f"the document is a bad one [{error.code}]: {error.message}{hint}"
        return
    # An example of a kind that nobody reads shows nothing.
    except LeftOut:
        yield "no table reads documents of its kind"
        return
    for name, expected in example.gives.items():
        written = [row for row in rows[name] if row.outcome == RowOutcome.WRITTEN]
        yield from _table(rules, name, expected, written)
    yield from _rejected(example, rejects)


def _rejected(example: Example, rejects: Sequence[Reject]) -> Iterator[str]:
    rejected = sum(reject.rows or 1 for reject in rejects)
    if rejected == example.rejected:
        return
    yield f"{rejected} rows were rejected, not {example.rejected}"
    # Why they were is what the writer of the example wants to know.
    for reject in rejects[:MOST_REJECTS]:
        for problem in reject.problems:
            what = f"{reject.table}.{problem.field}" if problem.field else reject.table
            yield f"  rejected: {what} {problem.code} at {problem.path}: {problem.message}"


def _table(
    rules: Rules,
    name: str,
    expected: int | tuple[Mapping[str, object], ...],
    rows: list[Row],
) -> Iterator[str]:
    count = expected if isinstance(expected, int) else len(expected)
    if len(rows) != count:
        yield f"{name} has {len(rows)} rows, not {count}"
    if isinstance(expected, int):
        return
    types = rules.tables[name].types
    for number, (wanted, row) in enumerate(zip(expected, rows, strict=False), 1):
        for field, value in wanted.items():
            # Types are compared too: 1 and true are equal to Python.
            given = row.values[field]
            if given != value or type(given) is not type(value):
                kind = types[field]
                yield (
                    f"{name}, row {number}: {field} is {_shown(kind, given)}, not "
                    f"{_shown(kind, value)}"
                )


def _shown(kind: ValueType, value: object) -> str:
    return "null" if value is None else kind.written(value)
