"""From what was typed (files, folders, globs, `-`) to sources in their order."""

from __future__ import annotations

import glob
import os
import shlex
from collections.abc import Iterable, Iterator
from pathlib import Path

from mukret.codes import Code
from mukret.documents.captures import captured_sources, is_capture
from mukret.documents.sources import STANDARD_INPUT, Source
from mukret.errors import InputError
from mukret.text import nearest

ENDINGS = (".json", ".jsonl", ".ndjson", ".geojson", ".json-seq", ".har")
_PACKED = ("", ".gz", ".zst", ".bz2", ".xz")


def find_sources(
    inputs: Iterable[str | os.PathLike[str]], *, newest: bool = False
) -> list[Source]:
    """All sources that the inputs stand for, in order: folders and globs are followed, by name.

    With `newest` collected folders give only the newest answer of each address.

    Raises InputError for what is not there, and for a folder or glob without a response in it.
    """
    sources = [
        source for item in inputs for source in _found(os.fspath(item), newest=newest)
    ]
    if not sources:
        hint = "name a file, a folder, a glob, or - for standard input"
        raise InputError(Code.NO_INPUT, "no input was given", hint=hint)
    # Nothing would be left out, and nobody would know that the option had no effect.
    if newest and not any(source.origin for source in sources):
        message = "--newest is for a folder that mukret collect wrote, and here is none"
        raise InputError(Code.NO_INPUT, message, hint="leave it out")
    return sources


def _found(name: str, *, newest: bool) -> list[Source]:
    """What one input stands for. A name that exists is no glob, whatever characters it has."""
    if name == STANDARD_INPUT:
        return [Source(name)]
    if name.lower().startswith(("http://", "https://")):
        hint = (
            f"keep the answer first: mukret collect {shlex.quote(name)} --to kept, and read the "
            "folder kept"
        )
        message = f"{name}: this is an address, and files are read here"
        raise InputError(Code.NOT_OPENED, message, hint=hint)
    if os.path.isdir(name):
        return _in_folder(name, newest=newest)
    if os.path.exists(name):
        # Asked, not opened: a pipe can be opened only once.
        if not os.access(name, os.R_OK):
            message = f"{name}: permission denied"
            raise InputError(Code.NOT_OPENED, message, hint="check the permissions")
        return [Source(name)]
    if glob.has_magic(name):
        return _by_glob(name)
    near = neighbour(name)
    hint = f"did you mean {near}?" if near else "check the path"
    raise InputError(Code.NOT_OPENED, f"{name}: no such file or folder", hint=hint)


def _is_response(path: Path) -> bool:
    return path.is_file() and any(
        path.name.endswith(ending + packed) for ending in ENDINGS for packed in _PACKED
    )


def _in_folder(name: str, *, newest: bool) -> list[Source]:
    sources = list(_responses_below(Path(name), newest=newest))
    if not sources:
        # Files of other kinds are passed over, and that must be known.
        hint = f"responses end in {', '.join(ENDINGS)}, with or without {' '.join(_PACKED[1:])}"
        raise InputError(
            Code.NO_INPUT, f"{name}: a folder with no response in it", hint=hint
        )
    return sources


def _responses_below(folder: Path, *, newest: bool) -> Iterator[Source]:
    """All responses in a folder and below, by name; a collected folder gives its own, in the order
    in which they came.

    Hidden folders and those that hold the tables of a run are passed over.
    """
    # A delivery that was put beside its responses is no response.
    if (folder / "run.json").exists() and (folder / "rejects.jsonl").exists():
        return
    if is_capture(folder):
        yield from captured_sources(folder, newest=newest)
        return
    for entry in sorted(folder.iterdir(), key=lambda entry: entry.parts):
        if entry.is_dir():
            if not entry.name.startswith("."):
                yield from _responses_below(entry, newest=newest)
        elif _is_response(entry):
            yield Source(str(entry), named=False)


def _by_glob(name: str) -> list[Source]:
    paths = sorted(
        path for path in glob.glob(name, recursive=True) if os.path.isfile(path)
    )
    if not paths:
        raise InputError(
            Code.NO_INPUT, f"{name}: nothing matches", hint="check the pattern"
        )
    # An empty one among many is no mistake of who typed the pattern.
    return [Source(path, named=False) for path in paths]


def neighbour(name: str, endings: tuple[str, ...] = ("",)) -> str | None:
    """What was most likely meant, of what has one of the endings: the file beside it (endings,
    which many share, are not compared), or the same below the folder beside the one that is not
    there.
    """
    # The first part of the path that is not there is the one that was mistyped.
    folder, file = os.path.split(name)
    if folder and not os.path.isdir(folder):
        beside = neighbour(folder)
        return (
            os.path.join(beside, file)
            if beside and os.path.exists(os.path.join(beside, file))
            else beside
        )
    folder = folder or "."
    try:
        stems = {
            entry.partition(".")[0]: entry
            for entry in sorted(os.listdir(folder), reverse=True)
            if entry.endswith(endings)
        }
    except OSError:
        return None
    near = nearest(os.path.basename(name).partition(".")[0], stems)
    return os.path.join(os.path.dirname(name), stems[near]) if near else None
