"""JSONPath as RFC 9535 defines it: text → query → nodes."""

from mukret.errors import PathSyntaxError
from mukret.paths.filters import Condition
from mukret.paths.locate import nearest_existing, wanted_kind
from mukret.paths.parse import parse_condition, parse_path
from mukret.paths.query import (
    Filter,
    Index,
    Location,
    Name,
    Path,
    Reached,
    Segment,
    Selector,
    Slice,
    Wildcard,
    child_segment,
    normalized,
)

__all__ = [
    "Condition",
    "Filter",
    "Index",
    "Location",
    "Name",
    "Path",
    "PathSyntaxError",
    "Reached",
    "Segment",
    "Selector",
    "Slice",
    "Wildcard",
    "child_segment",
    "nearest_existing",
    "normalized",
    "parse_condition",
    "parse_path",
    "wanted_kind",
]
