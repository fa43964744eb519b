"""What any reader of a feed of lines must do at least.

floor.py read FEED.jsonl    reads the bytes floor.py parse FEED.jsonl   reads them and decodes, line
by line, what the rules for the feed of sailings read floor.py whole FEED.jsonl   decodes all that
stands in each line, by the fastest general parser
"""

from __future__ import annotations

import gc
import sys
from typing import Any

import msgspec
import orjson

Scalar = str | int | bool | None


class Vessel(msgspec.Struct, gc=False):
    name: Any = None
    hull: Any = None


class Sailing(msgspec.Struct, gc=False):
    id: Any = None
    vessel: Vessel | list[Any] | Scalar = None
    state: Any = None
    departs: Any = None
    arrives: Any = None
    fare: Any = None
    load: Any = None


class Port(msgspec.Struct, gc=False):
    code: Any = None
    sailings: list[Sailing | list[Any] | Scalar] | Scalar = None


class Result(msgspec.Struct, gc=False):
    ports: list[Port | list[Any] | Scalar] | Scalar = None


class Response(msgspec.Struct, gc=False):
    result: Result | list[Any] | Scalar = None


def main() -> None:
    work, path = sys.argv[1:]
    decode = orjson.loads if work == "whole" else msgspec.json.Decoder(Response).decode
    gc.disable()
    with open(path, "rb") as feed:
        rest = b""
        while more := feed.read(2_000_000):
            if work != "read":
                *lines, rest = (rest + more).split(b"\n")
                for line in lines:
                    decode(line)


if __name__ == "__main__":
    main()
