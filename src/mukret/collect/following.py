"""From the answers of one call to the requests of another: once for each record of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum

from mukret.collect.asking import Ask
from mukret.collect.calls import (
    Call,
    Calls,
    OncePer,
    is_plain_address,
    origin_of,
    resolved,
)
from mukret.collect.paging import first_turn
from mukret.collect.templates import NotFilled, filled_address
from mukret.paths import Path
from mukret.values import JsonValue, json_text, scalar_text


class Why(StrEnum):
    """Why a record leads to no request."""

    MISSING = "missing"
    NOT_TEXT = "not-text"
    SEVERAL = "several"
    NOT_FILLED = "not-filled"
    NO_ADDRESS = "not-an-address"
    ELSEWHERE = "elsewhere"


@dataclass(frozen=True)
class NotAsked:
    """A record that leads to no request; `about` is the variable or address that it hangs on."""

    call: str
    why: Why
    about: str


Followed = Ask | NotAsked


def followed(
    call: Call,
    calls: Calls,
    documents: Iterable[JsonValue],
    above: Mapping[str, JsonValue],
    url: str,
) -> Iterator[Followed]:
    """The first requests of a call, one for each record in an answer of the call that it hangs on.

    `above`: the variables of that answer; `url`: where it came from, to which addresses in it are
    relative.
    """
    for document in documents:
        for record in _records(call, document):
            yield _ask(call, calls, record, above, url)


@dataclass(frozen=True)
class _Record:
    """A record, or the value of a path that finds one record's value after the other."""

    node: JsonValue
    bare: bool = False


def _records(call: Call, document: JsonValue) -> Iterator[_Record]:
    once_per = _once_per(call)
    if once_per.rows is not None:
        for node in once_per.rows.values(document):
            yield _Record(node)
        return
    # Without `rows` each node of the first path is a record of its own.
    path = call.url or next((path for _, path in once_per.variables), None)
    if path is None:
        yield _Record(document)
        return
    for value in path.values(document):
        yield _Record(value, bare=True)


def _once_per(call: Call) -> OncePer:
    assert call.once_per is not None
    return call.once_per


def _ask(
    call: Call, calls: Calls, record: _Record, above: Mapping[str, JsonValue], url: str
) -> Followed:
    variables = dict(above)
    for name, path in _once_per(call).variables:
        value = _value(call, name, path, record)
        # A request that lacks a value would ask for something else, often for everything.
        if isinstance(value, NotAsked):
            return value
        variables[name] = value
    if call.url is None:
        return Ask(call, variables, turn=first_turn(call))
    address_value = _value(call, call.url.text, call.url, record)
    if isinstance(address_value, NotAsked):
        return address_value
    address = _address(call, calls, address_value, variables, url)
    if isinstance(address, NotAsked):
        return address
    return Ask(call, variables, address, turn=first_turn(call))


def _value(call: Call, name: str, path: Path, record: _Record) -> JsonValue | NotAsked:
    """The one value of a path in a record."""
    values = [record.node] if record.bare else path.values(record.node)
    # None of them is taken by chance.
    if len(values) > 1:
        return NotAsked(call.name, Why.SEVERAL, name)
    if not values or values[0] is None or values[0] == "":
        return NotAsked(call.name, Why.MISSING, name)
    if scalar_text(values[0]) is None:
        return NotAsked(call.name, Why.NOT_TEXT, f"{name}: {json_text(values[0], 60)}")
    return values[0]


def _address(
    call: Call,
    calls: Calls,
    found: JsonValue,
    variables: Mapping[str, JsonValue],
    url: str,
) -> str | NotAsked:
    """An address that stood in a response, filled and resolved (RFC 3986), if it may be asked."""
    text = scalar_text(found) or ""
    constants = {
        name: value for name, value in calls.constants if isinstance(value, str | int)
    }
    try:
        filled = filled_address(text, constants | dict(variables))
    except NotFilled as error:
        return NotAsked(call.name, Why.NOT_FILLED, f"{text}: {error}")
    address = resolved(url, filled)
    if not is_plain_address(address):
        return NotAsked(call.name, Why.NO_ADDRESS, text)
    # A response can't send our credentials to an origin that the calls don't name.
    if origin_of(address) not in (calls.base_origin, *calls.origins):
        return NotAsked(call.name, Why.ELSEWHERE, address)
    return address
