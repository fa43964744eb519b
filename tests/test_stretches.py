"""A long file that several machines read in stretches is the file that one machine reads."""

from __future__ import annotations

import random
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mukret.documents import Source, read_batches
from mukret.documents.sources import Stretch
from mukret.documents.stretches import stretches
from tests.helpers import FolderCase

LINES = (
    '{"no": 1}',
    "",
    "  ",
    "\t",
    '{"no": ',
    "[1, 2]",
    '{"text": "Brannock by Sea"}',
    "null",
    "\u00e9",
    '"\ufeff"',
)
FILES = 400


class Stretches(FolderCase):
    def read(self, path: Path, some: Sequence[Stretch | None]) -> tuple[list[Any], int]:
        """Documents and what is no JSON, with their numbers and places; and how many there are."""
        found: list[Any] = []
        count = 0
        for stretch in some:
            before = 0 if stretch is None else stretch.documents
            source = Source(str(path), documents=before, stretch=stretch)
            for batch in read_batches([source]):
                found += zip(batch.numbers, map(repr, batch.documents), strict=True)
                found += [(bad.number, str(bad.finding)) for bad in batch.bad]
            count = source.documents
        return sorted(found), count

    def test_random_lines_in_random_stretches(self) -> None:
        chance = random.Random(20310403)
        cut = 0
        for number in range(FILES):
            ends = chance.choice(["\n", "\r\n"])
            lines = ['{"no": 0}', *chance.choices(LINES, k=chance.randint(1, 40))]
            text = (
                chance.choice(["", "\ufeff", "\n"])
                + ends.join(lines)
                + chance.choice(["", ends])
            )
            path = self.file(f"{number}.jsonl", text)
            found = stretches(Source(str(path)), chance.randint(1, 60))
            with self.subTest(text=text):
                if found is None:  # one line alone is a document
                    continue
                self.assertEqual(
                    (found[0].start, found[-1].end), (0, path.stat().st_size)
                )
                self.assertEqual(
                    [one.end for one in found[:-1]], [one.start for one in found[1:]]
                )
                self.assertEqual(self.read(path, found), self.read(path, [None]))
                cut += len(found) > 1
        self.assertGreater(cut, FILES // 3)

    def test_what_can_not_be_cut(self) -> None:
        for name, text in (
            ("a.json", '{"no":\n1}'),
            ("b.json-seq", '\x1e{"no": 1}\n\x1e{"no": 2}\n'),
            ("c.jsonl", ""),
        ):
            self.assertIsNone(stretches(Source(str(self.file(name, text))), 1), name)
        wide = self.file("d.jsonl", '{"no": 1}\n{"no": 2}\n'.encode("utf-16"))
        self.assertIsNone(stretches(Source(str(wide)), 1))
