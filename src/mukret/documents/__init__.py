"""Files, folders and streams → documents, a batch at a time, with their place in the input."""

from mukret.documents.batches import BadDocument, Batch, read_batches
from mukret.documents.decode import NotJson, decode
from mukret.documents.diagnose import Finding
from mukret.documents.sources import Source, find_sources

__all__ = ["BadDocument", "Batch", "Finding", "NotJson", "Source", "decode", "find_sources", "read_batches"]
