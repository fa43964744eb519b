"""Places that hold addresses at the service that the documents came from: where there is more to
ask for.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import urlsplit

from mukret.survey.report import SurveyReport
from mukret.values import JsonValue


@dataclass(frozen=True)
class AddressPlace:
    """A place, the first address that stands there, and how many nodes it has."""

    path: str
    example: str
    nodes: int


def addresses_at(report: SurveyReport, urls: Iterable[str]) -> list[AddressPlace]:
    """The places whose texts are addresses at the origins of these: whole ones, or paths that begin
    as these do.
    """
    known = {_origin(url) for url in urls} - {None}
    beginnings = {
        beginning
        for url in urls
        if (beginning := _beginning(urlsplit(url).path)) is not None
    }
    addresses = []
    for place in report.places:
        examples = list(place.place.values.examples)
        # A place of which only some lead on would make requests that fail.
        if examples and all(
            _lies_there(value, known, beginnings) for value in examples
        ):
            addresses.append(AddressPlace(place.path, str(examples[0]), place.present))
    return addresses


def _lies_there(
    value: JsonValue, origins: set[str | None], beginnings: set[str]
) -> bool:
    if type(value) is not str:
        return False
    if value.startswith(("http://", "https://")):
        return _origin(value) in origins
    return (
        value.startswith("/")
        # That is an address at another host.
        and not value.startswith("//")
        and _beginning(value) in beginnings
    )


def _origin(url: str) -> str | None:
    try:
        parts = urlsplit(url)
    except ValueError:
        return None
    return f"{parts.scheme}://{parts.netloc}".lower()


def _beginning(path: str) -> str | None:
    """The first folder of a path."""
    first, _, rest = path.lstrip("/").partition("/")
    return first if rest else None
