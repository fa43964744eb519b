"""What the name of a member says of its values: that they tell things apart, are moments, or count
something.

Names decide only what values leave open: whether `1706000000` is a moment or a number of an
account.
"""

from __future__ import annotations

import re

_WORD = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|[0-9]+")


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


_IDS = _words("id ids uid uuid guid key code ref reference no nr num number slug sku")
_NO_IDS = _words(
    "paid unpaid prepaid valid invalid grid void avoid solid liquid fluid hybrid humid acid rapid "
    "covid android "
    "asteroid centroid said raid aid bid mid maid squid tabloid"
)
_MOMENTS = _words(
    "at dt ts ended end ends start starts started begin begins began since until from to when day "
    "eta etd due "
    "deadline dob born birth birthday last first next seen sent posted made joined opened closed "
    "issued released "
    "launched deleted removed completed finished fetched checked synced scheduled logged reported "
    "recorded "
    "observed measured sunrise sunset moonrise moonset depart departs departed departure arrive "
    "arrives arrived "
    "arrival effective asof edited t dep arr occurred happened instant moment"
)
_STEMS = _words(
    "time date stamp epoch unix utc creat updat modif chang expir publish generat retriev upload "
    "regist receiv accept approv"
)
_COUNT = re.compile(
    r"(?:count|size|bytes|total|length|amount|population|value|phone|zip|isbn|ean)s?$",
    re.I,
)


def words_of_name(name: str) -> list[str]:
    """`createdAt`, `created_at` → created, at."""
    return [word.lower() for word in _WORD.findall(name)]


def named_like_an_id(name: str | None) -> bool:
    words = words_of_name(name or "")
    if not words:
        return False
    last = words[-1]
    return last in _IDS or (
        len(last) > 4 and last.endswith("id") and last not in _NO_IDS
    )


def named_like_a_moment(name: str) -> bool:
    words = words_of_name(name)
    return any(word in _MOMENTS or _has_a_stem(word) for word in words)


def _has_a_stem(word: str) -> bool:
    return any(stem in word for stem in _STEMS)


def named_like_a_count(name: str) -> bool:
    return _COUNT.search(name) is not None
