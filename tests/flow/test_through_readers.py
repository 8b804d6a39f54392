"""Tables of no rows, of one, and blank throughout, read from every kind of source, through every kind of step
and output; joins of such tables as SQLite has them.
"""

import datetime as dt
import json
import sqlite3
import tempfile
import unittest
from collections import Counter
from decimal import Decimal
from functools import cache
from pathlib import Path

import msgspec
import odf.opendocument
import odf.table
import odf.text
import pyarrow as pa
import xlsxwriter
import xlwt
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import csv, feather, parquet

from keen_trellis.core.filtering import Comparison
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import Operator
from keen_trellis.core.measures import Function
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.databases import secrets
from keen_trellis.flow import edits
from keen_trellis.flow.graph import ROWS, Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.choose import ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.columns_to_rows import ColumnsToRowsSettings
from keen_trellis.flow.steps.combine import CombineSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.correct import CorrectSettings
from keen_trellis.flow.steps.distinct import DistinctSettings, KeySettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.first import FirstSettings
from keen_trellis.flow.steps.join import (
    JoinSettings,
    LikeSettings,
    LinkSettings,
    MergeSettings,
    RungSettings,
)
from keen_trellis.flow.steps.mend_text import ActionSettings, MendTextSettings
from keen_trellis.flow.steps.number_rows import AddedSettings, NumberRowsSettings
from keen_trellis.flow.steps.rows_to_columns import RowsToColumnsSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.steps.split import SplitSettings
from keen_trellis.flow.steps.split_rows import SplitRowsSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.flow.steps.walk import WalkSettings
from keen_trellis.outputs import write
from keen_trellis.outputs.targets import settings_for
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.postgres import PASSWORD, server
from tests.tables import rows_of

NAMES = ("k", "t", "d", "m")
_TYPES = {"k": pa.int64(), "t": pa.large_string(), "d": pa.date32(), "m": pa.decimal128(9, 2)}
_ONE = (7, "pier", dt.date(2026, 2, 3), Decimal("1.50"))
_BLANK = (None,) * 4
CONTENTS = {"no rows": [], "one row": [_ONE], "one blank row": [_BLANK], "all blank": [_BLANK] * 3}


# --- each kind of source writes a table ---


def _csv(path, rows):
    csv.write_csv(_arrow(rows), path)


def _xlsx(path, rows):
    with xlsxwriter.Workbook(path) as book:
        sheet, day = book.add_worksheet("Sheet"), book.add_format({"num_format": "yyyy-mm-dd"})
        for column, name in enumerate(NAMES):
            sheet.write(0, column, name)
        for number, row in enumerate(rows, 1):
            for column, value in enumerate(row):
                if isinstance(value, dt.date):
                    sheet.write_datetime(number, column, value, day)
                elif value is not None:
                    sheet.write(number, column, float(value) if isinstance(value, Decimal) else value)


def _ods(path, rows):
    book = odf.opendocument.OpenDocumentSpreadsheet()
    sheet = odf.table.Table(name="Sheet")
    for row in [NAMES, *rows]:
        line = odf.table.TableRow()
        for value in row:
            kind = {}
            if isinstance(value, dt.date):
                kind = {"valuetype": "date", "datevalue": value.isoformat()}
            elif isinstance(value, (int, Decimal)):
                kind = {"valuetype": "float", "value": str(value)}
            elif value is not None:
                kind = {"valuetype": "string"}
            cell = odf.table.TableCell(**kind)
            if value is not None:
                cell.addElement(odf.text.P(text=str(value)))
            line.addElement(cell)
        sheet.addElement(line)
    book.spreadsheet.addElement(sheet)
    book.save(str(path))


def _sqlite(path, rows):
    base = sqlite3.connect(path)
    base.execute("CREATE TABLE data (k INTEGER, t TEXT, d DATE, m DECIMAL(9, 2))")
    stored = [tuple(str(v) if isinstance(v, (dt.date, Decimal)) else v for v in row) for row in rows]
    base.executemany("INSERT INTO data VALUES (?, ?, ?, ?)", stored)
    base.commit()
    base.close()


def _arrow(rows):
    columns = list(zip(*rows, strict=True)) or [()] * len(NAMES)
    return pa.table({n: pa.array(c, _TYPES[n]) for n, c in zip(NAMES, columns, strict=True)})


def _plain_json(value):
    return float(value) if isinstance(value, Decimal) else str(value)


def _json_lines(path, rows):
    path.write_text(
        "".join(json.dumps(dict(zip(NAMES, row, strict=True)), default=_plain_json) + "\n" for row in rows)
    )


def _xls(path, rows):
    book, day = xlwt.Workbook(), xlwt.easyxf(num_format_str="yyyy-mm-dd")
    sheet = book.add_sheet("Sheet")
    for number, row in enumerate([NAMES, *rows]):
        for column, value in enumerate(row):
            if isinstance(value, dt.date):
                sheet.write(number, column, value, day)
            elif value is not None:
                sheet.write(number, column, float(value) if isinstance(value, Decimal) else value)
    book.save(str(path))


def _folder(path, rows):
    path.mkdir()
    half = (len(rows) + 1) // 2
    for number, part in enumerate((rows[:half], rows[half:])):
        csv.write_csv(_arrow(part), path / f"{number}.csv")


def _postgres(path, rows):
    table = f"t{path.stem}"
    values = [
        "(" + ", ".join("NULL" if value is None else f"'{value}'" for value in row) + ")" for row in rows
    ]
    insert = f"INSERT INTO {table} VALUES {', '.join(values)};" if values else ""
    running = server()
    running.run(f"CREATE TABLE {table} (k bigint, t text, d date, m numeric(9, 2)); {insert}")
    secrets.remember(running.address(), PASSWORD)
    return SourceSettings("database", running.address(), f"public.{table}")


def _typed(path, rows):
    cells = tuple(tuple("" if value is None else str(value) for value in row) for row in rows)
    return SourceSettings("typed", typed=TypedTable(NAMES, cells))


def _parquet(path, rows):
    parquet.write_table(_arrow(rows), path)


def _feather(path, rows):
    feather.write_feather(_arrow(rows), str(path), compression="uncompressed")


# Of each its reader, the table in it, and what writes it, which may hand back other settings.
KINDS_OF_SOURCE = {
    "a.csv": ("text", "", _csv),
    "a.xlsx": ("workbook", "Sheet", _xlsx),
    "a.xls": ("workbook", "Sheet", _xls),
    "a.ods": ("workbook", "Sheet", _ods),
    "a.sqlite": ("sqlite", "data", _sqlite),
    "a.parquet": ("columns", "", _parquet),
    "a.arrow": ("columns", "", _feather),
    "a.jsonl": ("json-lines", "", _json_lines),
    "folder": ("folder", "", _folder),
    "typed": ("typed", "", _typed),
    "postgres": ("database", "", _postgres),
}
# Sheets do not keep a row without any cell.
_WITHOUT_EMPTY_ROWS = ("a.xlsx", "a.xls", "a.ods")


class _Sources:
    """Tables of every kind of source and content, written once."""

    def __init__(self):
        self.place = tempfile.TemporaryDirectory()
        self.folder = Path(self.place.name)
        self.library = Library(Cache(self.folder / "cache"))
        self._made = {}

    def settings(self, kind: str, rows) -> SourceSettings:
        key = kind, tuple(rows)
        if key not in self._made:
            reader, table, put = KINDS_OF_SOURCE[kind]
            path = self.folder / f"{len(self._made)}{Path(kind).suffix}"
            self._made[key] = put(path, rows) or SourceSettings(reader, str(path), table)
        return self._made[key]


@cache
def sources() -> _Sources:
    return _Sources()


FULL = [
    (7, "pier", dt.date(2026, 2, 3), Decimal("1.50")),
    (8, "mill", dt.date(2026, 3, 1), Decimal("2.25")),
    (7, None, None, None),
]


# --- each kind of step ---


def _measures():
    for function in Function:
        for of in ("k", "m"):
            yield MeasureSettings(f"{function.value} {of}", function.value, of)
    for function in ("least", "greatest", "median", "first", "last", "listing", "count-distinct"):
        for of in ("t", "d"):
            yield MeasureSettings(f"{function} {of}", function, of)
    yield MeasureSettings("rows", "count")


def _conditions():
    value = {"k": "7", "t": "pier", "d": "2026-02-03", "m": "1.50"}
    for how in Comparison:
        for of in NAMES:
            if how is Comparison.TRUE:
                yield ConditionSettings(f"{of} IS NOT NULL AND {of} = {of}", how.value)
            elif how is Comparison.PERIOD:
                yield from [ConditionSettings(of, how.value, ("this month",))] if of == "d" else []
            else:
                count = (
                    2
                    if how is Comparison.BETWEEN
                    else 0
                    if how.value in ("filled", "blank", "partner", "no-partner")
                    else 1
                )
                yield ConditionSettings(of, how.value, (value[of],) * count)


EXPRESSIONS = (
    *("k + 1", "k / 2", "-k", "MOD(k, 2)", "m * 2", "m + k", "ABS(m)", "ROUND(m, 1)", "FLOOR(m)", "t || 'x'"),
    *(
        "UPPER(t)",
        "TRIM(t)",
        "SUBSTRING(t FROM 2)",
        "SUBSTRING(t FROM k FOR 2)",
        "POSITION('i' IN t)",
        "REPLACE(t, 'p', 'q')",
    ),
    *(
        "CHAR_LENGTH(t)",
        "t LIKE 'p%'",
        "EXTRACT(YEAR FROM d)",
        "CAST(k AS VARCHAR)",
        "CAST(t AS INTEGER)",
        "CAST(d AS VARCHAR)",
    ),
    *(
        "CAST(m AS INTEGER)",
        "CAST(k AS DECIMAL(9, 2))",
        "COALESCE(k, 0)",
        "COALESCE(t, 'none')",
        "COALESCE(k, m)",
        "NULLIF(k, 7)",
    ),
    *(
        "CASE WHEN k > 5 THEN t ELSE 'few' END",
        "CASE t WHEN 'pier' THEN k END",
        "k IN (1, 7)",
        "k BETWEEN 1 AND m",
        "d < CURRENT_DATE",
    ),
    *("d = DATE '2026-02-03'", "k IS NULL", "NULL"),
)


def on_a_rail():
    """Settings of each kind of step on a rail, many of each."""
    for names in (("k", "t"), ("t", "d"), ()):
        yield "summarise", SummariseSettings(keys=names, measures=tuple(_measures()))
    for condition in _conditions():
        yield "filter", FilterSettings(conditions=(condition,))
    for number, text in enumerate(EXPRESSIONS):
        yield "compute", ComputeSettings(field=f"made {number}", expression=text)
    for kind in ("text", "integer", "decimal", "real", "date", "timestamp", "boolean", "time"):
        yield "choose", ChooseSettings(fields=tuple(ChosenSettings(n, f"{n} now", kind) for n in NAMES))
    yield "choose", ChooseSettings(fields=(ChosenSettings("t"),), others=False)
    for how in ("trim", "squeeze", "upper", "title", "only-digits", "no-punctuation"):
        yield "mend-text", MendTextSettings(fields=("t",), actions=(ActionSettings(how),))
    actions = (
        ActionSettings("part", "i", number=1),
        ActionSettings("pad", "0", number=9),
        ActionSettings("replace", "p", "b"),
    )
    yield "mend-text", MendTextSettings(fields=("t",), actions=actions)
    yield "correct", CorrectSettings(fields=("t",), pairs=(("pier", "quay"),))
    yield "split", SplitSettings(of="t", between="i", into=("one", "other"))
    yield "split-rows", SplitRowsSettings(of="t", between="i", number="part")
    for no_blanks in (False, True):
        yield "columns-to-rows", ColumnsToRowsSettings(of=("t",), no_blanks=no_blanks)
    added = (AddedSettings("no", "row-number"), AddedSettings("all", "running-total", "m"))
    more = tuple(AddedSettings(kind, kind, "d") for kind in ("before", "after"))
    ranks = (AddedSettings("r", "rank"), AddedSettings("e", "dense-rank"), AddedSettings("s", "share", "m"))
    yield "number-rows", NumberRowsSettings(added=added + more, within=("k",))
    yield "number-rows", NumberRowsSettings(added=added + ranks, by=(SortKeySettings("t"),))
    for function, value in (("count", ""), ("sum", "m"), ("listing", "d")):
        columns = RowsToColumnsSettings(
            of="k", columns=("1", "-7"), keys=("t",), function=function, value=value
        )
        yield "rows-to-columns", columns
    yield "walk", WalkSettings(part="k", whole="m", bring=("t", "d"))
    yield "walk", WalkSettings(part="k", whole="m", path_field="", top_down=True)
    yield "combine", CombineSettings(of=NAMES, into="all", between="/")
    values = {"k": "0", "t": "none", "d": "2026-01-01", "m": "0.5"}
    for name, value in values.items():
        yield "fill", FillStepSettings((FillSettings(fields=(name,), of=value),))
        for how in ("before", "after", "leave-out"):
            yield "fill", FillStepSettings((FillSettings(fields=(name,), how=how),))
    yield (
        "fill",
        FillStepSettings(
            (FillSettings(fields=("d",), how="field", of="d"), FillSettings(types=("text",), of="?"))
        ),
    )
    for name in NAMES:
        yield (
            "sort",
            SortSettings((SortKeySettings(name, descending=True), SortKeySettings("k", blanks_first=True))),
        )
        for keep in ("first", "last", f"least:{name}", f"greatest:{name}"):
            yield "distinct", DistinctSettings(keys=(KeySettings(name),), keep=keep, blanks_stay=name == "t")
    yield "distinct", DistinctSettings()
    for name in NAMES:
        by = (SortKeySettings(name, descending=True), SortKeySettings("k"))
        yield "first", FirstSettings(count=2, by=by, each=(name,), with_ties=True)
    yield "first", FirstSettings(count=1)


def joins():
    """Settings of joins, unions and blends of a table with a full one of the same fields."""
    kept = {"keep": None}
    for kind in JoinType:
        if kind is JoinType.CROSS:
            yield "join", JoinSettings(type="cross")
            continue
        for number, operator in enumerate(Operator):
            # Each operator meets each field in some join type; SQLite judges more of them below.
            name = NAMES[(number + list(JoinType).index(kind)) % len(NAMES)]
            link = LinkSettings(name, name, operator=operator.value)
            yield "join", JoinSettings(links=(link,), type=kind.value)
        links = (
            LinkSettings("k", "k", ("case",), compare_as="text"),
            LinkSettings("t", "t", ("case", "outer-spaces")),
        )
        yield (
            "join",
            JoinSettings(links=links, type=kind.value, partner_found=True, side=True, name_all=True, **kept),
        )
        yield "join", JoinSettings(links=links, type=kind.value, any_of=True)
        merge = (MergeSettings("t"), MergeSettings("d", "right"))
        if kind.has_left_fields and kind.has_right_fields:
            yield "join", JoinSettings(links=links[:1], type=kind.value, merge=merge)
    for take in ("first", "last", "pair-off", "least:m", "greatest:d"):
        yield "join", JoinSettings(links=(LinkSettings("k", "k"),), type="full-outer", take=take)
    alike = LinkSettings("t", "t", like=LikeSettings(60.0))
    near = tuple(
        LinkSettings(name, name, like=LikeSettings(within="2", best=True)) for name in ("k", "d", "m")
    )
    for kind in ("inner", "full-outer", "left-anti"):
        for link in (alike, *near):
            yield "join", JoinSettings(links=(link,), type=kind, score=True)
        rungs = (RungSettings(links=(near[0],)), RungSettings(links=(alike,), review=True))
        ladder = JoinSettings(links=(LinkSettings("t", "t"),), type=kind, rungs=rungs)
        yield "join", msgspec.structs.replace(ladder, matched_by=True, score=True)
    expression = LinkSettings("k + 1", "m * 2", left_is_expression=True, right_is_expression=True)
    yield "join", JoinSettings(links=(expression,), type="full-outer")
    blanks = LinkSettings("t", "t", blank_matches_blank=True)
    yield "join", JoinSettings(links=(blanks,), type="full-outer")
    for by_position in (False, True):
        yield "union", UnionSettings(by_position=by_position, rail_field="from")
    for keep in ("every", "found", "groups", "all-groups"):
        # Amounts are decimal here and real there: no field holds the groups of both.
        for name in NAMES[:3] if keep == "all-groups" else NAMES:
            measures = tuple(
                BlendMeasure(f"{entry.name} of it", entry.function, entry.of) for entry in _measures()
            )
            yield (
                "blend",
                BlendSettings(
                    others=(OtherSettings((LinkSettings(name, name),), measures, "k = k OR t IS NULL"),),
                    keep=keep,
                ),
            )
    spread = tuple(
        BlendMeasure(f"sum {by} {stands}", "sum", "k", stands, by)
        for stands, by in (("spread", ""), ("spread", "k"), ("first", ""))
    )
    yield "blend", BlendSettings(others=(OtherSettings((LinkSettings("t", "t"),), spread),))


def _combined(entries):
    """Each of some settings with each content, read from the kinds of source by turns."""
    kinds = list(KINDS_OF_SOURCE)
    for number, entry in enumerate(entries):
        for place, content in enumerate(CONTENTS):
            source = kinds[(number + place + number // len(kinds)) % len(kinds)]
            if CONTENTS[content] or source != "a.jsonl":  # an empty file names no field, and is refused
                yield source, content, entry


class EachKind(unittest.TestCase):
    def setUp(self):
        self.sources = sources()
        self.runner = Runner(KINDS, self.sources.library)

    def rail(self, kind, rows, flow=None):
        return edits.add_source(
            flow or Flow(), self.sources.settings(kind, rows), f"Rail {len((flow or Flow()).steps)}"
        )

    def check(self, flow, step):
        """A step gives what it says that it gives, whole and without any row, at each of its ports."""
        # What an earlier one computed is of no use here.
        self.runner = Runner(KINDS, self.sources.library)
        entry = flow.step(step)
        shapes = self.runner.input_shapes(flow, entry)
        settings = self.runner.settings(flow, entry)
        self.assertEqual(KINDS.of(entry).problems(settings, shapes), [])
        result = self.runner.result(flow, step)
        for port, table in result.ports.items():
            self.assertEqual(table.fields, self.runner.shape(flow, Input(step, port)).fields, port)
            whole = table.take(None, table.names)
            nothing = table.take(pa.array([-1]).to_numpy(), table.names)
            for field, cells, none in zip(table.fields, whole, nothing, strict=True):
                self.assertEqual((cells.values.type, len(cells.values)), (field.arrow_type, table.rows))
                self.assertEqual(none.values.to_pylist(), [None])
                if field.untyped:
                    self.assertEqual(cells.values.null_count, table.rows)
            masks = table.absent(range(table.rows), table.names)
            for cells, mask in zip(whole, masks, strict=True):
                told = [False] * table.rows if mask is None else mask.tolist()
                self.assertEqual(
                    told, [False] * table.rows if cells.absent is None else cells.absent.tolist()
                )
            for row in range(table.rows):
                table.origins(row)
        self.assertTrue(KINDS.of(entry).sentence(settings, shapes))
        return result

    def test_steps_on_a_rail(self):
        for source, content, (kind, settings) in _combined(on_a_rail()):
            with self.subTest(f"{source}, {content}, {kind}: {settings}"):
                flow, rail = self.rail(source, CONTENTS[content])
                self.check(*edits.insert_after(flow, Input(rail), kind, settings))

    def test_joins_unions_and_blends(self):
        for number, (source, content, (kind, settings)) in enumerate(_combined(joins())):
            flow, one = self.rail(source, CONTENTS[content])
            flow, other = self.rail("a.parquet" if source != "a.parquet" else "a.csv", FULL, flow)
            flow, again = self.rail(source, CONTENTS[content], flow)
            left, right = ((one, other), (other, one), (one, again))[number % 3]
            with self.subTest(f"{source}, {content}, {left} with {right}, {kind}: {settings}"):
                self.check(*edits.add_step(flow, kind, "Knot", [Input(left), Input(right)], settings))

    def test_rows_next_to_each_other(self):
        for source, content, _ in _combined([()] * len(KINDS_OF_SOURCE)):
            with self.subTest(f"{source}, {content}"):
                flow, one = self.rail(source, CONTENTS[content])
                flow, other = self.rail(source, CONTENTS[content], flow)
                flow, both = edits.add_beside(flow, Input(one), Input(other))
                rows = self.check(flow, both).rows
                left, right = (rows_of(self.runner.result(flow, side).rows) for side in (one, other))
                expected = [(*ours, *theirs) for ours, theirs in zip(left, right, strict=True)]
                self.assertEqual(rows_of(rows), expected)

    def test_outputs(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        entries = [(ending, joined) for ending in (".xlsx", ".csv", ".tsv") for joined in (False, True)]
        for number, (source, content, (ending, joined)) in enumerate(_combined(entries)):
            with self.subTest(f"{source}, {content}, {ending}, {joined}"):
                flow, rail = self.rail(source, CONTENTS[content])
                flow, other = self.rail("a.parquet", FULL, flow)
                links = JoinSettings(links=(LinkSettings("k", "k"),), type="full-outer")
                flow, knot = edits.add_join(flow, Input(rail), Input(other), links)
                table = self.runner.table(flow, Input(knot if joined else rail))
                path = Path(place.name) / f"{number}{ending}"
                written = write(table, settings_for(path), task=Task())
                self.assertEqual(written.rows, table.rows)
                reader, sheet = ("workbook", "Data") if ending == ".xlsx" else ("text", "")
                back = self.sources.library.get(SourceSettings(reader, str(path), sheet), Task()).table
                self.assertEqual(back.names, table.names)
                kept = [row for row in rows_of(table) if any(v is not None for v in row) or ending != ".xlsx"]
                self.assertEqual(back.rows, len(kept))


class Totals(unittest.TestCase):
    """What SQL says of summaries without keys, and of groups that are not there."""

    def setUp(self):
        self.runner = Runner(KINDS, sources().library)

    def test_a_summary_without_keys_has_one_row(self):
        measures = (
            MeasureSettings("rows", "count"),
            MeasureSettings("some", "count", "k"),
            MeasureSettings("total", "sum", "k"),
        )
        for kind in KINDS_OF_SOURCE:
            for content, rows in CONTENTS.items():
                if kind == "a.jsonl" and not rows:
                    continue
                flow, rail = edits.add_source(Flow(), sources().settings(kind, rows), "Rail")
                flow, step = edits.insert_after(
                    flow, Input(rail), "summarise", SummariseSettings(measures=measures)
                )
                filled = sum(row[0] is not None for row in rows)
                expected = [(len(rows), filled, sum(row[0] for row in rows if row[0]) if filled else None)]
                found = self.runner.result(flow, step).rows
                read = rows if kind not in _WITHOUT_EMPTY_ROWS else [row for row in rows if any(row)]
                self.assertEqual(rows_of(found), [(len(read), *expected[0][1:])], (kind, content))

    def test_a_count_is_0_where_no_group_was_found(self):
        flow, main = edits.add_source(Flow(), sources().settings("a.parquet", FULL), "Main")
        for content, rows in CONTENTS.items():
            made, other = edits.add_source(flow, sources().settings("a.sqlite", rows), "Other")
            for stands in ("every", "first", "spread"):
                measures = (
                    BlendMeasure("rows", "count", "", stands),
                    BlendMeasure("some", "count-distinct", "t", stands),
                    BlendMeasure("total", "sum", "k"),
                )
                settings = BlendSettings(others=(OtherSettings((LinkSettings("k", "k"),), measures),))
                blended, step = edits.add_step(made, "blend", "B", [Input(main), Input(other)], settings)
                found = [row[-3:] for row in rows_of(self.runner.result(blended, step).rows)]
                self.assertEqual(found[1], (0, 0, None), (content, stands))
                if content == "one row":
                    self.assertEqual(sum(row[0] or 0 for row in found), 2 if stands == "every" else 1)


_VALUES = {
    "k": st.sampled_from([1, 2, 3]),
    "t": st.sampled_from(["pier", "mill", "Quay", "é"]),
    "d": st.sampled_from([dt.date(2026, 1, 1), dt.date(2026, 2, 3)]),
    "m": st.sampled_from([Decimal("1.50"), Decimal("2.00"), Decimal("-0.25")]),
}


@st.composite
def _table(draw):
    """Rows, some of whose columns are blank throughout."""
    blank = draw(st.sets(st.sampled_from(NAMES)))
    cells = [st.none() if name in blank else st.none() | _VALUES[name] for name in NAMES]
    rows = draw(st.lists(st.tuples(*cells), max_size=4))
    # A sheet keeps no row without any cell, and one of a single cell below its data is a note, which is said.
    return [row for row in rows if sum(cell is not None for cell in row) > 1]


class AgainstSqlite(unittest.TestCase):
    @given(
        _table(),
        _table(),
        st.sampled_from(list(KINDS_OF_SOURCE)),
        st.sampled_from(list(KINDS_OF_SOURCE)),
        st.sampled_from([kind for kind in JoinType if kind not in (JoinType.CROSS, JoinType.FULL_ANTI)]),
        st.sampled_from(NAMES),
        st.sampled_from(list(Operator)),
        st.booleans(),
    )
    def test_joins_of_tables_that_were_read(self, left, right, one, other, kind, name, operator, blanks):
        if (one == "a.jsonl" and not left) or (other == "a.jsonl" and not right):
            return
        blanks = blanks and operator in (Operator.EQUAL, Operator.UNEQUAL)
        flow, first = edits.add_source(Flow(), sources().settings(one, left), "Left")
        flow, second = edits.add_source(flow, sources().settings(other, right), "Right")
        link = LinkSettings(name, name, operator=operator.value, blank_matches_blank=blanks)
        settings = JoinSettings(links=(link,), type=kind.value, both_links=True)
        flow, knot = edits.add_join(flow, Input(first), Input(second), settings)
        table = Runner(KINDS, sources().library).table(flow, Input(knot, ROWS))
        found = Counter(
            zip(*(_comparable(cells.values) for cells in table.take(None, table.names)), strict=True)
        )
        self.assertEqual(
            found if table.rows else Counter(), _judged(left, right, kind, name, operator, blanks)
        )


def _comparable(values):
    """Cells as texts that do not depend on how a source holds them."""
    return [None if text is None else _plain(text) for text in as_text(values).to_pylist()]


def _plain(text):
    return text.rstrip("0").rstrip(".") if "." in text and not text.startswith("20") else text


def _judged(left, right, kind, name, operator, blanks):
    base = sqlite3.connect(":memory:")
    for table, rows in (("l", left), ("r", right)):
        base.execute(f"CREATE TABLE {table} (k INTEGER, t TEXT, d TEXT, m REAL)")
        stored = [
            tuple(
                float(v) if isinstance(v, Decimal) else str(v) if isinstance(v, dt.date) else v for v in row
            )
            for row in rows
        ]
        base.executemany(f"INSERT INTO {table} VALUES (?, ?, ?, ?)", stored)
    sign = {Operator.EQUAL: "IS", Operator.UNEQUAL: "IS NOT"}[operator] if blanks else operator.value
    on = f"l.{name} {sign} r.{name}"
    exists = "SELECT {0}.* FROM {0} WHERE {1} EXISTS (SELECT 1 FROM {2} WHERE {3})"
    query = {
        JoinType.INNER: f"SELECT l.*, r.* FROM l JOIN r ON {on}",
        JoinType.LEFT_OUTER: f"SELECT l.*, r.* FROM l LEFT JOIN r ON {on}",
        JoinType.RIGHT_OUTER: f"SELECT l.*, r.* FROM r LEFT JOIN l ON {on}",
        JoinType.FULL_OUTER: f"SELECT l.*, r.* FROM l FULL JOIN r ON {on}",
        JoinType.LEFT_ANTI: exists.format("l", "NOT", "r", on),
        JoinType.RIGHT_ANTI: exists.format("r", "NOT", "l", on),
        JoinType.LEFT_SEMI: exists.format("l", "", "r", on),
        JoinType.RIGHT_SEMI: exists.format("r", "", "l", on),
    }[kind]
    rows = base.execute(query).fetchall()
    base.close()
    return Counter(tuple(None if v is None else _plain(str(v)) for v in row) for row in rows)


if __name__ == "__main__":
    unittest.main()
