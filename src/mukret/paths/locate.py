"""What stands nearest to a path that found nothing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import islice

from mukret.paths.comparing import descendants
from mukret.paths.query import (
    Filter,
    Index,
    Location,
    Name,
    Path,
    Segment,
    Selector,
    Slice,
    Wildcard,
    child_segment,
    escaped_name,
)
from mukret.text import escaped, nearest, shortened, with_article
from mukret.values import JsonValue, kind_of

# So many member names are gone through for one that is near.
MOST_NAMES = 10_000


@dataclass(frozen=True)
class Nearest:
    """What stands nearest to a path that finds nothing, in words; `meant` is the path that was most
    likely meant.
    """

    text: str
    meant: str | None = None


def nearest_existing(path: Path, roots: Sequence[JsonValue]) -> Nearest | None:
    """Why `path` finds nothing below any of `roots`, and what is there instead; None if it does
    find something.
    """
    if path.doubts and not any(path.values(root) for root in roots):
        return Nearest(path.doubts[0].cause)
    alive = [(root, root) for root in roots]
    for number, segment in enumerate(path.segments):
        # Step by step, so that the first one that finds nothing is the one that is explained.
        following = [
            (node, root)
            for value, root in alive
            for node in segment.values(value, root)
        ]
        if not following:
            return _explain(
                path.segments[:number], segment, [value for value, _ in alive]
            )
        alive = following
    return None


def _explain(
    before: tuple[Segment, ...], segment: Segment, alive: Sequence[JsonValue]
) -> Nearest | None:
    """Why a step finds nothing in the nodes to which the steps before it led."""
    if not alive:
        return None
    # `..` looks everywhere: what stands just here explains nothing.
    if segment.descend:
        return _other_descendant(before, segment, alive)
    where = path_text(before)
    selector = segment.selectors[0]
    containers = [value for value in alive if type(value) in (list, dict)]
    if isinstance(selector, Filter) and any(containers):
        return Nearest(
            f"nothing in {where} meets the condition {shortened(selector.text)}"
        )
    names = _member_names(alive) if isinstance(selector, Name) else None
    if isinstance(selector, Name) and names:
        return _other_member(before, selector, names)
    # Empty now is no mistake of the path: it may be filled tomorrow.
    if len(containers) == len(alive) and not any(containers):
        return Nearest(f"{where} is always empty")
    return _other_kind(before, segment, {kind_of(value) for value in alive})


def _other_kind(
    before: tuple[Segment, ...], segment: Segment, kinds: set[str]
) -> Nearest:
    """A step into values that are of other kinds than those that it can go into."""
    where = path_text(before)
    # A step that was left out is the most frequent mistake.
    if kinds == {"array"} and isinstance(segment.selectors[0], Name):
        meant = path_text((*before, child_segment(Wildcard()), segment))
        return Nearest(f"{where} is an array; did you mean {meant}?", meant)
    named = map(with_article, sorted(kinds))
    return Nearest(f"{where} is {' or '.join(named)}")


def _member_names(nodes: Sequence[JsonValue]) -> list[str]:
    """The different member names of objects; of very many the first ones."""
    names = (name for node in nodes if type(node) is dict for name in node)
    return list(dict.fromkeys(islice(names, MOST_NAMES)))


def _other_descendant(
    before: tuple[Segment, ...], segment: Segment, alive: Sequence[JsonValue]
) -> Nearest:
    wanted = segment.selectors[0]
    if isinstance(wanted, Name) and len(segment.selectors) == 1:
        # Whatever stands anywhere below: there may be much of it, so that names are counted, not
        # paths.
        below = (
            value for top in alive for value in descendants(top) if type(value) is dict
        )
        names = dict.fromkeys(
            islice((name for value in below for name in value), MOST_NAMES)
        )
        close = nearest(wanted.name, names)
        if close is not None:
            meant = path_text((*before, Segment((Name(close),), descend=True)))
            return Nearest(
                f"no member {wanted.name} below {path_text(before)}; did you mean {close}?",
                meant,
            )
    return Nearest(
        f"nothing below {path_text(before)} is found by {_segment_text(segment)}"
    )


def _other_member(
    before: tuple[Segment, ...], selector: Name, names: list[str]
) -> Nearest:
    where = path_text(before)
    close = nearest(selector.name, names)
    if close is None:
        # A handful of names can be read; of a hundred none would be.
        known = f"; it has {', '.join(names[:8])}" if len(names) <= 8 else ""
        return Nearest(f"{where} has no member {selector.name}{known}")
    differs = (
        "differs in case" if close.lower() == selector.name.lower() else "is not there"
    )
    wanted, meant = (
        path_text((*before, child_segment(name))) for name in (selector, Name(close))
    )
    return Nearest(f"{wanted} {differs}; did you mean {meant}?", meant)


def wanted_kind(segment: Segment) -> str:
    """What a step of a query finds something in: `an object with the member name`."""
    if segment.takes == (dict,):
        names = [
            selector.name
            for selector in segment.selectors
            if isinstance(selector, Name)
        ]
        shown = ", ".join(shortened(escaped(name)) for name in names[:5])
        return (
            f"an object with the member {shown}"
            if len(names) == 1
            else f"an object with a member of {shown}"
        )
    # A wildcard or filter is content with either.
    return "an array" if segment.takes == (list,) else "an array or an object"


def path_text(segments: tuple[Segment, ...]) -> str:
    """Segments as a path that a person would write."""
    return "$" + "".join(_segment_text(segment) for segment in segments)


def location_text(location: Location) -> str:
    """A location as a path that a person would write."""
    return path_text(tuple(map(_segment_of, location)))


def _segment_of(step: str | int) -> Segment:
    return child_segment(Name(step) if isinstance(step, str) else Index(step))


def _segment_text(segment: Segment) -> str:
    dots = ".." if segment.descend else ""
    only = segment.selectors[0]
    if (
        len(segment.selectors) == 1
        and isinstance(only, Name)
        # Any other name could not be told from what follows it.
        and only.name.isidentifier()
    ):
        return f"{dots or '.'}{only.name}"
    return f"{dots}[{','.join(_selector_text(selector) for selector in segment.selectors)}]"


def _selector_text(selector: Selector) -> str:
    match selector:
        case Name(name):
            return f"'{escaped_name(name)}'"
        case Index(index):
            return str(index)
        case Slice(start, end, step):
            # A step of 1 that was not written is not written.
            parts = [start, end] if step is None else [start, end, step]
            return ":".join(map(_bound, parts))
        case Filter(text):
            return f"?{text}"
        case _:
            return "*"


def _bound(number: int | None) -> str:
    return "" if number is None else str(number)
