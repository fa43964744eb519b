"""Drafts laid beside rules by hand, for responses in many shapes: how much of these they have, and
that they harm nothing.
"""

from __future__ import annotations

import unittest

from tests.drafts.cases import CASES
from tests.drafts.scoring import Score, score, share
from tests.helpers import FolderCase


class Scores(FolderCase):
    def test_drafts_have_nearly_all_that_a_person_writes_and_harm_nothing(self) -> None:
        together = Score()
        for case in CASES:
            with self.subTest(case.name):
                folder = self.folder / case.name
                folder.mkdir()
                found = score(case, folder)
                self.assertEqual(
                    (found.nulled, found.rows_of_nulls), (0, 0), found.wrong
                )
                together.add(found)
        shares = [
            share(counts)
            for counts in (together.tables, together.fields, together.types)
        ]
        print(f"\n{len(CASES)} drafts beside rules by hand:", end=" ")
        print(
            ", ".join(
                f"{part:.1%} of the {name}"
                for part, name in zip(
                    shares, ("tables", "fields", "types"), strict=True
                )
            )
        )
        self.assertGreaterEqual(len(CASES), 40)
        self.assertGreaterEqual(shares[0], 0.9, together.wrong)
        self.assertGreaterEqual(shares[1], 0.9, together.wrong)
        self.assertGreaterEqual(shares[2], 0.95, together.wrong)
        self.assertLessEqual(together.drafted_tables, 2 * together.tables[1])
        self.assertLessEqual(share(together.other_half), 0.01, together.wrong)


if __name__ == "__main__":
    unittest.main()
