"""Asking a service for responses and keeping each as it came."""

from mukret.collect.bounds import Bounds
from mukret.collect.calls import Basic, Bearer, Call, Calls, Limits, Secret
from mukret.collect.calls_file import load_calls, parse_calls
from mukret.collect.calls_writing import write_calls
from mukret.collect.collect import Collection, Manner
from mukret.collect.folder import CaptureFolder
from mukret.collect.report import Answer, CollectionReport

__all__ = [
    "Answer",
    "Basic",
    "Bearer",
    "Bounds",
    "Call",
    "Calls",
    "CaptureFolder",
    "Collection",
    "CollectionReport",
    "Limits",
    "Manner",
    "Secret",
    "load_calls",
    "parse_calls",
    "write_calls",
]
