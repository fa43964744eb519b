"""Where a response came from, if that is on record."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from mukret.values import JsonValue


@dataclass(frozen=True)
class Origin:
    """The request behind a response.

    `fetched_at` is an RFC 3339 instant; `variables` filled the call's address; `superseded`: a
    newer answer of the same address is kept beside it.
    """

    url: str | None
    status: int | None = None
    media_type: str | None = None
    fetched_at: str | None = None
    call: str | None = None
    page: int | None = None
    variables: Mapping[str, JsonValue] = field(default_factory=dict)
    superseded: bool = False

    @property
    def address(self) -> str:
        """The address without its query, which may hold what nobody else should see."""
        return (self.url or "").partition("?")[0].partition("#")[0]
