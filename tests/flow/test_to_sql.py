"""Steps in SQL: what PostgreSQL makes of it is what the step itself comes to, value by value and in order."""

import datetime as dt
import itertools
import math
import random
import unittest
from collections import Counter
from decimal import Decimal
from functools import partial

import psycopg
import pyarrow as pa
from hypothesis import settings as default_settings
from psycopg import sql
from pyarrow import parquet

from keen_trellis.core.blending import Keep
from keen_trellis.core.errors import DataError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import load
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.in_sql.target import POSTGRESQL, SPARK
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.beside import BesideSettings
from keen_trellis.flow.steps.blend import UNUSED, BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.columns_to_rows import ColumnsToRowsSettings
from keen_trellis.flow.steps.combine import CombineSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.distinct import DistinctSettings, KeySettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.first import FirstSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings, RungSettings
from keen_trellis.flow.steps.number_rows import AddedSettings, NumberRowsSettings
from keen_trellis.flow.steps.rows_to_columns import RowsToColumnsSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.steps.split_rows import SplitRowsSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.flow.steps.walk import WalkSettings
from keen_trellis.flow.to_sql import query_of
from tests import demo_data, postgres
from tests.flow.test_through_readers import CONTENTS, FULL, NAMES, joins, on_a_rail, sources
from tests.tables import rows_of


def odd_rows(seed, most=14):
    """Rows with blanks, duplicates, signs, large numbers, and texts that collations order otherwise."""
    chosen = random.Random(seed)
    pools = (
        (None, 0, 1, 1, 2, 7, -7, 2**53 + 1, -(2**63), 2**62),
        (
            None,
            "a",
            "A",
            "b",
            "B",
            "ä",
            "Z",
            " a",
            "a b",
            "pier",
            "Pier",
            "_",
            "50%",
            "a\\b",
            "'",
            "\U0001f600",
        ),
        (None, dt.date(2026, 2, 3), dt.date(2026, 2, 3), dt.date(1890, 12, 31), dt.date(2026, 3, 1)),
        (None, Decimal("1.50"), Decimal("-0.05"), Decimal("0.00"), Decimal("7.00"), Decimal("1234567.89")),
    )
    return [tuple(map(chosen.choice, pools)) for _ in range(chosen.randrange(most))]


_EXAMPLES = 60
SAID = {
    "choose",
    "columns-to-rows",
    "combine",
    "compute",
    "correct",
    "distinct",
    "fill",
    "filter",
    "first",
    "mend-text",
    "number-rows",
    "rows-to-columns",
    "sort",
    "split",
    "split-rows",
    "walk",
}
ROWS = [*CONTENTS.values(), FULL, *(odd_rows(seed) for seed in range(4))]


def is_long():
    """Whether this is a long run."""
    return default_settings.default.max_examples > _EXAMPLES


def contents(number):
    """Tables for the settings of this number: some by turns, and all of them in the long run."""
    if is_long():
        return ROWS
    return [ROWS[number % (len(CONTENTS) + 1)], ROWS[-1 - number % 4]]


def after_a_join(field):
    """Settings of steps that tell a blank from a cell without partner in a field."""
    for how in ("blank", "partner", "no-partner", "filled"):
        yield "filter", FilterSettings(conditions=(ConditionSettings(field, how),))
    day = {"fields": (field,), "of": "2020-01-01"}
    for gaps in ("blank", "no-partner", "both"):
        yield "fill", FillStepSettings((FillSettings(gaps=gaps, **day),))
        yield "fill", FillStepSettings((FillSettings(fields=(field,), how="leave-out", gaps=gaps),))
    one_by_one = (FillSettings(gaps="no-partner", **day), FillSettings(fields=(field,), of="2021-01-01"))
    yield "fill", FillStepSettings(one_by_one)
    yield "compute", ComputeSettings(field="found", expression="PARTNER_FOUND('Rail 1') AND k = k")


class There:
    """A connection to the server, with tables that are gone after each query."""

    def __init__(self):
        self._connection = psycopg.connect(postgres.server().owner, autocommit=True)
        # Few rows are not worth the time to compile queries for them.
        self._connection.execute("SET jit = off")

    def close(self):
        self._connection.close()

    def rows(self, query, tables):
        """The rows of a query; `tables` gives the table of each source by its step."""
        with self._connection.transaction(force_rollback=True), self._connection.cursor() as cursor:
            for sent in query.sources:
                place = Field(sent.rows.place, pa.int64())
                rows = [(*row, number) for number, row in enumerate(rows_of(tables[sent.step]))]
                self._send(cursor, sent.rows.table, (*sent.rows.fields, place), rows)
            for entry in query.prepared:
                self._send(cursor, entry.table, *prepared(partial(self._values, cursor), query, entry))
            cursor.execute(query.text.encode())
            return cursor.fetchall()

    def _values(self, cursor, text, kind):
        cursor.execute(text.encode())
        return [row[0] for row in cursor.fetchall()]

    def _send(self, cursor, name, fields, rows):
        columns = []
        for field in fields:
            scale = field.arrow_type.scale if field.type is FieldType.DECIMAL else 0
            kind = POSTGRESQL.type_of(field.type, scale).sql(dialect="postgres")
            collate = ' COLLATE "C"' if field.type is FieldType.TEXT else ""
            columns.append(sql.SQL("{} {}").format(sql.Identifier(field.name), sql.SQL(kind + collate)))
        made = sql.SQL(", ").join(columns)
        cursor.execute(sql.SQL("CREATE TEMPORARY TABLE {} ({})").format(sql.Identifier(name), made))
        with cursor.copy(sql.SQL("COPY {} FROM STDIN").format(sql.Identifier(name))) as copy:
            for row in rows:
                copy.write_row(row)


def prepared(ask, query, entry):
    """The columns and rows of a table of prepared values: they are asked for there, and prepared here."""
    values, kind = query.values_of(entry)
    distinct = pa.array(ask(query.target.written(query.with_parts(values, entry.of)), kind), kind)
    made = entry.making.made(distinct)
    rows = zip(distinct.to_pylist(), made.to_pylist(), strict=True)
    return (Field("value", kind), Field("prepared", made.type)), list(rows)


def same(one, other):
    """Whether two cells are the same value of the same type."""
    if isinstance(one, float) and isinstance(other, float):
        return one == other or (math.isnan(one) and math.isnan(other))
    return type(one) is type(other) and one == other


class InPostgres(unittest.TestCase):
    target = POSTGRESQL
    turns = itertools.count()
    not_data = psycopg.DataError  # what it raises for a value that cannot be

    @classmethod
    def setUpClass(cls):
        cls.there = There()
        cls.addClassCleanup(cls.there.close)
        cls.sources = sources()

    def rail(self, kind, rows, flow):
        return edits.add_source(flow, self.sources.settings(kind, rows), f"Rail {len(flow.steps)}")

    def tried(self, flow, step, settings):
        """Whether a step can be said in SQL; its rows at each port are the same there and here then."""
        runner = Runner(KINDS, self.sources.library)
        planned = runner.plan(flow).planned(step, Task())
        all_said = True
        for port in KINDS.of(flow.step(step)).ports(settings):
            query = query_of(planned, port, self.target)
            if query.refused:
                all_said = False
                continue
            with self.subTest(settings, port=port):
                self.compared(runner, flow, step, port, query)
        return all_said

    def compared(self, runner, flow, step, port, query):
        """The rows there and here are the same, and in the same order."""
        tables = {entry.step: runner.result(flow, entry.step).rows for entry in query.sources}
        try:
            here = rows_of(runner.result(flow, step).ports[port])
        except DataError:  # a result that does not fit is an error here; it is one there, too
            if port.startswith(UNUSED):
                return  # the groups that no row uses do not depend on how a measure is spread
            with self.assertRaises(self.not_data):
                self.there.rows(query, tables)
            return
        there = self.there.rows(query, tables)
        text = query.text
        self.assertEqual(len(there), len(here), text)
        for number, (one, other) in enumerate(zip(here, there, strict=True)):
            if not all(map(same, one, other)):
                self.fail(f"row {number}: {one} here, {other} there\n{text}")

    def some_ports(self, flow, step, settings):
        """The rows and another port of a step, by turns; all of them in a long run."""
        first, *others = KINDS.of(flow.step(step)).ports(settings)
        if is_long() or len(others) < 2:
            return [first, *others]
        return [first, others[next(self.turns) % len(others)]]

    def step(self, kind, settings, *tables):
        """A flow of one step, its id, and the step's settings."""
        flow, rails = Flow(), []
        for rows in tables:
            flow, rail = self.rail("a.parquet", rows, flow)
            rails.append(Input(rail))
        flow, step = edits.add_step(flow, kind, "Made", rails, settings)
        return flow, step, settings

    def test_each_kind_on_a_rail(self):
        said = {
            kind
            for number, (kind, settings) in enumerate(on_a_rail())
            for rows in contents(number)
            if self.tried(*self.step(kind, settings, rows))
        }
        self.assertEqual(said, SAID)

    def test_joins_and_unions(self):
        said = Counter(
            settings.type if kind == "join" else kind
            for number, (kind, settings) in enumerate(joins())
            for place, rows in enumerate(contents(number))
            if self.tried(*self.step(kind, settings, rows, ROWS[(number + place) % len(ROWS)]))
        )
        self.assertEqual(set(said), {kind.value for kind in JoinType} | {"union", "blend"})

    def test_what_each_left_row_takes(self):
        link = LinkSettings("k", "k")
        for number, (kind, take) in enumerate(
            itertools.product(JoinType, ("first", "last", "least:m", "greatest:d"))
        ):
            if kind is JoinType.CROSS:
                continue
            settings = JoinSettings(links=(link,), type=kind.value, take=take)
            tables = [FULL + odd_rows(number + more, 20) for more in (0, 100)]
            self.compared_alone(*self.step("join", settings, *tables))

    def test_rows_that_are_paired_off(self):
        links = (
            (LinkSettings("k", "k"),),
            (
                LinkSettings("t", "t", ("case", "outer-spaces")),
                LinkSettings("d", "d", blank_matches_blank=True),
            ),
        )
        for number, (kind, of) in enumerate(itertools.product(JoinType, links)):
            if kind is JoinType.CROSS:
                continue
            settings = JoinSettings(links=of, type=kind.value, take="pair-off")
            tables = [FULL + odd_rows(number + more, 20) for more in (0, 100)]
            flow, step, _ = self.step("join", settings, *tables)
            for port in self.some_ports(flow, step, settings):
                self.compared_alone(flow, step, settings, port)

    def test_what_may_match_one_at_most(self):
        several = [(7, "A", None, None), (7, "a", None, None), (1, "b", None, None)]
        each = [(number, chr(97 + number), None, None) for number in range(9)]
        for kind, link in itertools.product(
            JoinType, (LinkSettings("k", "k"), LinkSettings("t", "t", ("case",)))
        ):
            if kind is JoinType.CROSS:
                continue
            settings = JoinSettings(links=(link,), type=kind.value, take="one")
            for tables in ((several, each), (each, each[::2]), (each[:1], several), (several, each[4:])):
                flow, step, _ = self.step("join", settings, *tables)
                for port in self.some_ports(flow, step, settings):
                    self.compared_alone(flow, step, settings, port)
            flow, step, _ = self.step("join", settings, each, several)
            with self.assertRaises(DataError):
                Runner(KINDS, self.sources.library).result(flow, step)
            for port in self.some_ports(flow, step, settings):
                with self.subTest(kind=kind, port=port):
                    self.stopped(flow, step, port, "must match one at most, and several match")

    def test_rows_next_to_each_other(self):
        for rows, others in ((FULL, odd_rows(3, 20)), ([], []), (FULL[:1], FULL[1:2])):
            fewer = min(len(rows), len(others))
            self.compared_alone(*self.step("beside", BesideSettings(), rows[:fewer], others[:fewer]))
        flow, step, _ = self.step("beside", BesideSettings(), FULL[:2], FULL[:1])
        flow, last = edits.insert_after(
            flow, Input(step), "summarise", SummariseSettings(measures=(MeasureSettings("n", "count"),))
        )
        self.stopped(flow, last, "rows", "have not the same number of rows")

    def test_rows_of_parts(self):
        texts = ["a;b", " a ; ;b;", ";", "", None, "a;;b", "\u00a0x\t;y", "a.b|c", "ab\\Ec", "ä日;日", "'"]
        rows = [(number, text, None, None) for number, text in enumerate(texts)] * 2
        for between, number in itertools.product((";", ".", "|", "\\E", "日", "'", "; ", "$1"), ("", "part")):
            settings = SplitRowsSettings(of="t", between=between, number=number)
            self.compared_alone(*self.step("split-rows", settings, rows))

    def test_walks(self):
        chosen = random.Random(4)
        trees = (
            [(part, f"{number}", None, None) for number, part in enumerate([None, 0, 0, 1, 3, 9, 1, 2])],
            [(chosen.choice([None, 99, *range(20)]), str(number % 18), None, None) for number in range(20)],
            [(number - 1 if number else None, str(number), None, None) for number in range(30)],
            [(1, "0", None, None), (0, "1", None, None), (1, "2", None, None), (None, "3", None, None)],
            # As deep as a path may lead, and one row deeper.
            *([(n - 1 if n else None, str(n), None, None) for n in range(deep)] for deep in (1_000, 1_001)),
        )
        for tree, top_down in itertools.product(trees, (False, True)):
            for kind in ("integer", "text"):
                to = ComputeSettings(field="part", expression="CAST(k AS VARCHAR)" if kind == "text" else "k")
                number = "CHAR_LENGTH(t) + COALESCE(k, 0)"
                whole = ComputeSettings(field="own", expression="t" if kind == "text" else number)
                flow, rail = self.rail("a.parquet", tree, Flow())
                flow, rail = edits.insert_after(flow, Input(rail), "compute", to)
                flow, rail = edits.insert_after(flow, Input(rail), "compute", whole)
                walk = WalkSettings(
                    part="part",
                    whole="own",
                    path_field="path",
                    top_field="top",
                    bring=("t", "d"),
                    top_down=top_down,
                )
                flow, step = edits.insert_after(flow, Input(rail), "walk", walk)
                self.compared_alone(flow, step, walk)

    def test_ladders(self):
        rungs = (
            RungSettings(links=(LinkSettings("t", "t", ("case",)),)),
            RungSettings(links=(LinkSettings("d", "d"), LinkSettings("m", "m", operator="<=")), any_of=True),
        )
        kinds = [kind for kind in JoinType if kind is not JoinType.CROSS]
        takes = itertools.cycle(("every", "first", "greatest:m"))
        for number, (kind, take) in enumerate(zip(kinds, takes, strict=False)):
            settings = JoinSettings(links=(LinkSettings("k", "k"),), rungs=rungs, type=kind.value, take=take)
            tables = [FULL + odd_rows(number + more, 20) for more in (0, 100)]
            flow, step, _ = self.step("join", settings, *tables)
            for port in self.some_ports(flow, step, settings):
                self.compared_alone(flow, step, settings, port)

    def test_measures(self):
        measures = [
            MeasureSettings("n", "count"),
            MeasureSettings("filled", "count", "t"),
            MeasureSettings("several", "count-distinct", "k"),
            MeasureSettings("total", "sum", "m"),
            MeasureSettings("mean", "mean", "m"),
            MeasureSettings("list", "listing", "t"),
            MeasureSettings("days", "listing", "d"),
            *(MeasureSettings(f"{how} {name}", how, name) for how in ("first", "last") for name in NAMES),
            MeasureSettings("first text", "first", "SUBSTRING(t FROM 2)"),
            MeasureSettings("whether", "last", "k > 1"),
            *(MeasureSettings(f"median {name}", "median", name) for name in NAMES),
            *(MeasureSettings(f"{how} {name}", how, name) for how in ("least", "greatest") for name in NAMES),
        ]
        for keys, seed in itertools.product(((), ("t",), ("k", "d"), ("k / 2",)), range(3)):
            settings = SummariseSettings(keys=keys, measures=tuple(measures))
            self.compared_alone(*self.step("summarise", settings, FULL + odd_rows(seed, 20)))

    def test_what_rows_are_among_others(self):
        added = (
            AddedSettings("n", "row-number"),
            AddedSettings("total", "running-total", "m"),
            AddedSettings("share", "share", "m"),
            AddedSettings("share of k", "share", "k"),
            *(AddedSettings(f"{kind} {name}", kind, name) for kind in ("before", "after") for name in NAMES),
            AddedSettings("cut", "before", "SUBSTRING(t FROM 2)"),
        )
        ranks = (AddedSettings("rank", "rank"), AddedSettings("dense", "dense-rank"))
        by = (SortKeySettings("t"), SortKeySettings("d", descending=True))
        for within, order in itertools.product(((), ("t",), ("k", "d")), ((), by)):
            settings = NumberRowsSettings(added=added + (ranks if order else ()), within=within, by=order)
            self.compared_alone(*self.step("number-rows", settings, FULL + odd_rows(5, 25)))

    def test_rows_to_columns(self):
        rows = FULL + odd_rows(7, 25)
        for of, columns in (
            ("t", ("a", "pier", "nothing")),
            ("k", ("1", "-7")),
            ("d", ("2026-02-03",)),
            ("m", ("1.5",)),
        ):
            for function, value in (
                ("count", ""),
                ("sum", "m"),
                ("count", "t"),
                ("first", "t"),
                ("last", "d"),
                ("median", "m"),
                ("listing", "t"),
                ("greatest", "d"),
            ):
                for keys in ((), ("d",)):
                    if of in keys:
                        continue
                    settings = RowsToColumnsSettings(
                        of=of, columns=columns, keys=keys, function=function, value=value
                    )
                    self.compared_alone(*self.step("rows-to-columns", settings, rows))

    def test_columns_to_rows_and_into_one(self):
        rows = FULL + odd_rows(6, 20)
        for of, no_blanks in itertools.product((("k",), ("m", "k"), ("t",)), (False, True)):
            settings = ColumnsToRowsSettings(of=of, no_blanks=no_blanks)
            self.compared_alone(*self.step("columns-to-rows", settings, rows))
        for of, between in ((("t", "k", "d"), " "), (("d",), ""), (("k", "t"), "'")):
            self.compared_alone(
                *self.step("combine", CombineSettings(of=of, into="all", between=between), rows)
            )

    def test_blends(self):
        measures = (
            BlendMeasure("n", "count"),
            BlendMeasure("worth", "sum", "m"),
            BlendMeasure("last", "greatest", "t"),
            BlendMeasure("first", "first", "d"),
        )
        for links, keep, where in itertools.product(("t", "k"), Keep, ("", "k > 0")):
            link = LinkSettings(links, links)
            settings = BlendSettings(others=(OtherSettings((link,), measures, where),), keep=keep.value)
            for others in (
                FULL,
                odd_rows(2, 20) + FULL,
                [(99, "nowhere", dt.date(2026, 5, 1), Decimal("1.50"))],
            ):
                flow, step, _ = self.step("blend", settings, odd_rows(1, 20), others)
                for port in self.some_ports(flow, step, settings):
                    self.compared_alone(flow, step, settings, port)

    def test_groups_that_only_others_have(self):
        number, text = LinkSettings("k", "k"), LinkSettings("t", "t")
        whole = LinkSettings("k", "m")  # groups of both are decimals
        day = LinkSettings("d", "d", blank_matches_blank=True)
        own = (BlendMeasure("rows", "count"), BlendMeasure("late", "last", "d"))
        for seed, (first, second) in enumerate(
            (((number,), (text,)), ((number, text), (number,)), ((whole,), (text,)), ((day,), (day, text)))
        ):
            others = (
                OtherSettings(first, (BlendMeasure("n", "count"),), "k > 0"),
                OtherSettings(second, (BlendMeasure("worth", "sum", "m"),)),
            )
            for of_main in ((), own):
                settings = BlendSettings(others=others, keep="all-groups", own=of_main)
                tables = [FULL + odd_rows(seed + more, 20) for more in (0, 100, 200)]
                flow, step, _ = self.step("blend", settings, *tables)
                for port in self.some_ports(flow, step, settings):
                    self.compared_alone(flow, step, settings, port)
                for how in ("blank", "filled"):
                    filled = FilterSettings(conditions=(ConditionSettings("rows", how),))
                    if of_main:
                        self.compared_alone(*edits.insert_after(flow, Input(step), "filter", filled), filled)

    def test_blends_of_prepared_values_and_of_the_main_table(self):
        cased = LinkSettings("t", "t", ("case", "outer-spaces"))
        number = LinkSettings("k", "k")
        worth = BlendMeasure("worth", "sum", "m")
        own = (
            BlendMeasure("rows", "count"),
            BlendMeasure("own worth", "sum", "m"),
            BlendMeasure("late", "last", "d"),
        )
        for links, keep in itertools.product(((cased,), (number, cased)), ("every", "found", "groups")):
            others = (OtherSettings(links, (worth,)), OtherSettings((number,), (BlendMeasure("n", "count"),)))
            settings = BlendSettings(others=others, keep=keep, own=own)
            flow, step, _ = self.step("blend", settings, odd_rows(1, 20), FULL, odd_rows(2, 20))
            for port in self.some_ports(flow, step, settings):
                self.compared_alone(flow, step, settings, port)

    def test_measures_on_the_first_row_and_in_shares(self):
        rows = [(n % 4, "abc"[n % 3] if n % 7 else None, None, Decimal(n % 5) / 2) for n in range(23)]
        others = [(n % 5, "abcd"[n % 4], dt.date(2026, 1, 1 + n), Decimal(n * n - 30) / 7) for n in range(17)]
        others = [(k, t, d, m.quantize(Decimal("0.01"))) for k, t, d, m in others]
        for links, by in itertools.product(("t", "k"), ("", "m", "k")):
            measures = (
                BlendMeasure("worth", "sum", "m", stands="spread", by=by),
                BlendMeasure("n", "count", stands="spread", by=by),
                BlendMeasure("first n", "count", stands="first"),
                BlendMeasure("day", "first", "d", stands="first"),
            )
            other = OtherSettings((LinkSettings(links, links),), measures)
            if (links, by) == ("k", "k"):
                continue  # the shares of the group 0 are all zero, which is an error here
            for keep in ("every", "found"):
                settings = BlendSettings(others=(other,), keep=keep)
                self.compared_alone(*self.step("blend", settings, rows, others))

    def test_shares_that_cannot_be_are_an_error_there_too(self):
        for rows in ([(0, "a", None, None)] * 2, [(-1, "a", None, None), (2, "a", None, None)]):
            spread = BlendMeasure("n", "count", stands="spread", by="k")
            settings = BlendSettings(others=(OtherSettings((LinkSettings("t", "t"),), (spread,)),))
            self.compared_alone(*self.step("blend", settings, rows, rows))

    def test_empty_texts_are_blanks_where_rows_are_put_together(self):
        rows = [
            (n, text, None, None) for n, text in enumerate(["a", "ab", None, "b", "abc", "a", None, "xb"])
        ]
        flow, rail = self.rail("a.parquet", rows, Flow())
        flow, cut = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field="s", expression="SUBSTRING(t FROM 2)")
        )
        first = LinkSettings("s", "s")
        for kind, settings, inputs in (
            ("summarise", SummariseSettings(keys=("s",), measures=(MeasureSettings("n", "count"),)), 1),
            ("distinct", DistinctSettings(keys=(KeySettings("s"),)), 1),
            ("first", FirstSettings(count=1, each=("s",)), 1),
            ("join", JoinSettings(links=(first,), type="full-outer"), 2),
            ("join", JoinSettings(links=(LinkSettings("s", "s", operator="<="),), type="inner"), 2),
            (
                "join",
                JoinSettings(links=(LinkSettings("s", "s", blank_matches_blank=True),), type="inner"),
                2,
            ),
        ):
            made, step = edits.add_step(flow, kind, "Made", [Input(cut)] * inputs, settings)
            self.compared_alone(made, step, settings)
        # The empty text comes first in one order, and a blank in the other.
        summary = SummariseSettings(keys=("s",), measures=(MeasureSettings("n", "count"),))
        for descending in (False, True):
            order = SortSettings((SortKeySettings("k", descending),))
            made, ordered = edits.insert_after(flow, Input(cut), "sort", order)
            self.compared_alone(*edits.insert_after(made, Input(ordered), "summarise", summary), summary)

    def test_a_blank_is_told_from_a_cell_without_partner(self):
        """After each type of join, and after two of them."""
        of_left, of_right = "d", "d of Rail 1"
        types = [kind for kind in JoinType if kind.keeps_pairs or kind is JoinType.FULL_ANTI]
        for number, join_type in enumerate(types):
            flow, left = self.rail("a.parquet", FULL + odd_rows(number, 20), Flow())
            unmatched = [(9, None, None, None), *odd_rows(number + 50, 20)]
            flow, right = self.rail("a.parquet", unmatched, flow)
            links = () if join_type is JoinType.CROSS else (LinkSettings("k", "k"),)
            join = JoinSettings(links=links, type=join_type.value)
            flow, knot = edits.add_step(flow, "join", "Knot", [Input(left), Input(right)], join)
            keep = ("t", of_left, of_right)
            twice = JoinSettings(links=(LinkSettings("t", "t"),), type="full-outer", keep=keep)
            flow, again = edits.add_step(flow, "join", "Again", [Input(knot), Input(left)], twice)
            for last, field in ((knot, of_left), (knot, of_right), (again, of_right)):
                for kind, settings in after_a_join(field):
                    self.compared_alone(*edits.insert_after(flow, Input(last), kind, settings), settings)

    def test_expressions(self):
        rows = [row for row in FULL + odd_rows(13, 30) if row[0] not in (2**62, -(2**63))]
        for expression in (
            "GREATEST(k, 3)",
            "LEAST(t, 'b', 'ä')",
            "GREATEST(d, DATE '2026-02-10')",
            "LEAST(m, k)",
            "ROUND(m, 1)",
            "ROUND(m)",
            "ROUND(-m, 5)",
            "ROUND(k, 2)",
            "ROUND(m * 7, -1)",
            "FLOOR(m)",
            "CEILING(m * 3)",
            "POSITION('a' IN t)",
            "POSITION('e' IN t) + 1",
            "SIGN(m)",
            "d + INTERVAL '30' DAY",
            "d - INTERVAL '800000' DAY",
            "d + INTERVAL '999999' DAY",
            "d < DATE '2026-02-10'",
            "SIGN(k - 2)",
        ):
            settings = ComputeSettings(field="made", expression=expression)
            self.compared_alone(*self.step("compute", settings, rows))
        for expression in (
            "d + INTERVAL '1' MONTH",
            "ROUND(k, -1)",
            "GREATEST(CAST(k AS DOUBLE PRECISION), 1.5)",
            "SQRT(k)",
        ):
            flow, step, _ = self.step("compute", ComputeSettings(field="made", expression=expression), rows)
            self.assertEqual(len(self.query(flow, step).refused), 1, expression)

    def test_gaps_filled_from_other_rows(self):
        flow, left = self.rail("a.parquet", FULL + odd_rows(11, 20), Flow())
        flow, right = self.rail("a.parquet", odd_rows(12, 20) + FULL, flow)
        join = JoinSettings(links=(LinkSettings("k", "k"),), type="full-outer")
        flow, knot = edits.add_step(flow, "join", "Knot", [Input(left), Input(right)], join)
        for how, gaps in itertools.product(("before", "after"), ("blank", "no-partner", "both")):
            fields = ("t", "d of Rail 1", "m")
            later = FillSettings(fields=("d",), of="2020-01-01")
            for fills in (
                (FillSettings(fields=fields, how=how, gaps=gaps),),
                (FillSettings(fields=fields, how=how, gaps=gaps), later),
                (later, FillSettings(fields=("d", "t"), how=how, gaps="both")),
                (
                    FillSettings(fields=("k",), how="leave-out"),
                    FillSettings(fields=fields, how=how, gaps=gaps),
                ),
            ):
                settings = FillStepSettings(fills)
                self.compared_alone(*edits.insert_after(flow, Input(knot), "fill", settings), settings)

    def test_an_empty_text_stays_a_blank_whatever_it_went_through(self):
        rows = [(n, text, None, None) for n, text in enumerate(["a", "ab", None, "b", "xb", "a", None])]
        flow, rail = self.rail("a.parquet", rows, Flow())
        expression = "CAST(SUBSTRING(COALESCE(t, 'a') FROM 2) AS VARCHAR)"
        flow, cut = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field="s", expression=expression)
        )
        other = FillStepSettings((FillSettings(fields=("t",), how="field", of="s"),))
        filled, by_other = edits.insert_after(flow, Input(cut), "fill", other)
        greatest = BlendMeasure("s of it", "greatest", "s")
        settings = BlendSettings(others=(OtherSettings((LinkSettings("k", "k"),), (greatest,)),))
        blended, measured = edits.add_step(flow, "blend", "Blend", [Input(cut), Input(cut)], settings)
        for before, step, field in (
            (flow, cut, "s"),
            (filled, by_other, "t"),
            (blended, measured, "s of it"),
        ):
            join = JoinSettings(links=(LinkSettings(field, field),), type="inner")
            made, last = edits.add_step(before, "join", "Made", [Input(step), Input(step)], join)
            self.compared_alone(made, last, join)

    def test_names_of_any_characters(self):
        odd = ['a "b"', "place", "SELECT", "é; --", "nth", "k", "part"]
        path = self.sources.folder / "odd.parquet"
        table = pa.table({name: pa.array([2, 1, 2, None]) for name in odd})
        parquet.write_table(table, path)
        flow, rail = edits.add_source(Flow(), SourceSettings("columns", str(path)), 'Rail "1"; --')
        for kind, settings in (
            ("first", FirstSettings(count=1, each=("place",), by=(SortKeySettings("nth"),))),
            ("distinct", DistinctSettings(keys=(KeySettings('a "b"'),))),
            ("compute", ComputeSettings(field='"', expression='"é; --" + place + "SELECT"')),
        ):
            made, step = edits.insert_after(flow, Input(rail), kind, settings)
            self.compared_alone(made, step, settings)
        both = JoinSettings(links=(LinkSettings("k", "part"),), type="full-anti")
        for kind, settings in (("union", UnionSettings()), ("join", both)):
            self.compared_alone(*edits.add_step(flow, kind, "Two", [Input(rail)] * 2, settings), settings)
        pattern = ConditionSettings("\"é; --\" IS NULL OR CAST(k AS VARCHAR) LIKE '\\!~^#|%'", "true")
        made, step = edits.insert_after(flow, Input(rail), "filter", FilterSettings(conditions=(pattern,)))
        self.compared_alone(made, step, pattern)
        path = self.sources.settings("a.parquet", FULL)
        two, left = edits.add_source(Flow(), path, "t of Other, ignoring case")
        two, right = edits.add_source(two, path, "Other")
        cased = JoinSettings(links=(LinkSettings("t", "t", ("case",)),), type="inner")
        made, step = edits.add_step(two, "join", "Two", [Input(left), Input(right)], cased)
        (error,) = self.query(made, step).refused
        self.assertIn("A step is called “t of Other, ignoring case”", str(error))
        long = "n" * 64
        made, step = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field=long, expression="k")
        )
        (error,) = self.query(made, step).refused
        self.assertIn("more than 63 bytes", str(error))
        made, step = edits.insert_after(
            flow, Input(rail), "compute", ComputeSettings(field="K", expression="k")
        )
        planned = Runner(KINDS, self.sources.library).plan(made).planned(step, Task())
        (error,) = query_of(planned, "rows", SPARK).refused
        self.assertIn("by case only", str(error))

    def test_a_chain_of_steps_that_meets_itself(self):
        flow, left = self.rail("a.parquet", odd_rows(3, 30), Flow())
        flow, right = self.rail("a.parquet", odd_rows(4, 30) + FULL, flow)
        prepared = LinkSettings("t", "t", ("case", "outer-spaces"))
        last = left
        for number in range(4):
            link = LinkSettings("k", "k") if number % 2 else prepared
            settings = JoinSettings(links=(link,), type="left-outer", bring=("m",), take="first")
            flow, knot = edits.add_step(flow, "join", f"Knot {number}", [Input(last), Input(right)], settings)
            flow, last = edits.insert_after(
                flow,
                Input(knot),
                "filter",
                FilterSettings(conditions=(ConditionSettings("k", "filled"),)),
            )
        self.compared_alone(flow, last, settings)
        again = JoinSettings(links=(prepared,), type="full-outer")
        flow, last = edits.add_step(flow, "join", "Again", [Input(last), Input(left)], again)
        self.compared_alone(flow, last, again)

    def test_the_demo(self):
        said = set()
        for path in demo_data.folder().glob("*.trellis"):
            flow = load(path, KINDS)
            runner = Runner(KINDS, self.sources.library)
            for step in (step for step in flow.steps if KINDS.ends_rail(step)):
                query = query_of(runner.plan(flow).planned(step.id, Task()), "rows", POSTGRESQL)
                if not query.refused:
                    said.add(path.stem)
                    self.compared(runner, flow, step.id, "rows", query)
        others = {"Labels"}
        self.assertEqual(said | others, {path.stem for path in demo_data.folder().glob("*.trellis")})
        self.assertFalse(said & others)

    def query(self, flow, step, port="rows"):
        return query_of(
            Runner(KINDS, self.sources.library).plan(flow).planned(step, Task()), port, self.target
        )

    def stopped(self, flow, step, port, said):
        """It is an error there that says so."""
        runner = Runner(KINDS, self.sources.library)
        query = query_of(runner.plan(flow).planned(step, Task()), port, self.target)
        tables = {entry.step: runner.result(flow, entry.step).rows for entry in query.sources}
        with self.assertRaisesRegex(self.not_data, said):
            self.there.rows(query, tables)

    def compared_alone(self, flow, step, settings, port="rows"):
        """The rows of a step at a port are said in SQL, and are the same there and here."""
        runner = Runner(KINDS, self.sources.library)
        query = self.query(flow, step, port)
        with self.subTest(settings, port=port):
            self.assertEqual(query.refused, ())
            self.compared(runner, flow, step, port, query)


if __name__ == "__main__":
    unittest.main()
