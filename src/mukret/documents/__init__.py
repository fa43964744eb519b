"""Files, folders and streams → documents, a batch at a time, with their place in the input."""

from mukret.documents.batches import WHAT_TO_DO, Batch, nothing_read, read_batches
from mukret.documents.blocks import BadDocument
from mukret.documents.decode import NotJson, decode
from mukret.documents.diagnose import Diagnosis
from mukret.documents.given import given_sources, given_text
from mukret.documents.inputs import find_sources
from mukret.documents.origin import Origin
from mukret.documents.sources import Source

__all__ = [
    "WHAT_TO_DO",
    "BadDocument",
    "Batch",
    "Diagnosis",
    "NotJson",
    "Origin",
    "Source",
    "decode",
    "find_sources",
    "given_sources",
    "given_text",
    "nothing_read",
    "read_batches",
]
