"""What the name of a member says of how its values are read, where these leave it open.

A person who knows the trade reads `"price": 12.5` as an exact amount, `"lat": 12.5` as a measure,
and leaves the digits of `"zip": "10004"` alone. The words are those of English interfaces; a name
that says nothing decides nothing.
"""

from __future__ import annotations

from collections.abc import Collection

from mukret.survey.naming import named_like_an_id, words_of_name
from mukret.survey.places import Place


def word_set(text: str) -> frozenset[str]:
    return frozenset(text.split())


_MONEY = word_set(
    "price cost fare fee amount total subtotal sum balance tax vat paid payment salary wage rent "
    "discount gross "
    "revenue profit budget income charge surcharge premium deposit refund tip toll debit credit "
    "turnover"
)
_MEASURED = word_set(
    "lat lon lng long latitude longitude altitude elevation coordinate coord bbox boundingbox "
    "bounds position geo geometry"
)
_LABELS = word_set(
    "zip zipcode postcode postal plz phone telephone tel mobile fax cell isbn issn ean upc gtin "
    "fips ssn iban bic "
    "imei mmsi imo icao iata callsign barcode account version ver hash digest checksum md5 sha1 "
    "sha256 code key ref reference sku slug"
)
_FREE = word_set(
    "name title label description desc comment text summary note remark message headline caption "
    "subject body "
    "address street city town url uri link href path file filename"
)
_FIXED = word_set(
    "status state type kind class classification category level severity priority mode phase "
    "stage gender sex "
    "side unit direction visibility result outcome role method action alert grade tier condition "
    "quality scope "
    "access precision relationship verdict size shape cabin deck"
)
_OPEN = word_set(
    "country nation region province county district area zone timezone tz language lang locale "
    "currency author "
    "user owner login username account vendor brand maker manufacturer model network station stop "
    "place location "
    "agency company organization organisation org team player artist actor director genre tag "
    "topic icon color "
    "colour branch vehicle vessel ship boat carrier operator airline host server source publisher "
    "provider "
    "creator editor sender recipient customer client family first last given surname year"
)
_MADE = word_set(
    "generated updated lastupdated timestamp time date dt created retrieved fetched asof now"
)
_ANSWER = word_set(
    "results skip take expand max at object newest oldest page pages per pagination paging limit "
    "offset total "
    "count cnt nb num size next previous prev cursor links link url uri href self has more took "
    "elapsed status "
    "code cod message success ok result error errors version api request requests query params "
    "filter filters "
    "format type kind quota hits docs shards license licence copyright disclaimer attribution "
    "help debug warnings ttl took numfound start rows etag"
)
_ANSWER_ENDS = word_set(
    "token page pages limit offset total count cursor url uri link links href status version took "
    "ms out ttl hits "
    "size more elapsed next previous prev per_page"
)
_OTHER_MOMENTS = word_set(
    "start end from to until next expires expiry valid took processing response elapsed zone"
)
_FLAGS = word_set(
    "is has have can was are did should allow allows show use uses need needs require requires "
    "support supports"
)
_FLAG_ENDS = word_set(
    "flag enabled disabled active available allowed required visible hidden deleted archived "
    "verified"
)


def _is_one(word: str, known: Collection[str]) -> bool:
    return word in known or word.removesuffix("s") in known


def _says(name: str | None, known: Collection[str]) -> bool:
    return any(_is_one(word, known) for word in words_of_name(name or ""))


def _ends_with(name: str | None, known: Collection[str]) -> bool:
    words = words_of_name(name or "")
    return bool(words) and _is_one(words[-1], known)


def name_of(place: Place) -> str | None:
    """The name of a member; of elements of a list, or of an object whose names are data, that of
    the list.
    """
    while place.step is None and place.parent is not None:
        place = place.parent
    return place.step


def is_money(place: Place) -> bool:
    return _says(name_of(place), _MONEY)


def is_measured(place: Place) -> bool:
    """Whether values are measured: coordinates, however they are written."""
    return _says(name_of(place), _MEASURED)


def is_label(place: Place) -> bool:
    """Whether digits in texts are to be kept as they stand: codes, numbers of telephones, versions.

    Ids that are counted up are integers, as long as none begins with a zero.
    """
    return _says(name_of(place), _LABELS)


def is_free_text(place: Place) -> bool:
    return _ends_with(name_of(place), _FREE)


def is_fixed_set(place: Place) -> bool:
    """Whether the values are one of a few, by the name: a status, a kind of something."""
    return _ends_with(place.step, _FIXED)


def is_open_set(place: Place) -> bool:
    """Whether there are more values than have been seen, by the name: countries, owners, ids, words
    on something.
    """
    above = place.parent.step if place.parent else None
    free = _ends_with(place.step, _FREE) or _ends_with(above, _FREE)
    return named_like_an_id(place.step) or free or _says(place.step, _OPEN)


def is_when_made(place: Place) -> bool:
    """Whether a moment is that at which a response was made, and not one that it tells of."""
    words = words_of_name(place.step or "")
    return any(word in _MADE for word in words) and not any(
        word in _OTHER_MOMENTS for word in words
    )


def is_about_the_answer(place: Place) -> bool:
    """Whether a value beside the lists says how it was asked and answered: pages, links, counts,
    versions.
    """
    above: Place | None = place
    while above is not None:
        words = words_of_name(above.step or "")
        if words and (
            words[-1] in _ANSWER_ENDS or all(word in _ANSWER for word in words)
        ):
            return True
        # Also what stands in an object of that name: `paging: {next: …}`.
        above = above.parent
    return False


def is_flag(place: Place) -> bool:
    """Whether 0 and 1 are false and true."""
    words = words_of_name(place.step or "")
    return len(words) > 1 and (words[0] in _FLAGS or words[-1] in _FLAG_ENDS)
