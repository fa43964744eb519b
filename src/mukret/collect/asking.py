"""What one request is about, before any secret goes into it: a call, its variables,
and which page.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from mukret.collect.calls import Call, InBody, InHeader, InQuery, Target
from mukret.collect.templates import names_in_address
from mukret.values import JsonValue, scalar_text


@dataclass(frozen=True)
class Turn:
    """What asks for a page: a value in its place in the request, or an address of its own
    (absolute); or neither.
    """

    target: Target | None = None
    value: JsonValue = None
    address: str | None = None

    @property
    def mark(self) -> str:
        """What tells pages of one list apart."""
        return self.address or scalar_text(self.value) or ""


@dataclass(frozen=True)
class Ask:
    """One request.

    `address`: where a response said that it is (absolute), if one did; `list_id` and `address_id`:
    what `identified` made; `count`: the records of the pages before.
    """

    call: Call
    variables: Mapping[str, JsonValue] = field(default_factory=dict)
    address: str | None = None
    page: int = 1
    turn: Turn = Turn()
    list_id: str = ""
    address_id: str = ""
    count: int = 0
    previous: str | None = None
    """What the records of the page before were, as a hash, where pages are told by numbers."""
    marks: set[str] = field(default_factory=set, compare=False)
    """The marks of the pages of this list that were asked for; all pages share it."""

    def identified(self, identity: str) -> Ask:
        """The request with what tells its address and its list from others, `identity` being its
        address and body with marks in the place of secrets. Kept as hashes: an address out of a
        response may hold anything.
        """
        # Later pages belong to the list of the first one.
        if self.page > 1:
            return self
        variables = json.dumps(self.variables, sort_keys=True, default=str)
        list_id = _hash(f"{self.call.name} {variables} {identity}")
        return replace(
            self, address_id=_hash(f"{self.call.name} {identity}"), list_id=list_id
        )

    def next(self, turn: Turn, count: int, previous: str | None) -> Ask:
        """The request for the page after this one."""
        self.marks.add(self.turn.mark)
        return replace(
            self, page=self.page + 1, turn=turn, count=count, previous=previous
        )

    @property
    def turn_variables(self) -> dict[str, JsonValue]:
        """The page, where the address of the call has a variable for it."""
        target = self.turn.target
        if isinstance(target, InQuery) and self.in_address(target.name):
            return {target.name: self.turn.value}
        return {}

    def in_address(self, name: str) -> bool:
        address = self.call.address
        return address is not None and any(
            variable == name for variable, _ in names_in_address(address)
        )

    def in_query(self) -> dict[str, str]:
        """The page, where a member of the query says it."""
        target = self.turn.target
        if isinstance(target, InQuery) and not self.in_address(target.name):
            return {target.name: scalar_text(self.turn.value) or ""}
        return {}

    def in_headers(self) -> dict[str, str]:
        target = self.turn.target
        return (
            {target.name: scalar_text(self.turn.value) or ""}
            if isinstance(target, InHeader)
            else {}
        )

    def in_body(self, content: JsonValue) -> JsonValue:
        """The body with the page in its place; what is on the way and not there is made."""
        target = self.turn.target
        if not isinstance(target, InBody):
            return content
        return _with(content, target.steps, self.turn.value)


def _hash(text: str) -> str:
    return hashlib.blake2b(text.encode("utf-8", "replace"), digest_size=10).hexdigest()


def _with(
    content: JsonValue, steps: tuple[str | int, ...], value: JsonValue
) -> JsonValue:
    if not steps:
        return value
    step, rest = steps[0], steps[1:]
    if isinstance(step, int):
        items = list(content) if isinstance(content, list) else []
        # Elements before the one that is set are null, as a body in JSON has to have them.
        items += [None] * (step + 1 - len(items))
        items[step] = _with(items[step], rest, value)
        return items
    members = dict(content) if isinstance(content, dict) else {}
    return members | {step: _with(members.get(step), rest, value)}
