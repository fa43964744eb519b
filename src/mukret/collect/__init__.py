"""Asking a service for responses and keeping each as it came."""

from mukret.collect.bounds import Bounds
from mukret.collect.calls import Basic, Bearer, Call, Calls, Secret
from mukret.collect.calls_file import load_calls, write_calls
from mukret.collect.collect import Answer, collect
from mukret.collect.folder import CaptureFolder

__all__ = [
    "Answer",
    "Basic",
    "Bearer",
    "Bounds",
    "Call",
    "Calls",
    "CaptureFolder",
    "Secret",
    "collect",
    "load_calls",
    "write_calls",
]
