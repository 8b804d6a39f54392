"""JSON in one piece and XML: a table for each list, linked to that which it stands in."""

import datetime as dt
import json
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.source_settings import Writing
from keen_trellis.sources.document import Document
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

LOANS = {
    "exported": "2026-05-01",
    "by": {"name": "Ida", "desk": 3},
    "loans": [
        {
            "no": "L-1",
            "venue": {"name": "Pier"},
            "objects": [{"acc": "LCM.1", "tags": ["a", "b"]}, {"acc": "LCM.2"}],
        },
        {"no": "L-2", "venue": {"name": "Hall", "town": "Wick"}, "objects": []},
        {"no": "L-3", "note": None, "objects": [{"acc": "LCM.9", "on": "2026-02-03"}]},
    ],
}
XML = """<?xml version="1.0"?>
<x:export xmlns:x="urn:lantern" made="2026-05-01">
  <!-- loans, venues -->
  <x:loans>
    <x:loan no="L-1"><value>12.50</value><out>2026-01-02</out>
      <object acc="1">Harbour</object><object acc="2"/></x:loan>
    <x:loan no="L-2"><value>7.00</value><object acc="3">Quay &amp; Pier</object></x:loan>
  </x:loans>
  <venues><venue><name>Pier</name></venue></venues>
</x:export>
"""


class DocumentCase(SourceCase):
    def names(self, path):
        return [entry.name for entry in self.library.content(path).tables]

    def rows(self, path, table=""):
        found = self.read(path, table).table
        return list(found.names), rows_of(found)


class OfJson(DocumentCase):
    def test_each_list_is_a_table_and_objects_inside_are_fields(self):
        path = self.put("export.json", json.dumps(LOANS, indent=1))
        self.assertEqual(self.names(path), ["export", "loans", "loans.objects", "loans.objects.tags"])
        self.assertEqual(
            self.rows(path, "export"),
            (["exported", "by.name", "by.desk"], [(dt.date(2026, 5, 1), "Ida", 3)]),
        )
        self.assertEqual(
            self.rows(path, "loans"),
            (
                ["row", "no", "venue.name", "venue.town", "note"],
                [
                    (1, "L-1", "Pier", None, None),
                    (2, "L-2", "Hall", "Wick", None),
                    (3, "L-3", None, None, None),
                ],
            ),
        )
        names, rows = self.rows(path, "loans.objects")
        self.assertEqual(names, ["row", "row of loans", "acc", "on"])
        self.assertEqual([row[:3] for row in rows], [(1, 1, "LCM.1"), (2, 1, "LCM.2"), (3, 3, "LCM.9")])
        self.assertEqual(
            self.rows(path, "loans.objects.tags"), (["row of loans.objects", "value"], [(1, "a"), (1, "b")])
        )

    def test_they_are_linked(self):
        path = self.put("export.json", json.dumps(LOANS))
        (key,) = self.read(path, "loans.objects").foreign_keys
        self.assertEqual((key.fields, key.table, key.their_fields), (("row of loans",), "loans", ("row",)))
        self.assertEqual(self.read(path, "loans").key, ("row",))
        self.assertEqual(self.read(path, "export").foreign_keys, ())

    def test_a_list_of_objects_is_one_table(self):
        path = self.put("t.json", '[{"n": 1, "row": "x"}, {"n": 2.5, "late": true}, 7, null]')
        self.assertEqual(self.rows(path)[0], ["n", "row", "late", "value"])
        self.assertEqual(self.rows(path)[1][2:], [(None, None, None, 7), (None, None, None, None)])
        self.assertEqual(str(self.read(path).table.origins(1)[0]), "t.json, row 2")

    def test_a_name_that_is_taken_is_given_another(self):
        path = self.put("t.json", json.dumps([{"row": 5, "in": [{"row of t": 1}]}]))
        self.assertEqual(self.rows(path, "t")[0], ["row 2", "row"])
        self.assertEqual(self.rows(path, "in")[0], ["row of t 2", "row of t"])
        (key,) = self.read(path, "in").foreign_keys
        self.assertEqual((key.fields, key.their_fields), (("row of t 2",), ("row 2",)))

    def test_lists_in_lists(self):
        path = self.put("t.json", "[[1, 2], [3], []]")
        self.assertEqual(self.rows(path), (["row of t", "value"], [(1, 1), (1, 2), (2, 3)]))

    def test_numbers_keep_their_digits_and_kinds_are_said(self):
        path = self.put(
            "t.json", '[{"w": 18446744073709551615, "m": 1}, {"w": 0.123456789012345678, "m": "x"}]'
        )
        found = self.read(path)
        self.assertEqual(found.table.field("w").type, FieldType.DECIMAL)
        self.assertEqual(rows_of(found.table)[1], (Decimal("0.123456789012345678"), "x"))
        self.assertIn("m: cells of several kinds", self.said(found))

    def test_what_is_one_object_on_one_line_and_what_are_lines(self):
        one = self.put("one.json", '{"loans": [{"no": 1}]}\n\n')
        self.assertEqual(self.rows(one), (["no"], [(1,)]))
        lines = self.put("lines.json", '{"loans": [{"no": 1}]}\n{"loans": []}\n')
        self.assertEqual(self.rows(lines)[0], ["loans"])
        flat = self.put("flat.jsonl", '{"no": 1}')
        self.assertEqual(self.rows(flat), (["no"], [(1,)]))
        long = self.put("long.json", json.dumps({"loans": [{"no": n, "text": "x" * 50} for n in range(500)]}))
        self.assertEqual(len(self.rows(long)[1]), 500)

    def test_other_encodings(self):
        for encoding in ("utf-8-sig", "utf-16", "utf-32"):
            path = self.put(
                f"{encoding}.json", json.dumps([{"venue": "Ærø"}], ensure_ascii=False).encode(encoding)
            )
            self.assertEqual(self.rows(path)[1], [("Ærø",)])

    def test_what_cannot_be_read(self):
        for name, content, said in (
            ("cut.json", '[{"a": 1}, {"a"', "damaged or cut off"),
            ("deep.json", "[" * 150 + "1" + "]" * 150, "nested more than 100 times"),
            ("deeper.json", '[{"a":' * 3_000 + "1" + "}]" * 3_000, "nested"),
            ("wide.json", json.dumps([{f"k{n}": n for n in range(20_000)}]), "more than"),
        ):
            with self.subTest(name):
                self.refused(self.put(name, content), said)
        path = self.put("t.json", json.dumps(LOANS))
        self.refused(path, "There is no list “losns” in it. It holds: “t”, “loans”", "losns")
        self.refused(self.put("e.json", "[ ]"), "holds no table")
        self.refused(self.put("f.json", "[\n]\n"), "holds no table")

    @given(
        st.recursive(
            st.one_of(
                st.none(), st.booleans(), st.integers(-9, 9), st.sampled_from(["", "a", "value", "row"])
            ),
            lambda inner: st.one_of(
                st.lists(inner, max_size=3),
                st.dictionaries(st.sampled_from(["a", "a.b", "b", "row", "value", ""]), inner, max_size=3),
            ),
            max_leaves=12,
        )
    )
    def test_no_value_is_lost(self, content):
        if not isinstance(content, list | dict):
            content = [content]
        found = Document(content, "t")
        listed = list(found.listings())
        self.assertEqual(len({entry.name for entry in listed}), len(listed))
        told = 0
        for entry in listed:
            columns, rows, *_ = found.columns(entry.name)
            self.assertEqual(len({column.name for column in columns}), len(columns))
            for column in columns:
                self.assertEqual(len(column.places), len(column.values))
                self.assertEqual(len(set(column.places)), len(column.places))
                self.assertTrue(all(0 <= place < rows for place in column.places))
            told += sum(len(column.values) for column in columns if not isinstance(column.places, range))
        self.assertEqual(told, _leaves(content))


def _leaves(content) -> int:
    if isinstance(content, dict):
        return sum(map(_leaves, content.values()))
    if isinstance(content, list):
        return sum(map(_leaves, content))
    return content is not None


class OfXml(DocumentCase):
    def test_repeated_elements_are_tables_with_types(self):
        path = self.put("loans.xml", XML)
        self.assertEqual(self.names(path), ["loans", "loans.loan", "loans.loan.object", "venues.venue"])
        names, rows = self.rows(path, "loans.loan")
        self.assertEqual(names, ["row", "no", "value", "out"])
        self.assertEqual(
            rows, [(1, "L-1", Decimal("12.50"), dt.date(2026, 1, 2)), (2, "L-2", Decimal("7.00"), None)]
        )
        names, rows = self.rows(path, "loans.loan.object")
        self.assertEqual(names, ["row of loans.loan", "acc", "text"])
        self.assertEqual(rows, [(1, 1, "Harbour"), (1, 2, None), (2, 3, "Quay & Pier")])
        # One that is called as its container's plural is a list, also where there is one of it this month.
        self.assertEqual(self.rows(path, "venues.venue"), (["name"], [("Pier",)]))

    def test_how_values_are_written_can_be_set(self):
        path = self.put(
            "t.xml", "<rows><row><on>03/02/2026</on><v>1,5</v></row><row><on>04/02/2026</on></row></rows>"
        )
        found = self.read(path, writing=Writing(decimal=",", dates="day"))
        self.assertEqual(rows_of(found.table)[0], (dt.date(2026, 2, 3), Decimal("1.5")))
        self.assertEqual(self.read(path).table.field("on").type, FieldType.TEXT)

    def test_nothing_that_it_names_is_looked_up(self):
        secret = self.put("secret.txt", "hidden")
        text = f'<!DOCTYPE r [<!ENTITY s SYSTEM "{secret}"><!ENTITY a "aaaa">]><r><i>&s;</i><i>x</i></r>'
        self.assertNotIn("hidden", str(self.rows(self.put("t.xml", text))))
        many = "".join(f'<!ENTITY e{n} "{f"&e{n - 1};" * 10}">' for n in range(1, 12))
        bomb = f'<!DOCTYPE r [<!ENTITY e0 "x">{many}]><r><i>&e11;</i><i>y</i></r>'
        try:
            self.assertNotIn("xxxx", str(self.rows(self.put("bomb.xml", bomb))))
        except SourceError as error:
            self.assertIn("damaged", str(error))

    def test_what_cannot_be_read_says_what_it_is(self):
        for name, content, said in (
            ("cut.xml", "<rows><row>1</row><row", "damaged or cut off"),
            ("deep.xml", "<a>" * 250 + "</a>" * 250, "nested"),
            ("page.html", "<!DOCTYPE html><html><body>1, 2</body></html>", "a web page"),
            (
                "book.xml",
                '<Workbook xmlns="urn:schemas-microsoft-com:office:spreadsheet"/>',
                "a workbook written as XML",
            ),
            ("p.svg", '<svg width="3"/>', "a picture"),
        ):
            with self.subTest(name):
                self.refused(self.put(name, content), said)

    def test_one_that_was_renamed_is_said(self):
        found = self.read(self.put("t.jsonl", "<rows><row>1</row><row>2</row></rows>"))
        self.assertIn("its name says JSON lines, but it is XML", self.said(found))
        self.assertEqual(rows_of(found.table), [(1,), (2,)])

    def test_it_is_read_as_it_was_or_says_that_it_is_another_kind(self):
        path = self.put("t.xml", "<rows><row>1</row><row>2</row></rows>")
        settings = self.settings(path)
        self.put("t.xml", '[{"a": 1}]')
        with self.assertRaisesRegex(SourceError, "It was read as xml, but holds a JSON now"):
            self.library.get(settings, Task())
