"""Run values as parameters: one text of SQL says the rows for any values of them."""

import datetime as dt
import sqlite3
import unittest

import msgspec

from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input, RunValue
from keen_trellis.flow.in_sql.target import POSTGRESQL, SPARK, SQLITE
from keen_trellis.flow.run_values import with_given
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.flow.sql_parameters import parametrised
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.first import FirstSettings
from tests.flow.test_in_sqlite import typed
from tests.flow.test_through_readers import sources
from tests.tables import rows_of

VALUES = (
    RunValue("since", "date", "2026-01-24"),
    RunValue("least", "number", "2"),
    RunValue("who", "text", "pier"),
)
ROWS = [
    (number % 7, ("pier", "Quay's", None, "a:b")[number % 4], dt.date(2026, 1, 20 + number % 11), None)
    for number in range(30)
]


class Parameters(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.sources = sources()

    def flow(self, *steps, values=VALUES):
        source = self.sources.settings("a.parquet", ROWS)
        no_decimals = (FieldSettings("m", left_out=True),)
        flow = msgspec.structs.replace(Flow(), values=values)
        flow, last = edits.add_source(flow, msgspec.structs.replace(source, fields=no_decimals), "Loans")
        for kind, settings in steps:
            flow, last = edits.insert_after(flow, Input(last), kind, settings)
        return flow, last

    def query(self, flow, step, target=SQLITE):
        plan = Runner(KINDS, self.sources.library).plan(flow)
        return parametrised(plan, step, "rows", target, Task())

    def test_one_text_for_other_values(self):
        flow, step = self.flow(
            ("filter", FilterSettings(conditions=(ConditionSettings("d >= :since AND k > :least", "true"),))),
            ("filter", FilterSettings(conditions=(ConditionSettings("t", "none-of", (":who", "x")),))),
            (
                "compute",
                ComputeSettings(field="mark", expression="CASE WHEN k > :least THEN :who ELSE '' END"),
            ),
            ("fill", FillStepSettings((FillSettings(fields=("t",), of=":who"),))),
        )
        query = self.query(flow, step)
        self.assertEqual([value.name for value in query.given], ["since", "least", "who"])
        self.assertEqual(query.written, ())
        self.assertIn("-- :since: a run value, here 2026-01-24\n", query.text)
        for given in (
            {"since": "2026-01-24", "least": "2", "who": "pier"},
            {"since": "2026-01-22", "least": "0", "who": "Quay's"},
            {"since": "0001-01-01", "least": "0", "who": "x"},
            {"since": "2026-01-26", "least": "3", "who": "o'clock\\"},
        ):
            with self.subTest(given):
                other, runner = with_given(flow, given), Runner(KINDS, self.sources.library)
                here = rows_of(runner.result(other, step).rows)
                loans = rows_of(runner.result(other, flow.steps[0].id).rows)
                held = given | {"least": int(given["least"])}
                self.assertEqual(self.there(query, loans, held), here)
                self.assertTrue(here)

    def there(self, query, rows, given):
        connection = sqlite3.connect(":memory:")
        try:
            connection.execute("CREATE TABLE Loans (k, t, d, place)")
            held = [
                (*(str(c) if isinstance(c, dt.date) else c for c in row), n) for n, row in enumerate(rows)
            ]
            connection.executemany("INSERT INTO Loans VALUES (?, ?, ?, ?)", held)
            found = connection.execute(query.text, given).fetchall()
        finally:
            connection.close()
        kinds = [field.type for field in query.ends[0].fields]
        return [tuple(map(typed, kinds, row)) for row in found]

    def test_the_last_day_that_there_is(self):
        day = RunValue("until", "date", "9999-12-31")
        below = FilterSettings(conditions=(ConditionSettings("d <= :until", "true"),))
        flow, step = self.flow(("filter", below), values=(day,))
        self.assertEqual(self.query(flow, step).given, (day,))

    def test_each_dialect_writes_them_alike(self):
        flow, step = self.flow(
            ("filter", FilterSettings(conditions=(ConditionSettings("d >= :since", "true"),)))
        )
        for target, said in (
            (POSTGRESQL, 'd" >= CAST(:since AS DATE)'),
            (SPARK, "d` >= CAST(:since AS DATE)"),
        ):
            self.assertIn(said, self.query(flow, step, target).text)

    def test_what_is_made_of_one_is_written_into_it(self):
        contains = ConditionSettings("t", "contains", (":who",))
        as_it_is = ConditionSettings("t <> :who", "true")
        for conditions in ((contains,), (as_it_is, contains)):
            flow, step = self.flow(("filter", FilterSettings(conditions=conditions)))
            query = self.query(flow, step, POSTGRESQL)
            self.assertEqual((query.given, [value.name for value in query.written]), ((), ["who"]))
            self.assertIn("-- The run value who is written into it: pier\n", query.text)
            self.assertNotIn('"t" <> :who', query.text)

    def test_one_that_is_not_spoken_of_or_whose_others_are_not_known(self):
        below = ConditionSettings("k < :least", "true")
        zero = msgspec.structs.replace(VALUES[1], value="0")
        minus = msgspec.structs.replace(VALUES[1], value="-2")
        for value in (zero, minus):
            flow, step = self.flow(("filter", FilterSettings(conditions=(below,))), values=(VALUES[0], value))
            query = self.query(flow, step, POSTGRESQL)
            self.assertEqual((query.given, query.written), ((), (value,)))
        # A day that is compared with a date, given as a text.
        day = RunValue("day", "text", "2026-01-25")
        flow, step = self.flow(
            ("filter", FilterSettings(conditions=(ConditionSettings("d", "one-of", (":day",)),))),
            values=(day,),
        )
        self.assertEqual(self.query(flow, step).written, (day,))
        flow, step = self.flow(("first", FirstSettings(count=3)))
        self.assertEqual((self.query(flow, step).given, self.query(flow, step).written), ((), ()))


if __name__ == "__main__":
    unittest.main()
