"""What is to be asked next: pages before anything else, since cursors grow old; then what hangs on
answers.

What hangs on an answer is worked out of its body when its turn comes, so that what waits is small
however many records there are.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from mukret.collect.asking import Ask
from mukret.collect.calls import Call, Calls, Secret
from mukret.collect.following import Followed, followed
from mukret.collect.paging import first_turn
from mukret.collect.templates import names_in_address, names_in_body, names_in_text
from mukret.paths import Path
from mukret.values import JsonValue

# So many documents are kept for a word about what stands nearest.
MOST_DOCUMENTS = 5


@dataclass
class UnmatchedPath:
    """How many records a path found in the answers of a call; some documents in which it found
    none.
    """

    path: Path | None
    records: int = 0
    documents: list[JsonValue] = field(default_factory=list)


def _path_of(call: Call) -> Path | None:
    """The path that finds the records on which a call hangs."""
    assert call.once_per is not None
    if call.once_per.rows is not None:
        return call.once_per.rows
    return call.url or next((path for _, path in call.once_per.variables), None)


class Frontier:
    def __init__(
        self, calls: Calls, documents_of: Callable[[str], Sequence[JsonValue]]
    ) -> None:
        """`documents_of` gives the documents of a kept answer by its file."""
        self.calls = calls
        self.documents_of = documents_of
        self.constants = {call.name: constants_of(call, calls) for call in calls.calls}
        roots = [call for call in calls.calls if call.once_per is None]
        self.waiting: deque[Iterator[Followed]] = deque(
            [iter(self._first(call) for call in roots)]
        )
        self.pages: deque[Ask] = deque()
        # By call: whether what it hangs on was found in any answer.
        self.unmatched: dict[str, UnmatchedPath] = {}

    def _first(self, call: Call) -> Ask:
        return Ask(call, self.constants[call.name], turn=first_turn(call))

    def next(self) -> Followed | None:
        """The next request, or a record that leads to none; None if nothing is left but what is
        under way.
        """
        # Pages first: a list is asked for to its end before what hangs on its records.
        if self.pages:
            return self.pages.popleft()
        while self.waiting:
            following = next(self.waiting[0], None)
            if following is not None:
                return following
            self.waiting.popleft()
        return None

    def add_page(self, ask: Ask) -> None:
        self.pages.append(ask)

    def add_answer(self, ask: Ask, file: str, url: str) -> None:
        """An answer was kept: what hangs on it is asked for once its turn comes."""
        for call in self.calls.children(ask.call.name):
            self.waiting.append(self._followed(call, ask.variables, file, url))

    def _followed(
        self, call: Call, above: Mapping[str, JsonValue], file: str, url: str
    ) -> Iterator[Followed]:
        variables = {**above, **self.constants[call.name]}
        documents = self.documents_of(file)
        unmatched = self.unmatched.setdefault(call.name, UnmatchedPath(_path_of(call)))
        for request in followed(call, self.calls, documents, variables, url):
            unmatched.records += 1
            yield request
        # Kept to say what is there instead, should the path find nothing at all.
        if not unmatched.records and len(unmatched.documents) < MOST_DOCUMENTS:
            unmatched.documents += documents[
                : MOST_DOCUMENTS - len(unmatched.documents)
            ]


def constants_of(call: Call, calls: Calls) -> dict[str, JsonValue]:
    """The constants that fill the requests of a call, without secrets;
    rows can have them as facts.
    """
    used = {name for name, _ in names_in_address(call.address or "")}
    # Secrets are left out: rows are data, and go anywhere.
    for _, value in (*calls.headers, *calls.query, *call.headers, *call.query):
        used |= (
            {name for name, _ in names_in_text(value)}
            if isinstance(value, str)
            else set()
        )
    used |= set(names_in_body(call.body.content)) if call.body else set()
    return {
        name: value
        for name, value in calls.constants
        if name in used and not isinstance(value, Secret)
    }
