"""Run values: put into settings where these take them, and nowhere else."""

import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import FlowFileError, TrellisError, UsageError
from keen_trellis.core.expressions.parsing import parse
from keen_trellis.core.filtering import Comparison
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import dump
from keen_trellis.flow.file_format import parse as parse_flow
from keen_trellis.flow.graph import Flow, Input, RunValue
from keen_trellis.flow.run_values import (
    bound_expression,
    bound_settings,
    bound_text,
    check_run_value,
    literal,
    renamed_in,
    with_given,
)
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.shared_filters import add_filter, change_filter, places_for
from keen_trellis.flow.source_settings import CalendarSettings, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.sources.library import Library
from tests.tables import rows_of, table

VENUE = RunValue("venue", value="O'Brien: Pier")
RATE = RunValue("rate", type="number", value="-0.5")
SINCE = RunValue("since", type="date", value="2026-05-01")
VALUES = (VENUE, RATE, SINCE)


class Binding(unittest.TestCase):
    def test_an_expression_gets_literals_but_not_within_quotes(self):
        text = """CASE WHEN "a :venue" = :venue THEN ':rate' ELSE :rate * v END"""
        self.assertEqual(
            bound_expression(text, VALUES),
            """CASE WHEN "a :venue" = 'O''Brien: Pier' THEN ':rate' ELSE (-0.5) * v END""",
        )
        self.assertEqual(bound_expression("d >= :since", VALUES), "d >= DATE '2026-05-01'")

    def test_a_text_gets_values_where_a_name_stands_alone(self):
        for text, bound in (
            ("logs/:since.csv", "logs/2026-05-01.csv"),
            (":rate", "-0.5"),
            ("12:rate", "12:rate"),
            (":ratex", ":ratex"),
            ("C:venue", "C:venue"),
            ("left-unmatched<=:rate", "left-unmatched<=-0.5"),
            ("total:venue", "total:venue"),
        ):
            self.assertEqual(bound_text(text, VALUES), bound)

    @given(st.text(max_size=12))
    def test_whatever_a_text_is_its_literal_is_that_text(self, text):
        if not text or "\0" in text:
            return
        node = parse(literal(RunValue("v", value=text)), ())
        self.assertEqual(rows_of_expression(node), [text])

    @given(st.decimals(allow_nan=False, allow_infinity=False, places=3, min_value=-(10**9), max_value=10**9))
    def test_whatever_a_number_is_its_literal_is_that_number(self, number):
        node = parse("1 - " + literal(RunValue("v", type="number", value=str(number))), ())
        self.assertEqual([float(value) for value in rows_of_expression(node)], [float(1 - number)])

    def test_members_that_take_none_are_left_alone(self):
        settings = ComputeSettings(field=":venue", expression=":venue || x")
        bound = bound_settings(msgspec.json.encode(settings), ComputeSettings, VALUES)
        self.assertEqual(
            msgspec.json.decode(bound), {"field": ":venue", "expression": "'O''Brien: Pier' || x"}
        )

    def test_renaming_finds_each_place(self):
        settings = ComputeSettings(field="f", expression="""':rate' || :rate + :rates""")
        new = renamed_in(msgspec.json.encode(settings), ComputeSettings, "rate", "fee")
        self.assertEqual(msgspec.json.decode(new)["expression"], "':rate' || :fee + :rates")

    def test_what_cannot_be_a_value_is_refused(self):
        for value, said in (
            (RunValue("2x"), "cannot be called “2x”"),
            (RunValue("a b"), "cannot be called"),
            (RunValue("v", type="colour"), "is “colour”"),
            (RunValue("v", type="number", value="1,5"), "is a number, and “1,5” is none"),
            (RunValue("v", type="number", value="NaN"), "is a number"),
            (RunValue("v", type="date", value="1.5.2026"), "is a date"),
            (RunValue("v", value="x", choices=("a", "b")), "It can be: a, b"),
        ):
            with self.assertRaisesRegex(UsageError, said):
                check_run_value(value)
        with self.assertRaisesRegex(UsageError, "has no run value “x”"):
            with_given(Flow(values=VALUES), {"x": "1"})
        with self.assertRaisesRegex(UsageError, "has no value yet"):
            bound_text(":v", [RunValue("v")])


def rows_of_expression(node) -> list:
    return node.cells(table(x=[1])).values.to_pylist()


class InFlows(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        (self.folder / "logs").mkdir()
        for month, cost in (("2026-04", 4), ("2026-05", 5)):
            (self.folder / "logs" / f"{month}.csv").write_text(f"venue,cost\nPier,{cost}\nMill,{cost * 2}\n")
        self.values = (RunValue("month", value="2026-04"), RunValue("least", type="number", value="5"))
        self.runner = Runner(KINDS, Library())

    def rows(self, flow, step):
        return rows_of(self.runner.result(flow, step).rows)

    def rail(self, path=":month.csv"):
        settings = SourceSettings("text", str(self.folder / "logs" / path))
        flow, rail = edits.add_source(Flow(values=self.values), settings, "Trips")
        return flow, rail

    def test_a_file_an_expression_and_a_filter_follow_the_value(self):
        flow, rail = self.rail()
        flow, double = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field="m", expression=":month")
        )
        keep = FilterSettings(conditions=(ConditionSettings("cost", "at-least", (":least",)),))
        flow, kept = edits.insert_after(flow, Input(double), "filter", keep)
        self.assertEqual(self.rows(flow, kept), [("Mill", 8, "2026-04")])
        later = with_given(flow, {"month": "2026-05"})
        self.assertEqual(self.rows(later, kept), [("Pier", 5, "2026-05"), ("Mill", 10, "2026-05")])
        # What was computed for the first value is that of the first value.
        self.assertEqual(self.rows(flow, kept), [("Mill", 8, "2026-04")])
        self.assertEqual(self.rows(with_given(flow, {"least": "9"}), kept), [])

    def test_a_shared_filter_follows_it(self):
        flow, rail = self.rail("2026-04.csv")
        flow = msgspec.structs.replace(flow, values=(RunValue("where", value="Pier"),))
        shapes = {rail: self.runner.shape(flow, Input(rail))}
        flow, shared = add_filter(flow, "venue", places_for(flow, "venue", shapes), Comparison.ONE_OF)
        flow = change_filter(flow, shared, values=(":where",))
        (tie,) = [step.id for step in flow.steps if step.kind == "shared-filter"]
        self.assertEqual(self.rows(flow, tie), [("Pier", 4)])
        self.assertEqual(self.rows(with_given(flow, {"where": "Mill"}), tie), [("Mill", 8)])

    def test_a_query_is_handed_the_value_and_never_its_text(self):
        with closing(sqlite3.connect(self.folder / "r.sqlite")) as base:
            base.execute("CREATE TABLE t (n INTEGER, name TEXT, day TEXT)")
            base.executemany(
                "INSERT INTO t VALUES (?, ?, ?)", [(1, "x' OR 1=1 --", "2026-05-01"), (2, "b", "")]
            )
            base.commit()
        query = "SELECT n, ':name' AS s FROM t WHERE name = :name OR (n > :n AND day = :day) ORDER BY n -- :n"
        flow = Flow(
            values=(
                RunValue("name", value="x' OR 1=1 --"),
                RunValue("n", type="number", value="7"),
                RunValue("day", type="date", value="2026-05-01"),
            )
        )
        settings = SourceSettings("sqlite", str(self.folder / "r.sqlite"), query=query)
        flow, rail = edits.add_source(flow, settings, "Registry")
        self.assertEqual(self.rows(flow, rail), [(1, ":name")])
        self.assertEqual(self.rows(with_given(flow, {"name": "b"}), rail), [(2, ":name")])
        self.assertEqual(self.rows(with_given(flow, {"name": "c", "n": "0.5"}), rail), [(1, ":name")])

    def test_a_calendar_follows_it(self):
        span = CalendarSettings(":since", "2026-05-03")
        flow = Flow(values=(SINCE,))
        flow, rail = edits.add_source(flow, SourceSettings("calendar", calendar=span), "Calendar")
        self.assertEqual(len(self.rows(flow, rail)), 3)
        self.assertEqual(len(self.rows(with_given(flow, {"since": "2026-05-02"}), rail)), 2)

    def test_a_value_without_value_is_said_where_it_is_used(self):
        flow, rail = self.rail("2026-04.csv")
        flow = msgspec.structs.replace(flow, values=(RunValue("rate", type="number"),))
        flow, made = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field="m", expression="cost * :rate")
        )
        with self.assertRaises(UsageError) as caught:
            self.rows(flow, made)
        self.assertIn("“rate” has no value yet", str(caught.exception))
        self.assertEqual(self.rows(with_given(flow, {"rate": "2"}), made)[0], ("Pier", 4, 8))

    def test_a_name_that_is_none_is_said(self):
        flow, rail = self.rail("2026-04.csv")
        flow, made = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field="m", expression=":mnth")
        )
        with self.assertRaises(TrellisError) as caught:
            self.rows(flow, made)
        self.assertIn("no run value", str(caught.exception))

    def test_they_are_saved_and_what_is_not_known_of_them_is_kept(self):
        flow, _ = self.rail()
        output = OutputSettings("text", str(self.folder / ":month.csv"))
        flow, _ = edits.add_step(flow, "output", "Out", [Input("trips")], output)
        flow = msgspec.structs.replace(
            flow,
            values=(*flow.values, RunValue("x", choices=("a", "b"), said="Which?", extra=(("new", b"1"),))),
        )
        written = dump(flow, self.folder, KINDS)
        self.assertIn(b'"path": "logs/:month.csv"', written)
        self.assertEqual(parse_flow(written, self.folder, KINDS), flow)
        for broken, said in (
            (written.replace(b'"name": "least"', b'"name": "month"'), "Two run values are called “month”"),
            (written.replace(b'"number"', b'"colour"'), "is “colour”"),
            (written.replace(b'"value": "5"', b'"value": 5'), "Run value 2 is not valid"),
        ):
            self.assertNotEqual(broken, written)
            with self.assertRaisesRegex(FlowFileError, said):
                parse_flow(broken, self.folder, KINDS)


if __name__ == "__main__":
    unittest.main()
