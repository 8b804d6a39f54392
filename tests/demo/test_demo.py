"""The demo's data holds the trouble that its generator lists, and is the same every time."""

import csv
import hashlib
import sqlite3
import tempfile
import unittest
from pathlib import Path

from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.demo import scenario as tables
from keen_trellis.demo.files import (
    COURIER_FOLDER,
    LOANS_FILE,
    RATES_FILE,
    REGISTRY_FILE,
    RETURNS_FILE,
    VISITORS_FILE,
)
from keen_trellis.demo.setting_up import make
from keen_trellis.sources.library import Library
from tests import demo_data
from tests.tables import rows_of


def read(name: str, table: str = "") -> list[tuple]:
    library = Library()
    content = library.content(demo_data.folder() / name)
    return rows_of(library.get(content.settings(table or content.tables[0].name), Task()).table)


class Generator(unittest.TestCase):
    def test_the_same_seed_gives_the_same_bytes(self):
        with tempfile.TemporaryDirectory() as again:
            for path in make(Path(again)):
                first = demo_data.folder() / path.relative_to(again)
                digests = [hashlib.sha256(file.read_bytes()).hexdigest() for file in (first, path)]
                self.assertEqual(*digests, path.name)
        self.assertEqual(tables.build().loans, demo_data.scenario().loans)

    def test_another_seed_gives_other_data(self):
        self.assertNotEqual(tables.build(seed=1).loans, demo_data.scenario().loans)

    def test_a_few_megabytes_at_most(self):
        size = sum(path.stat().st_size for path in demo_data.folder().rglob("*") if path.is_file())
        self.assertLess(size, 5 * 2**20)


class Planted(unittest.TestCase):
    def setUp(self):
        self.scenario = demo_data.scenario()
        self.planted = self.scenario.planted

    def test_every_loan_without_object_is_a_planted_one(self):
        registered = {row[1] for row in self.scenario.objects}
        lost = {row[0] for row in self.scenario.loans if (row[1] or "").strip().upper() not in registered}
        self.assertEqual(lost, self.planted.without_object)
        self.assertEqual(len(lost), 31 + 6 + 5 + 4 + 3)

    def test_every_loan_that_needs_case_or_spaces_is_a_planted_one(self):
        registered = {row[1] for row in self.scenario.objects}
        found = {
            row[0] for row in self.scenario.loans if row[1] not in registered
        } - self.planted.without_object
        self.assertEqual(found, self.planted.only_after_case_and_outer_spaces)

    def test_two_accessions_stand_twice_and_are_lent(self):
        codes = [row[1] for row in self.scenario.objects]
        self.assertEqual(
            sorted({code for code in codes if codes.count(code) > 1}),
            sorted(self.planted.repeated_accessions),
        )
        for code in self.planted.repeated_accessions:
            self.assertIn(code, [row[1] for row in self.scenario.loans])

    def test_the_registry_has_its_keys_and_sets(self):
        base = sqlite3.connect(demo_data.folder() / REGISTRY_FILE)
        self.addCleanup(base.close)
        self.assertEqual(base.execute("SELECT count(*) FROM objects").fetchone(), (tables.OBJECTS,))
        parts = "SELECT count(*) FROM objects p JOIN objects w ON p.part_of = w.accession"
        self.assertEqual(base.execute(parts).fetchone(), (self.planted.parts_of_sets,))
        self.assertEqual(base.execute("PRAGMA foreign_key_check").fetchall(), [])
        self.assertEqual(len(base.execute("PRAGMA foreign_key_list(valuations)").fetchall()), 1)
        several = "SELECT count(*) FROM (SELECT 1 FROM valuations GROUP BY object_id HAVING count(*) > 1)"
        self.assertGreater(base.execute(several).fetchone()[0], 1_000)

    def test_two_venues_were_renamed(self):
        known = {row[0] for row in self.scenario.venues}
        lost = [row[0] for row in self.scenario.loans if row[2] not in known]
        self.assertEqual(lost, self.planted.loans_with_old_venue_name)
        self.assertEqual(len(self.planted.renamed_venues), 2)
        self.assertLessEqual(set(self.planted.renamed_venues.values()), known)
        self.assertFalse(set(self.planted.renamed_venues) & known)

    def test_courier_logs(self):
        short = {row[1] for row in self.scenario.venues}
        for month in range(1, 13):
            name = f"2026-{month:02d}.csv"
            with (demo_data.folder() / COURIER_FOLDER / name).open(newline="") as file:
                rows = list(csv.reader(file))
            self.assertEqual(len(rows[0]) == 5, name == self.planted.file_with_a_field_more, name)
            self.assertEqual(rows[1][3].startswith("£"), name in self.planted.currency_files, name)
            self.assertLessEqual({row[0] for row in rows[1:]}, short)

    def test_cover_rates_have_a_gap_and_an_overlap(self):
        bands = [(row[0], row[1]) for row in self.scenario.cover_rates[:5]]

        def covering(value):
            return sum(low <= value <= high for low, high in bands)

        self.assertEqual([covering(value) for value in self.planted.rates_gap], [0, 0])
        self.assertEqual([covering(value) for value in self.planted.rates_overlap], [2, 2])
        self.assertEqual(covering(700), 1)

    def test_the_returns_desk_disagrees_where_it_should(self):
        loans = {row[0]: row for row in self.scenario.loans}
        listed = {row[0]: row for row in self.scenario.returns}
        returned = {number for number, row in loans.items() if row[5] == "returned"}
        self.assertEqual(returned - set(listed), set(self.planted.returned_but_not_listed))
        self.assertEqual(set(listed) - returned, set(self.planted.returned_but_not_lent))
        disagree = {n for n in returned & set(listed) if loans[n][4].isoformat() != listed[n][2]}
        self.assertEqual(disagree, set(self.planted.dates_that_disagree))


class Files(unittest.TestCase):
    """What was written is what our own readers read."""

    def test_loans(self):
        self.assertEqual(read(LOANS_FILE, "Loans"), [tuple(row) for row in demo_data.scenario().loans])

    def test_venues_below_their_title_and_without_the_regions(self):
        self.assertEqual(read(LOANS_FILE, "Venues"), demo_data.scenario().venues)

    def test_objects(self):
        self.assertEqual(read(REGISTRY_FILE, "objects"), demo_data.scenario().objects)

    def test_visitors_have_months_as_dates(self):
        self.assertEqual(read(VISITORS_FILE, "Visitors"), demo_data.scenario().visitors)
        self.assertEqual(len(read(VISITORS_FILE, "Opening days")), 45)

    def test_text_files_have_their_types(self):
        self.assertEqual(len(read(RETURNS_FILE)), len(demo_data.scenario().returns))
        library = Library()
        content = library.content(demo_data.folder() / RATES_FILE)
        kinds = [field.type for field in library.get(content.settings(""), Task()).table.fields]
        T = FieldType
        self.assertEqual(kinds, [T.INTEGER, T.INTEGER, T.DATE, T.DATE, T.DECIMAL])


if __name__ == "__main__":
    unittest.main()
