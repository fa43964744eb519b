"""Write the tables of the expressions' parser beside their grammar, after a change of it or of the
library.

python scripts/make_parser_tables.py
"""

from __future__ import annotations

from pathlib import Path

from mukret.expressions.parser_tables import GRAMMAR, TABLES, tables_of

HOME = Path(__file__).parent.parent / "src" / "mukret" / "expressions"


def main() -> None:
    grammar = (HOME / GRAMMAR).read_text(encoding="utf-8")
    (HOME / TABLES).write_text(tables_of(grammar), encoding="utf-8")


if __name__ == "__main__":
    main()
