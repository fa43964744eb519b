"""JSONPath as RFC 9535 defines it: text → query → nodes."""

from mukret.errors import PathSyntaxError
from mukret.paths.locate import nearest_existing
from mukret.paths.parse import parse_path
from mukret.paths.query import Index, Location, Name, Path, Selector, Slice, Wildcard, normalized

__all__ = [
    "Index",
    "Location",
    "Name",
    "Path",
    "PathSyntaxError",
    "Selector",
    "Slice",
    "Wildcard",
    "nearest_existing",
    "normalized",
    "parse_path",
]
