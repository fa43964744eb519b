"""Which examples can stand in a file that is kept and shared: none that are secret or personal, by
name or look.
"""

from __future__ import annotations

import re
from itertools import pairwise

from mukret.drafting.meanings import name_of, word_set
from mukret.survey.naming import words_of_name
from mukret.survey.places import Place
from mukret.text import counted, shortened
from mukret.values import JsonValue

LONGEST_SHOWN = 40
_SECRET = word_set(
    "token secret password passwd pwd passphrase credential apikey authorization auth bearer "
    "session cookie signature sig nonce otp pin jwt csrf cvv salt"
)
_PERSONAL = word_set(
    "email mail phone telephone tel mobile fax firstname lastname surname forename birthday "
    "birthdate dob ssn iban "
    "passport licence license street address postcode zip ip ipaddress username login"
)
_PERSONAL_PAIRS = (
    ("first", "name"),
    ("last", "name"),
    ("family", "name"),
    ("given", "name"),
    ("full", "name"),
)
_PAIRS = (("api", "key"), ("access", "key"), ("private", "key"), ("client", "secret"))
_MAIL = re.compile(r"\S+@\S+\.\S+")
_HEX = re.compile(r"(?:0x)?[0-9a-fA-F]{24,}")
_OPAQUE = re.compile(r"(?=.*\d)(?=.*[a-z])(?=.*[A-Z])[A-Za-z0-9+/_=.-]{24,}")


def example(place: Place, value: JsonValue) -> str:
    """A value of a place in words for a note: as it stands, or only what it looks like."""
    text = str(value)
    # Keys and tokens look like this: whatever the member is called, they are not shown.
    if _HEX.fullmatch(text):
        return counted(len(text.removeprefix("0x")), "hex digit")
    if _OPAQUE.fullmatch(text):
        return f"{len(text)} letters and digits"
    if _MAIL.fullmatch(text):
        return "a mail address"
    if is_private(place):
        kind = "digit" if text.isdigit() else "character"
        return counted(len(text), kind)
    return shortened(text, LONGEST_SHOWN)


def is_private(place: Place) -> bool:
    """Whether the name of a member says that its values are secret, or tell of a person."""
    words = [word.lower() for word in words_of_name(name_of(place) or "")]
    pairs = set(pairwise(words))
    return bool(
        set(words) & (_SECRET | _PERSONAL) or pairs & {*_PAIRS, *_PERSONAL_PAIRS}
    )
