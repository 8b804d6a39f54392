"""Every kind of step on a rail in a flow: what it says, comes to and lacks, and a union of rails."""

import datetime as dt
import unittest

import numpy as np

from keen_trellis.core.beside import beside
from keen_trellis.core.errors import DataError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.flow.tracing import back
from tests.flow.test_file_format import rail_settings
from tests.flow.test_runner import Shelf
from tests.tables import rows_of, table


def loans():
    return table(
        **{"Object no": ["LC.1", "LC.2", "HM.3"], "Venue": ["Quay", None, "Mill"], "Note": ["x", None, "y"]}
    )


class EveryKind(unittest.TestCase):
    def setUp(self):
        self.shelf = Shelf(loans=loans())
        self.flow, self.source = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        self.runner = Runner(KINDS, self.shelf)

    def rows_after(self, kind, settings):
        flow, step = edits.insert_after(self.flow, Input(self.source), kind, settings)
        return self.runner.result(flow, step).rows

    def test_what_each_kind_says_and_comes_to(self):
        expected = {
            "choose": (("Place", "Object no"), [("Quay", "LC.1"), (None, "LC.2"), ("Mill", "HM.3")]),
            "filter": (("Object no", "Venue", "Note"), [("HM.3", "Mill", "y")]),
            "compute": (None, [False, None, False]),
            "mend-text": (None, ["Quby", None, "Mill"]),
            "correct": (None, ["Pier", None, "Mill"]),
            "split": (("Object no", "collection", "number", "Venue", "Note"), None),
            "number-rows": (("Object no", "Venue", "Note", "no", "Note of the row before"), None),
            "rows-to-columns": (("Note", "Quay", "Mill"), None),
            "walk": (("Object no", "Venue", "Note", "level", "top", "Venue of the top"), None),
            "split-rows": (None, ["Q", "ay", None, "Mill"]),
            "columns-to-rows": (("Object no", "of", "value"), None),
            "combine": (None, ["Quay / LC.1", "LC.2", "Mill / HM.3"]),
            "fill": (None, ["Quay", "?", "Mill"]),
            "sort": (None, [None, "Quay", "Mill"]),
            "distinct": (None, None),
            "first": (None, ["Quay", None, "Mill"]),
        }
        said = {
            "choose": "Of Loans, keep Place and all others, without Note.",
            "filter": "Keep the rows of Loans in which Venue is “Pier” or “Mill”.",
            "compute": "In Loans, compute long as CHAR_LENGTH(Venue) > 10.",
            "mend-text": "In Loans, write Venue: “a” replaced by “b”.",
            "correct": "In Venue of Loans, correct 1 value.",
            "split": "Split Object no of Loans at “.” into collection, number.",
            "number-rows": (
                "To Loans, within each Venue, by Note, add row number as no, Note of the row before."
            ),
            "rows-to-columns": (
                "Of Loans, make one row for each Note, "
                "with a column for each of Quay, Mill of Venue: the rows."
            ),
            "walk": (
                "In Loans, follow Note to Venue up to the top, and add level, top, Venue of the top, "
                "each whole before its parts."
            ),
            "split-rows": (
                "Of Loans, make one loan for each part of Venue, divided at “u”, numbered in part."
            ),
            "columns-to-rows": (
                "Of Loans, make one loan for each of Venue, Note, its name in of and its cell in value, "
                "none for blank cells."
            ),
            "combine": "Combine Venue, Object no of Loans into both, “ / ” between them.",
            "sort": "Sort Loans by Venue, descending.",
            "distinct": (
                "Of loans with the same Venue, keep the last loan; those with a blank there all stay."
            ),
            "first": (
                "Keep the first 1 loan of each Venue by Venue; those that are equal to the last one stay too."
            ),
        }
        for kind, planned in rail_settings():
            settings = planned
            if kind == "fill":
                settings = type(settings)((type(settings.fills[0])(fields=("Venue",), of="?", gaps="blank"),))
            with self.subTest(kind):
                rows = self.rows_after(kind, settings)
                names, cells = expected[kind]
                if names is not None:
                    self.assertEqual(rows.names, names)
                if cells is not None:
                    place = (
                        rows.names.index("Venue")
                        if "Venue" in rows.names and kind not in ("compute", "combine")
                        else -1
                    )
                    found = rows_of(rows)
                    self.assertEqual(found if names else [row[place] for row in found], cells)
                shape = InputShape("Loans", self.shelf.tables["loans"].fields)
                if kind in said:
                    self.assertEqual(KINDS.find(kind).sentence(settings, [shape]), said[kind])
                # The fields are known without a row, and are those of the rows.
                known = KINDS.find(kind).fields(settings, [shape], "rows")
                self.assertEqual(
                    [(f.name, f.arrow_type) for f in known], [(f.name, f.arrow_type) for f in rows.fields]
                )

    def test_each_kind_says_what_it_lacks_where_its_field_is_gone(self):
        shape = InputShape("Loans", table(other=[1]).fields)
        for kind, settings in rail_settings():
            with self.subTest(kind):
                (problem,) = KINDS.find(kind).problems(settings, [shape])
                self.assertIn("There is no field", str(problem))

    def test_a_chain_of_all_of_them_leads_back_to_the_source(self):
        flow = self.flow
        last = self.source
        for kind, settings in rail_settings():
            if kind in ("compute", "mend-text", "split", "combine", "sort"):
                flow, last = edits.insert_after(flow, Input(last), kind, settings)
        rows = self.runner.result(flow, last).rows
        self.assertEqual([row[0] for row in rows_of(rows)], ["LC.2", "LC.1", "HM.3"])
        way = back(self.runner, flow, last, "rows", 1, Task(), "both")
        self.assertEqual(way[0].cell, "both: Quby / LC.1")
        self.assertEqual(way[-1].cell, "Venue: Quay; Object no: LC.1")
        self.assertEqual(self.runner.shape(flow, Input(last)).name, "Loans")

    def test_what_depends_on_the_day_is_not_kept_for_another_day(self):
        def fingerprint(expression, day):
            condition = FilterSettings(conditions=(ConditionSettings(expression, "true"),))
            flow, step = edits.insert_after(self.flow, Input("loans"), "filter", condition)
            self.runner.day = day
            return self.runner.plan(flow).planned(step, Task()).fingerprint

        days = dt.date(2026, 3, 2), dt.date(2026, 3, 3)
        told, other = (fingerprint("current_date > DATE '2026-01-01'", day) for day in days)
        self.assertNotEqual(told, other)
        self.assertEqual(*(fingerprint("Venue = 'x'", day) for day in days))


class Beside(unittest.TestCase):
    def made(self, loans, objects):
        flow, ids = Flow(), []
        for name in ("Loans", "Objects"):
            flow, step = edits.add_source(flow, SourceSettings("text", f"/{name}", name.lower()), name)
            ids.append(Input(step))
        flow, both = edits.add_beside(flow, *ids)
        return Runner(KINDS, Shelf(loans=loans, objects=objects)).result(flow, both).rows

    def test_each_row_is_next_to_the_one_at_its_place(self):
        loans, objects = table(no=[1, 2], v=["a", "b"]), table(no=[7, 8])
        rows = self.made(loans, objects)
        self.assertEqual(rows.names, ("no", "v", "no of Objects"))
        self.assertEqual(rows_of(rows), [(1, "a", 7), (2, "b", 8)])
        self.assertEqual([origin.row for origin in rows.origins(1)], [2, 2])
        rows = beside(loans, objects, "Loans", "Objects")
        self.assertEqual(rows.rows_from(objects, np.array([1])).tolist(), [1])
        self.assertEqual(rows.read_from("no of Objects"), [(objects, "no")])

    def test_tables_of_another_length_are_refused_with_both_numbers(self):
        with self.assertRaisesRegex(DataError, "Loans has 2 rows and Objects 3"):
            self.made(table(no=[1, 2]), table(id=[1, 2, 3]))


class Unions(unittest.TestCase):
    def test_rails_one_below_the_other_with_their_names(self):
        shelf = Shelf(january=table(no=[1], cost=[5]), february=table(no=[2], crates=[3]))
        flow, ids = Flow(), []
        for name in ("January", "February"):
            flow, step = edits.add_source(flow, SourceSettings("text", f"/{name}", name.lower()), name)
            ids.append(Input(step))
        flow, union = edits.add_step(flow, "union", "Trips", ids, UnionSettings(rail_field="month"))
        runner = Runner(KINDS, shelf)
        rows = runner.result(flow, union).rows
        self.assertEqual(rows_of(rows), [(1, 5, None, "January"), (2, None, 3, "February")])
        self.assertEqual(runner.shape(flow, Input(union)).fields, rows.fields)
        # The name is in the rows, so that another one makes other rows.
        flow = edits.rename(flow, ids[0].step, "Jan")
        self.assertEqual(rows_of(runner.result(flow, union).rows)[0][3], "Jan")

    def test_what_has_no_common_type_is_said_before_a_row_is_read(self):
        kind = KINDS.find("union")
        shapes = [InputShape("A", table(v=[1]).fields), InputShape("B", table(v=["x"]).fields)]
        (problem,) = kind.problems(UnionSettings(), shapes)
        self.assertIn("v is integer and text", str(problem))
        self.assertEqual(kind.problems(UnionSettings(mixed_as_text=True), shapes), [])


if __name__ == "__main__":
    unittest.main()
