"""One value out of the nodes that a field's path found."""

from __future__ import annotations

from typing import cast

from mukret.rules.sources import At
from mukret.semantics.choosing import Chosen
from mukret.semantics.rejects import several
from mukret.types import TypeSpec
from mukret.types.taken import GATHERINGS, Gathering, gathered
from mukret.values import JsonValue


def taken(at: At, reading: TypeSpec, chosen: Chosen) -> object:
    """The typed value. Raises Bad."""
    if at.take == "count":
        return reading.read(len(chosen.reached))
    return taken_from(at, reading, chosen.values)


def taken_from(at: At, reading: TypeSpec, nodes: list[JsonValue]) -> object:
    """The same out of values that are not null, but for `count`. Raises Bad."""
    if at.take == "all":
        return reading.read_nodes(nodes)
    if at.take in GATHERINGS:
        return gathered(cast(Gathering, at.take), reading, nodes, at.separator)
    # The default: a second value is not dropped without a word.
    if at.take == "only" and len(nodes) > 1:
        raise several(len(nodes))
    return reading.read(nodes[-1 if at.take == "last" else 0]) if nodes else None
