"""What SQLite makes of steps that can be said in its SQL is what they come to here."""

import datetime as dt
import itertools
import sqlite3
import unittest
from collections import Counter
from functools import partial

import msgspec

from keen_trellis.core.blending import Keep
from keen_trellis.core.errors import UsageError
from keen_trellis.core.values import FieldType, type_of_arrow
from keen_trellis.flow import edits
from keen_trellis.flow.in_sql.target import SQLITE
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.steps.number_rows import AddedSettings, NumberRowsSettings
from keen_trellis.flow.steps.rows_to_columns import RowsToColumnsSettings
from keen_trellis.flow.steps.sort import SortKeySettings
from keen_trellis.flow.steps.summarise import SummariseSettings
from tests.flow import test_to_sql
from tests.flow.test_through_readers import FULL, joins, on_a_rail
from tests.tables import rows_of

# Of these the settings that are tried speak of decimals, or there is no way to say them.
_SAID = test_to_sql.SAID - {"combine", "number-rows", "rows-to-columns", "split-rows", "walk"}


class There:
    """A database in memory, for one query."""

    def rows(self, query, tables):
        """The rows of a query; `tables` gives the table of each source by its step."""
        connection = sqlite3.connect(":memory:")
        try:
            for sent in query.sources:
                rows = [(*row, number) for number, row in enumerate(rows_of(tables[sent.step]))]
                names = [*(field.name for field in sent.rows.fields), sent.rows.place]
                self._send(connection, sent.rows.table, names, rows)
            for entry in query.prepared:
                fields, rows = test_to_sql.prepared(partial(self._values, connection), query, entry)
                self._send(connection, entry.table, [field.name for field in fields], rows)
            found = connection.execute(query.text).fetchall()
        finally:
            connection.close()
        kinds = [entry.type for entry in query.ends[0].fields]
        return [tuple(map(typed, kinds, row)) for row in found]

    def _values(self, connection, text, kind):
        return [typed(type_of_arrow(kind), row[0]) for row in connection.execute(text)]

    def _send(self, connection, name, columns, rows):
        said = ", ".join('"' + column.replace('"', '""') + '"' for column in columns)
        table = '"' + name.replace('"', '""') + '"'
        connection.execute(f"CREATE TABLE {table} ({said})")
        signs = ", ".join("?" * len(columns))
        held = [[str(cell) if isinstance(cell, dt.date) else cell for cell in row] for row in rows]
        connection.executemany(f"INSERT INTO {table} VALUES ({signs})", held)


def typed(kind, cell):
    """A cell as it was before it was held there."""
    if cell is None:
        return None
    if kind is FieldType.DATE:
        return dt.date.fromisoformat(cell)
    return bool(cell) if kind is FieldType.BOOLEAN else cell


class InSqlite(test_to_sql.InPostgres):
    """All cases of the other database, as far as they can be said."""

    target = SQLITE
    not_data = sqlite3.Error

    @classmethod
    def setUpClass(cls):
        cls.there = There()
        cls.sources = test_to_sql.sources()
        cls.numbers = itertools.count()

    def setUp(self):
        self.said = Counter()

    def rail(self, kind, rows, flow):
        # It has no decimals.
        no_decimals = (FieldSettings("m", left_out=True),)
        source = msgspec.structs.replace(self.sources.settings(kind, rows), fields=no_decimals)
        return edits.add_source(flow, source, f"Rail {len(flow.steps)}")

    def tried(self, flow, step, settings):
        try:
            query = self.query(flow, step)
        except UsageError:  # of the decimals that it has not
            return False
        self.said[flow.step(step).kind] += not query.refused
        return super().tried(flow, step, settings)

    def stopped(self, flow, step, port, said):
        # It has no error that a query could raise.
        self.assertNotEqual(self.query(flow, step, port).refused, ())

    def compared_alone(self, flow, step, settings, port="rows"):
        if next(self.numbers) % (1 if test_to_sql.is_long() else 5) == 0:
            self.tried(flow, step, settings)

    # Cases that speak of what only the other one has.
    test_expressions = test_names_of_any_characters = test_the_demo = None

    def test_each_kind_on_a_rail(self):
        for number, (kind, settings) in enumerate(on_a_rail()):
            for rows in test_to_sql.contents(number):
                self.tried(*self.step(kind, settings, rows))
        self.assertLessEqual(_SAID, {kind for kind, count in self.said.items() if count})

    def test_joins_and_unions(self):
        for number, (kind, settings) in enumerate(joins()):
            for place, rows in enumerate(test_to_sql.contents(number)):
                others = test_to_sql.ROWS[(number + place) % len(test_to_sql.ROWS)]
                self.tried(*self.step(kind, settings, rows, others))
        self.assertGreater(self.said["join"], 60)
        self.assertGreater(self.said["union"], 1)

    def test_groups(self):
        measures = (
            BlendMeasure("n", "count"),
            BlendMeasure("several", "count-distinct", "t"),
            BlendMeasure("sum", "sum", "k"),
            *(BlendMeasure(f"{how} {of}", how, of) for how in ("first", "greatest", "least") for of in "ktd"),
        )
        added = (
            AddedSettings("n", "row-number"),
            AddedSettings("rank", "rank"),
            *(AddedSettings(f"{kind} {of}", kind, of) for kind in ("before", "after") for of in "ktd"),
        )
        small = [(number % 5, "abA"[number % 3], dt.date(2026, 1, 1 + number), None) for number in range(9)]
        for rows, keys in itertools.product((small, small + FULL[:1]), ("t", "k")):
            link = LinkSettings(keys, keys, ("case",) if keys == "t" else ())
            for kind, settings in (
                ("summarise", SummariseSettings(keys=(keys,), measures=measures)),
                ("number-rows", NumberRowsSettings(added=added, within=(keys,), by=(SortKeySettings("t"),))),
                ("rows-to-columns", RowsToColumnsSettings(of=keys, columns=("1",), function="count")),
            ):
                self.said_alone(*self.step(kind, settings, rows))
            for keep in Keep:
                blend = BlendSettings(others=(OtherSettings((link,), measures, "k > 0"),), keep=keep.value)
                if keep is not Keep.ALL_GROUPS or keys == "k":
                    self.said_alone(*self.step("blend", blend, rows, small))

    def said_alone(self, flow, step, settings):
        """It is the same there, and can be said."""
        for port in KINDS.of(flow.step(step)).ports(settings):
            with self.subTest(settings, port=port):
                self.assertEqual(self.query(flow, step, port).refused, ())
        super().tried(flow, step, settings)


if __name__ == "__main__":
    unittest.main()
