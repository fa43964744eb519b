"""What form the contents of a file have, told by how they begin."""

from __future__ import annotations

from mukret.documents.decode import BYTE_ORDER_MARK, NotJson, decode
from mukret.values import JsonValue, Number

LINE_ENDINGS = (".jsonl", ".ndjson")
RECORD_SEPARATOR = b"\x1e"
_OPEN_ENDED = (int, float, Number, bool, type(None))


def looks_like_sequence(head: bytes) -> bool:
    """Whether a file is a JSON text sequence (RFC 7464): a record separator stands before each
    text.
    """
    return head.removeprefix(BYTE_ORDER_MARK).lstrip().startswith(RECORD_SEPARATOR)


def cut_off_in_sequence(document: JsonValue, piece: bytes) -> bool:
    """Whether a text of a sequence may have lost its end: one that closes itself can't have (RFC
    7464, section 2.4).
    """
    return type(document) in _OPEN_ENDED and not piece[-1:].isspace()


def named_like_lines(name: str) -> bool:
    """Whether a file's name says that it is JSON Lines."""
    return any(ending in name for ending in LINE_ENDINGS)


def looks_like_lines(head: bytes, name: str) -> bool:
    """Whether a file that begins like this is JSON Lines and not one document; told by what is in
    it.

    A first line that is a whole JSON text with something after it is; a first line that is cut off
    is not (a document written over several lines), unless the file's name says so; where it is
    broken, the second line decides.
    """
    first, _, rest = head.removeprefix(BYTE_ORDER_MARK).lstrip().partition(b"\n")
    if not rest.strip():
        return False
    try:
        decode(first)
        return True
    except NotJson as error:
        if named_like_lines(name):
            return True
        # A first line that goes on in the next is the beginning of one document, printed over
        # several lines.
        if error.finding.sort == "cut-off" or first[:1] not in b"{[":
            return False
    second = rest.lstrip().partition(b"\n")[0]
    try:
        return type(decode(second)) in (dict, list)
    except NotJson:
        return False
