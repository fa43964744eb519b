"""Documents that come in parts: where they can be cut for a path, and what it finds in a part."""

from __future__ import annotations

from collections.abc import Iterator

from mukret.documents.cutting import Names, Part
from mukret.paths import Filter, Index, Location, Path, Wildcard, child_segment
from mukret.values import JsonValue


def long_array(path: Path) -> Names | None:
    """The array at which long documents can be cut: the path goes through its elements, or takes
    one of them, and looks nowhere else.
    """
    names, rest = path.leading_names
    step = rest[0].only if rest else None
    whole = isinstance(step, Wildcard | Filter) or (
        isinstance(step, Index) and step.index >= 0
    )
    return names if whole and not path.looks_at_the_root else None


def arrays_to_cut(path: Path | None) -> list[Names] | None:
    """Where long documents can be cut for one who looks at all that stands in the nodes of a path,
    or in the whole document. None: at any array that is reached by names alone.
    """
    if path is None or not path.leading_names[1]:
        return None
    names = long_array(path)
    return [] if names is None else [names]


def nodes_of(
    document: JsonValue, path: Path, part: Part, depth: int
) -> Iterator[tuple[Location, JsonValue]]:
    """The nodes of a document, or of some elements of the array so deep in it."""
    if part.array is None:
        yield from path.nodes(document)
        return
    step = path.segments[depth].only
    if isinstance(step, Index):
        # It stood in an earlier part.
        if step.index < part.first:
            return
        before, after = path.segments[:depth], path.segments[depth + 1 :]
        path = Path(
            path.text, (*before, child_segment(Index(step.index - part.first)), *after)
        )
    for location, value in path.nodes(document):
        yield part.in_document(location, depth), value
