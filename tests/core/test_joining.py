import unittest
from unittest import mock

import msgspec
import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import joining
from keen_trellis.core.choosing import Chosen, with_fields
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.join_type import QUESTION_TYPES, JoinType, type_keeping
from keen_trellis.core.joining import FieldChoice, JoinedTable, PassedOverTable, Side, plan_fields
from keen_trellis.core.link import LinkField, Operator, Preparation, Take
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable, ChosenRows
from keen_trellis.core.task import Task
from tests.tables import joined, rows_of, table

LOANS = table(object=["A1", "b2", "Z9", None], title=["one", "two", "three", "four"], value=[10, 20, 30, 40])
OBJECTS = table(
    accession=["B2", "A1", "C3", "A1"],
    title=["Bell", "Lamp", "Chart", "Lamp again"],
    made=[1800, 1900, None, 1901],
)
LINKS = [LinkField("object", "accession", Preparation(case=True))]


class Fields(unittest.TestCase):
    def plan(self, kind: JoinType = JoinType.LEFT_OUTER, **choice) -> list[str]:
        plan = plan_fields(LOANS.fields, OBJECTS.fields, LINKS, kind, FieldChoice(**choice), "Objects")
        return [entry.field.name for entry in plan]

    def test_the_link_field_stands_once_and_same_names_stay_tellable_apart(self):
        self.assertEqual(self.plan(), ["object", "title", "value", "title of Objects", "made"])

    def test_on_request_both_link_fields_stay(self):
        self.assertIn("accession", self.plan(both_links=True))

    def test_a_link_field_that_is_asked_for_by_name_is_brought(self):
        self.assertEqual(
            self.plan(bring=("accession", "made")), ["object", "title", "value", "accession", "made"]
        )

    def test_on_request_all_brought_fields_carry_the_tables_name(self):
        self.assertEqual(self.plan(bring=("made",), name_all=True)[-1], "made of Objects")

    def test_fields_come_in_the_order_chosen(self):
        self.assertEqual(
            self.plan(keep=("value", "object"), bring=("made", "title")), ["value", "object", "made", "title"]
        )

    def test_one_sided_types_have_one_sides_fields(self):
        self.assertEqual(self.plan(JoinType.LEFT_ANTI), ["object", "title", "value"])
        self.assertEqual(self.plan(JoinType.RIGHT_SEMI), ["accession", "title", "made"])
        self.assertEqual(
            self.plan(JoinType.FULL_ANTI), ["object", "title", "value", "title of Objects", "made"]
        )

    def test_a_name_is_never_given_twice(self):
        left = table(k=[1], x=[1], **{"x of R": [2]})
        right = table(k=[1], x=[3])
        plan = plan_fields(
            left.fields, right.fields, [LinkField("k", "k")], JoinType.INNER, FieldChoice(), "R"
        )
        self.assertEqual([entry.field.name for entry in plan], ["k", "x", "x of R", "x of R 2"])

    def test_types_without_a_common_exact_type_keep_both_link_fields(self):
        left, right = table(k=[1]), table(q=[1.0])
        plan = plan_fields(
            left.fields, right.fields, [LinkField("k", "q")], JoinType.INNER, FieldChoice(), "R"
        )
        self.assertEqual([entry.field.name for entry in plan], ["k", "q"])

    def test_an_unknown_field_is_named_with_its_neighbours(self):
        with self.assertRaisesRegex(UsageError, "titel.*title"):
            self.plan(bring=("titel",))


class Rows(unittest.TestCase):
    def setUp(self):
        self.match = match(LOANS, OBJECTS, LINKS)

    def rows(self, kind: JoinType) -> list[tuple]:
        return rows_of(joined(LOANS, OBJECTS, self.match, LINKS, kind, FieldChoice(bring=("made",))))

    def test_the_link_field_is_filled_from_whichever_side_has_it(self):
        self.assertEqual(
            self.rows(JoinType.FULL_OUTER),
            [
                ("A1", "one", 10, 1900),
                ("A1", "one", 10, 1901),
                ("b2", "two", 20, 1800),
                ("Z9", "three", 30, None),
                (None, "four", 40, None),
                ("C3", None, None, None),
            ],
        )

    def test_a_matched_row_shows_the_left_raw_value(self):
        self.assertEqual(self.rows(JoinType.INNER)[2][0], "b2")

    def test_counts(self):
        counts = self.match.counts
        self.assertEqual((counts.pairs, counts.left_matched, counts.right_matched), (3, 2, 3))
        self.assertEqual((counts.left_blank, counts.right_blank), (1, 0))
        self.assertEqual((counts.pairs_as_written, counts.left_only_prepared), (2, 1))
        self.assertEqual(counts.cardinality, "1:n")
        self.assertEqual(counts.rows_by_type()["cross"], 16)

    def test_no_partner_is_told_from_blank(self):
        found = joined(LOANS, OBJECTS, self.match, LINKS, JoinType.FULL_OUTER, FieldChoice(bring=("made",)))
        made = found.column("made")
        self.assertEqual(made.absent.tolist(), [False, False, False, True, True, False])
        self.assertTrue(made.values[5].as_py() is None)
        self.assertFalse(found.column("object").absent is not None and found.column("object").absent.any())

    def test_the_three_states_survive_a_chain_of_joins(self):
        first = joined(LOANS, OBJECTS, self.match, LINKS, JoinType.LEFT_OUTER, FieldChoice(bring=("made",)))
        years = table(year=[1900, 1800], word=["late", None])
        links = [LinkField("made", "year")]
        second = joined(first, years, match(first, years, links), links, JoinType.LEFT_OUTER)
        word, made = second.column("word"), second.column("made")
        self.assertEqual(word.values.to_pylist(), ["late", None, None, None, None])
        self.assertEqual(word.absent.tolist(), [False, True, False, True, True])
        self.assertEqual(made.absent.tolist(), [False, False, False, True, True])

    def test_rows_without_number_are_without_partner(self):
        found = joined(LOANS, OBJECTS, self.match, LINKS, JoinType.FULL_OUTER)
        cells = found.take(np.array([-1, 0]), ["value"])[0]
        self.assertEqual((cells.values.to_pylist(), cells.absent.tolist()), ([None, 10], [True, False]))

    def test_a_row_knows_its_origins_on_both_sides(self):
        left = ArrowTable(pa.table({"k": [1, 2]}), file="a.xlsx", table="A", row_numbers=np.array([4, 9]))
        right = ArrowTable(pa.table({"k": [2]}), file="b.csv")
        links = [LinkField("k", "k")]
        found = joined(left, right, match(left, right, links), links, JoinType.LEFT_OUTER)
        self.assertEqual([str(origin) for origin in found.origins(1)], ["a.xlsx, A, row 9", "b.csv, row 1"])
        self.assertEqual([str(origin) for origin in found.origins(0)], ["a.xlsx, A, row 4"])

    def test_partners_of_one_row(self):
        self.assertEqual(self.match.partners_in_right(0).tolist(), [1, 3])
        self.assertEqual(self.match.partners_in_left(0).tolist(), [1])
        self.assertEqual(self.match.partners_in_right(3).tolist(), [])

    def test_too_large_a_result_is_refused_with_its_number(self):
        plan = plan_fields(LOANS.fields, OBJECTS.fields, LINKS, JoinType.INNER, FieldChoice(), "Objects")
        limit = mock.patch.object(joining, "MOST_RESULT_ROWS", 2)
        with limit:
            # No more rows than go in are no more than there is room for.
            self.assertEqual(JoinedTable(LOANS, OBJECTS, self.match, JoinType.INNER, plan).rows, 3)
        same = table(k=[1] * 4)
        every = match(same, same, [LinkField("k", "k")])
        plan = plan_fields(
            same.fields, same.fields, [LinkField("k", "k")], JoinType.INNER, FieldChoice(), "Same"
        )
        with limit, self.assertRaisesRegex(DataError, "16 rows; the limit is 8"):
            JoinedTable(same, same, every, JoinType.INNER, plan)

    def test_empty_tables_join(self):
        nothing = table(accession=["x"]).take(range(0), ["accession"])[0].values
        empty = ArrowTable(pa.table({"accession": nothing}))
        links = [LinkField("object", "accession")]
        for left, right, pairs in ((LOANS, empty, links), (empty, LOANS, [LinkField("accession", "object")])):
            found = match(left, right, pairs)
            for kind in QUESTION_TYPES:
                self.assertEqual(
                    len(rows_of(joined(left, right, found, pairs, kind))), found.counts.rows_under(kind)
                )


class Refusals(unittest.TestCase):
    def test_types_that_can_never_be_equal_are_refused(self):
        with self.assertRaisesRegex(DataError, "object is text and made is integer"):
            match(LOANS, OBJECTS, [LinkField("object", "made")])

    def test_a_join_without_links_is_unfinished(self):
        with self.assertRaisesRegex(UsageError, "no link field yet"):
            match(LOANS, OBJECTS, [])

    def test_an_unknown_preparation_is_named(self):
        with self.assertRaisesRegex(UsageError, "colour.*accents, case, punctuation"):
            Preparation.ignoring(["colour"])

    def test_a_type_for_every_choice_of_parts(self):
        for kind in QUESTION_TYPES:
            if kind not in (JoinType.LEFT_SEMI, JoinType.RIGHT_SEMI):
                found = type_keeping(
                    unmatched_left=kind.keeps_unmatched_left,
                    matched=kind.keeps_matched,
                    unmatched_right=kind.keeps_unmatched_right,
                )
                self.assertIs(found, kind)
        self.assertIsNone(type_keeping(unmatched_left=False, matched=False, unmatched_right=False))


class FullAnti(unittest.TestCase):
    def test_the_field_that_tells_of_partners_tells_the_side(self):
        left, right = table(a=["x", "y"]), table(b=["y", "z"])
        links = [LinkField("a", "b")]
        choice = FieldChoice(partner_found=True)
        found = match(left, right, links)
        plan = plan_fields(
            left.fields, right.fields, links, JoinType.FULL_ANTI, choice, "Objects", left_name="Loans"
        )
        made = JoinedTable(left, right, found, JoinType.FULL_ANTI, plan)
        self.assertEqual(made.names[-1], "side")
        self.assertEqual([row[-1] for row in rows_of(made)], ["Loans", "Objects"])
        self.assertEqual(made.take(np.array([1, 0]), ["side"])[0].values.to_pylist(), ["Objects", "Loans"])

    def test_a_field_that_tells_the_side(self):
        left, right = table(a=["x", "y"], side=[1, 2]), table(b=["y", "z"])
        links = [LinkField("a", "b")]
        for kind, sides in (
            (JoinType.FULL_OUTER, ["left", "both", "right"]),
            (JoinType.INNER, ["both"]),
            (JoinType.LEFT_ANTI, ["left"]),
            (JoinType.FULL_ANTI, ["left", "right"]),
        ):
            found = joined(left, right, match(left, right, links), links, kind, FieldChoice(side=True))
            name = "side 2" if kind.has_left_fields else "side"
            self.assertEqual([row[-1] for row in rows_of(found)], sides)
            self.assertEqual(found.names[-1], name)


class Gathered(unittest.TestCase):
    """Cells that a table only gathers from another are told, with the rows that they are in there."""

    def check(self, found, sources):
        rows = np.array([found.rows - 1, -1, 0])
        told = {}
        for entry in found.gathered():
            for name, own in entry.names.items():
                told[name] = sources[id(entry.table)]
                for asked in (rows, range(found.rows)):
                    here = found.take(asked, [name])[0].values
                    self.assertEqual(here, entry.table.take(entry.rows(asked), [own])[0].values)
        return told

    def test_through_knots_and_steps(self):
        lenders = table(who=["Lamp", "Bell"], town=["Quay", "Mill"])
        sources = {id(LOANS): "loans", id(OBJECTS): "objects", id(lenders): "lenders"}
        first = joined(LOANS, OBJECTS, match(LOANS, OBJECTS, LINKS), LINKS, JoinType.FULL_OUTER)
        links = [LinkField("title of Right", "who")]
        both = joined(first, lenders, match(first, lenders, links), links, JoinType.LEFT_OUTER)
        told = self.check(both, sources)
        self.assertEqual(told["town"], "lenders")
        self.assertEqual((told["value"], told["made"]), ("loans", "objects"))
        plan = [
            (msgspec.structs.replace(field, name=f"{field.name}!"), Chosen(field.name))
            for field in both.fields
        ]
        steps = with_fields(ChosenRows(both, np.array([2, 0, 1, 2])), plan, Task())
        self.assertEqual(self.check(steps, sources), {f"{name}!": its for name, its in told.items()})

    def test_what_is_made_here_is_not(self):
        choice = FieldChoice(partner_found="found", merge=(("title", Side.LEFT_FIRST),))
        found = joined(LOANS, OBJECTS, match(LOANS, OBJECTS, LINKS), LINKS, JoinType.FULL_OUTER, choice)
        told = self.check(found, {id(LOANS): "loans", id(OBJECTS): "objects"})
        self.assertEqual(told, {"value": "loans", "made": "objects"})

    def test_a_table_joined_with_itself_again_and_again(self):
        found = table(key=[1, 2], value=[3, 4])
        links = [LinkField("key", "key")]
        for _ in range(24):
            choice = FieldChoice(bring=())
            found = joined(found, found, match(found, found, links), links, JoinType.INNER, choice)
        self.assertEqual([list(entry.names) for entry in found.gathered()], [["value"]])


if __name__ == "__main__":
    unittest.main()


class RowsFrom(unittest.TestCase):
    """In which rows of a join given rows of its sides are: found from the match, as from looking at all."""

    def in_all(self, joined, which, rows):
        """The rows of a join whose left or right row is one of some, found by looking at each."""
        return np.flatnonzero(np.isin(joined.rows_of_sides(np.arange(joined.rows))[which], rows))

    @given(
        st.lists(st.integers(0, 4) | st.none(), max_size=9),
        st.lists(st.integers(0, 4) | st.none(), max_size=9),
        st.sampled_from(["every", "first", "last", "pair-off"]),
        st.booleans(),
        st.randoms(use_true_random=False),
    )
    def test_it_is_as_looking_at_every_row(self, mine, theirs, take, ordered, chance):
        left, right = (ArrowTable(pa.table({"k": pa.array(keys, pa.int64())})) for keys in (mine, theirs))
        links = [LinkField("k", "k", operator=Operator.AT_MOST if ordered else Operator.EQUAL)]
        found = match(left, right, links, take=Take.named(take))
        plans = {
            kind: plan_fields(left.fields, right.fields, links, kind, FieldChoice(), "R")
            for kind in QUESTION_TYPES
        }
        made = [JoinedTable(left, right, found, kind, plan) for kind, plan in plans.items()]
        made.append(PassedOverTable(left, right, found, plans[JoinType.FULL_ANTI]))
        for side, source in enumerate((left, right)):
            rows = np.array(
                sorted(chance.sample(range(source.rows), chance.randint(0, source.rows))), np.int64
            )
            for entry in made:
                seen = entry.rows_from(source, rows).tolist()
                self.assertEqual(seen, self.in_all(entry, side, rows).tolist())
