"""Blocks of bytes → rows and cells: which kind of value stands where, as flat arrays, in one pass
of compiled code.

`program.py` makes a program out of paths; `_scanner` runs it over bytes, and is the decoder: what
comes through is JSON (RFC 8259). `_kernels` makes the buffers of typed columns out of cells,
`_keys` hashes of keys. None knows rules, and none holds the interpreter's lock while it works.
"""

from mukret.scan._kernels import Cells
from mukret.scan._keys import HashSet, hashes_of
from mukret.scan._scanner import Memory, Program, Scan, counted_lines, is_json
from mukret.scan.kinds import Kind

__all__ = [
    "Cells",
    "HashSet",
    "Kind",
    "Memory",
    "Program",
    "Scan",
    "counted_lines",
    "hashes_of",
    "is_json",
]
