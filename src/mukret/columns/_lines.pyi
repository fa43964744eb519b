from typing_extensions import Buffer

def are_short(
    first: int, count: int, validity: Buffer | None, values: Buffer | None
) -> bool: ...

class Lines:
    def __init__(self, count: int, rows: int) -> None: ...
    def add(
        self,
        what: int,
        scale: int,
        first: int,
        validity: Buffer | None,
        values: Buffer | None,
        ends: Buffer | None,
        data: Buffer | None,
    ) -> None: ...
    def text(self) -> bytes: ...
