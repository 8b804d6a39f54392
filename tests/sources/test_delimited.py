import datetime as dt
import random
import unittest
import uuid
from decimal import Decimal
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.source_settings import Dialect, SourceSettings
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.dialect import TextDialect
from keen_trellis.sources.library import Library
from keen_trellis.sources.quoting import Quotation
from keen_trellis.sources.text_blocks import TextFile
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

T = FieldType


class DelimitedCase(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "file.csv"

    def read(self, content: str | bytes, encoding: str = "utf-8"):
        self.path.write_bytes(content if isinstance(content, bytes) else content.encode(encoding))
        library = Library()
        return library.get(library.content(self.path).settings(""), Task())

    def rows(self, content, encoding="utf-8") -> list[tuple]:
        return rows_of(self.read(content, encoding).table)

    def said(self, snapshot) -> str:
        return " | ".join(map(str, snapshot.remarks))


class Dialects(DelimitedCase):
    def test_each_delimiter(self):
        for delimiter in ",;\t|":
            content = f"name{delimiter}n\nx, y or z{delimiter}1\n".replace("x, y or z", "x")
            self.assertEqual(self.rows(content * 1), [("x", 1)], repr(delimiter))

    def test_delimiters_inside_quotes_do_not_count(self):
        self.assertEqual(self.rows('a;b\n"1,5;x";"y,z"\n"2,5";q\n'), [("1,5;x", "y,z"), ("2,5", "q")])

    def test_single_quotes(self):
        self.assertEqual(self.rows("a,b\n'x,1','y'\n'z','w'\n"), [("x,1", "y"), ("z", "w")])

    def test_lines_inside_quotes_and_doubled_quotes(self):
        self.assertEqual(self.rows('a,b\n"two\nlines","say ""hi"""\n'), [("two\nlines", 'say "hi"')])

    def test_encodings(self):
        words = "a,b\nMünchner Straße,žluťoučký\n"
        for encoding in ("utf-8", "utf-8-sig", "utf-16"):
            self.assertEqual(self.rows(words, encoding), [("Münchner Straße", "žluťoučký")], encoding)

    def test_another_encoding_is_guessed_and_said(self):
        words = "name,place\n" + "".join(f"Müller {n},Königstraße für schöne Möbel\n" for n in range(60))
        snapshot = self.read(words, "cp1252")
        self.assertEqual(rows_of(snapshot.table)[0], ("Müller 0", "Königstraße für schöne Möbel"))
        self.assertIn("not UTF-8", self.said(snapshot))

    def test_bad_bytes_far_into_the_file_are_found(self):
        content = b"a,b\n" + b"plain,text\n" * 60_000 + "Möbel,schön\n".encode("cp1252")
        snapshot = self.read(content)
        self.assertEqual(snapshot.table.rows, 60_001)
        self.assertIn("not UTF-8", self.said(snapshot))

    def test_bytes_of_no_encoding_are_refused_or_said(self):
        chance = random.Random(3)
        content = (
            b"a,b\n" + bytes(chance.choice([*range(1, 9), *range(128, 256)]) for _ in range(4_000)) + b"\n"
        )
        try:
            said = self.said(self.read(content))
        except SourceError as error:
            said = str(error)
            self.assertIn("UTF-8", error.remedy)
        self.assertIn("not UTF-8", said)

    def test_one_column(self):
        self.assertEqual(self.rows("code\nA1\n\nB2\n"), [("A1",), (None,), ("B2",)])

    def test_windows_line_ends_and_no_last_line_end(self):
        self.assertEqual(self.rows("a,b\r\n1,2\r\n3,4"), [(1, 2), (3, 4)])

    def test_a_title_above_the_header(self):
        snapshot = self.read("Report of the month\n\nvenue,crates\nPier,2\nMill,3\n")
        self.assertEqual(snapshot.table.names, ("venue", "crates"))
        self.assertIn("below “Report of the month”", self.said(snapshot))
        self.assertEqual(snapshot.table.origins(0)[0].row, 4)

    def test_no_header(self):
        snapshot = self.read("1,x\n2,y\n")
        self.assertEqual((snapshot.table.names, snapshot.table.rows), (("field 1", "field 2"), 2))
        self.assertIn("no header", self.said(snapshot))


class Types(DelimitedCase):
    def kind(self, *values: str):
        snapshot = self.read("id,v\n" + "".join(f"r{n},{value}\n" for n, value in enumerate(values)))
        return snapshot.table.fields[1].type, [row[1] for row in rows_of(snapshot.table)], self.said(snapshot)

    def check(self, values, kind, expected, said=""):
        found, read, remarks = self.kind(*values)
        self.assertEqual((found, read), (kind, expected))
        self.assertIn(said, remarks)

    def test_whole_numbers(self):
        self.check(["1", "-20", "", "+3"], T.INTEGER, [1, -20, None, 3])

    def test_decimals_are_exact(self):
        self.check(
            ["1.10", "2", "-0.005"], T.DECIMAL, [Decimal("1.100"), Decimal("2.000"), Decimal("-0.005")]
        )

    def test_a_late_value_decides(self):
        values = ["1"] * 5_000 + ["1.5"]
        self.assertEqual(self.kind(*values)[0], T.DECIMAL)

    def test_leading_zeros_stay_text(self):
        self.check(["007", "12"], T.TEXT, ["007", "12"], "leading zeros")

    def test_more_digits_than_64_bits(self):
        long = "123456789012345678901234567890"
        self.check([long, "1"], T.DECIMAL, [Decimal(long), Decimal(1)])
        self.assertEqual(self.kind("1" * 60)[0], T.TEXT)

    def test_exponents_are_real(self):
        self.check(["1e3", "2.5"], T.REAL, [1000.0, 2.5])

    def test_booleans_dates_times_timestamps(self):
        self.check(["true", "False"], T.BOOLEAN, [True, False])
        self.check(["2026-02-01", ""], T.DATE, [dt.date(2026, 2, 1), None])
        self.check(["08:30", "23:59:01"], T.TIME, [dt.time(8, 30), dt.time(23, 59, 1)])
        self.check(
            ["2026-02-01T08:30", "2026-02-01 08:30:15"],
            T.TIMESTAMP,
            [dt.datetime(2026, 2, 1, 8, 30), dt.datetime(2026, 2, 1, 8, 30, 15)],
        )

    def test_dates_with_one_possible_order(self):
        self.check(["31/01/2026", "1/2/2026"], T.DATE, [dt.date(2026, 1, 31), dt.date(2026, 2, 1)])
        self.check(["01.31.2026", "2.1.2026"], T.DATE, [dt.date(2026, 1, 31), dt.date(2026, 2, 1)])

    def test_dates_with_two_possible_orders_stay_text(self):
        self.check(
            ["01/02/2026", "03/04/2026"], T.TEXT, ["01/02/2026", "03/04/2026"], "cannot be distinguished"
        )

    def test_a_day_that_does_not_exist(self):
        self.check(["2026-02-30", "2026-02-01"], T.TEXT, ["2026-02-30", "2026-02-01"], "look like dates")

    def test_the_odd_value_is_pointed_at(self):
        self.check(["1", "2", "many", "4"], T.TEXT, ["1", "2", "many", "4"], "“many” (row 4)")

    def test_every_odd_value_has_its_place(self):
        snapshot = self.read("id,v\n" + "".join(f"r{n},{'x' if n % 10 == 3 else n}\n" for n in range(1_000)))
        remark = next(entry for entry in snapshot.remarks if entry.field == "v")
        self.assertEqual([place.row for place in remark.places[:3]], [5, 15, 25])
        self.assertEqual({place.value for place in remark.places}, {"x"})

    def test_words_for_nothing_known_are_blank_among_values_of_a_type(self):
        self.check(["1", "n/a", "-", "4"], T.INTEGER, [1, None, None, 4], "1 “-”, 1 “n/a” counted as blank")
        self.check(["x", "n/a"], T.TEXT, ["x", "n/a"])
        self.check(["n/a", "n/a"], T.TEXT, ["n/a", "n/a"])

    def test_amounts_with_a_currency_sign_are_read_and_said(self):
        self.check(["£1.50", "20"], T.DECIMAL, [Decimal("1.50"), Decimal(20)], "currency sign")
        self.check(['"1.234,56 €"', "7 €"], T.DECIMAL, [Decimal("1234.56"), Decimal(7)], "decimal comma")

    def test_percentages_are_hundredths(self):
        self.check(["12.5 %", "7%"], T.DECIMAL, [Decimal("0.125"), Decimal("0.07")], "percentages")

    def test_marks_of_thousands(self):
        self.check(["1'234.5", "7"], T.DECIMAL, [Decimal("1234.5"), Decimal(7)], "marks of thousands")
        self.check(["1 234", "77"], T.DECIMAL, [Decimal(1234), Decimal(77)])

    def test_marks_that_could_mean_either_stay_text(self):
        values = ["1.234,5", "2,125"]
        self.assertEqual(
            self.kind(*[f'"{value}"' for value in values])[1], [Decimal("1234.500"), Decimal("2.125")]
        )
        found = self.kind('"1,234"', '"2,125"')
        self.assertEqual((found[0], found[1]), (T.TEXT, ["1,234", "2,125"]))
        self.assertIn("cannot be distinguished", found[2])

    def test_one_field_shows_what_the_marks_of_another_mean(self):
        snapshot = self.read("a;b;c\n1.234,5;1,234;01/02/2026\n2;2,125;03/04/2026\n")
        self.assertEqual([row[1] for row in rows_of(snapshot.table)], [Decimal("1.234"), Decimal("2.125")])
        snapshot = self.read("a;c\n31/01/2026;01/02/2026\n01/02/2026;03/04/2026\n")
        self.assertEqual(
            [row[1] for row in rows_of(snapshot.table)], [dt.date(2026, 2, 1), dt.date(2026, 4, 3)]
        )


class Repairs(DelimitedCase):
    def test_ragged_rows_are_kept_and_said(self):
        snapshot = self.read("a,b,c\n1,2,3\n4,5\n6,7,8,9\n\n10,11,12\n")
        self.assertEqual(snapshot.table.names, ("a", "b", "c", "field 4"))
        self.assertEqual(
            rows_of(snapshot.table), [(1, 2, 3, None), (4, 5, None, None), (6, 7, 8, 9), (10, 11, 12, None)]
        )
        said = self.said(snapshot)
        self.assertIn("1 row has fewer than 3 cells; the rest is blank (first in line 3)", said)
        self.assertIn("1 row has more than 3 cells", said)
        self.assertIn("1 empty line", said)
        self.assertEqual(snapshot.table.origins(3)[0].row, 6)

    def test_every_row_of_a_long_ragged_file_is_kept(self):
        lines = [f"{n},x" if n % 7 else f"{n}" for n in range(45_000)]
        snapshot = self.read("n,v\n" + "\n".join(lines) + "\n")
        self.assertEqual(snapshot.table.rows, 45_000)
        self.assertEqual(rows_of(snapshot.table)[44_999], (44_999, "x") if 44_999 % 7 else (44_999, None))

    def test_a_quotation_mark_that_is_never_closed(self):
        for rows in (3, 60_000):
            content = "a,b\n" + "x,1\n" * rows + '"never closed,2\n' + "y,3\n" * rows
            with self.assertRaisesRegex(SourceError, "[Qq]uot"):
                self.read(content)

    def test_the_line_before_an_open_quotation_mark_is_named(self):
        with self.assertRaisesRegex(SourceError, "after line 3"):
            self.read('a,b\n1,x\n2,y\n3,"z\n4,w\n')

    def test_a_mark_inside_a_cell_is_kept_and_said(self):
        snapshot = self.read('size,n\n"3" pipe,1\n"4" pipe,2\n')
        self.assertEqual(snapshot.table.rows, 2)
        self.assertIn("quotation mark", self.said(snapshot))

    def test_a_mark_in_a_plain_cell_is_kept(self):
        for content in ('n,size\n1,5" pipe\n2,6" pipe\n', 'n,size\n1,5" pipe\n2,6 inch\n'):
            self.assertEqual(self.rows(content)[0], (1, '5" pipe'))

    def test_quoted_cells_are_read_the_quick_way(self):
        with mock.patch("keen_trellis.sources.text_blocks.TextFile._of_rows", side_effect=AssertionError):
            for mark in ("", "\ufeff"):
                content = mark + '"a","b"\r\n"x, ""y""","two\nlines"\r\n"","z"'
                self.assertEqual(self.rows(content), [('x, "y"', "two\nlines"), (None, "z")])

    def test_empty_lines_among_even_rows_are_no_rows(self):
        for end in ("\n", "\r\n"):
            snapshot = self.read(end.join(["a,b", "1,x", "", ",", '2,"y"', "", "", "3,z", "", ""]))
            self.assertEqual(rows_of(snapshot.table), [(1, "x"), (None, None), (2, "y"), (3, "z")])
            self.assertEqual(snapshot.table.origins(3)[0].row, 8)
            self.assertIn("4 empty lines are no rows", self.said(snapshot))
        # Of a single field an empty line is a blank cell.
        self.assertEqual(rows_of(self.read("a\n1\n\n2\n").table), [(1,), (None,), (2,)])

    def test_a_return_without_a_newline_ends_a_row_and_no_line(self):
        for text, rows, lines in (
            ("1,2\r3,4\n5\n", [(1, 2), (3, 4), (5, None)], [2, 2, 3]),
            ("1,2\r3,4\n5,6\n", [(1, 2), (3, 4), (5, 6)], [2, 2, 3]),
            ("1,2\n# no\n3,4\r5,6\n# no\n7,8\n", [(1, 2), (3, 4), (5, 6), (7, 8)], [2, 4, 4, 6]),
        ):
            table = self.read(f"a,b\n{text}").table
            self.assertEqual(rows_of(table), rows)
            self.assertEqual([table.origins(row)[0].row for row in range(table.rows)], lines)

    def test_an_encoding_that_is_set_and_is_not_the_files(self):
        for encoding, content in (("utf-8", b"a,b\n1,\xff\n"), ("ascii", "a,b\n1,\u00e9\n".encode())):
            self.path.write_bytes(content)
            chosen = SourceSettings("text", str(self.path), dialect=Dialect(encoding))
            with self.assertRaisesRegex(SourceError, f"not written in {encoding}"):
                Library().get(chosen, Task())

    def test_nothing_but_empty_lines(self):
        with self.assertRaisesRegex(SourceError, "nothing but empty lines"):
            self.read("\n\n\n")

    def test_a_field_without_values_is_said(self):
        snapshot = self.read("a,b\n1,\n2,\n")
        self.assertEqual(
            self.said(snapshot),
            "b: has no values, so that it has no type yet: it takes that of whatever it meets",
        )

    def test_binary_content(self):
        with self.assertRaisesRegex(SourceError, "neither a workbook, nor text, JSON or XML"):
            self.read(b"\x00\x01\x02" * 100)

    @given(
        st.lists(
            st.tuples(
                *[
                    st.text(
                        st.characters(codec="utf-8", exclude_characters="\r\x00", exclude_categories=["Cs"]),
                        max_size=5,
                    )
                ]
                * 2
            ),
            min_size=2,
            max_size=6,
        )
    )
    def test_what_the_csv_writer_wrote_is_read(self, cells):
        import csv
        import io

        written = io.StringIO()
        writer = csv.writer(written, quoting=csv.QUOTE_ALL, lineterminator="\n")
        writer.writerow(["first column", "second column"])
        writer.writerows(cells)
        table = self.read(written.getvalue()).table
        self.assertEqual(table.rows, len(cells))
        if all(field.type is T.TEXT for field in table.fields):
            self.assertEqual(rows_of(table), [tuple(cell or None for cell in row) for row in cells])


_CELLS = st.sampled_from(
    (
        *("", "1", "22", "-3", "1.5", "0.25", "007", "x", "n/a", "two\nlines", 'say "hi"', "2026-01-02"),
        *("01/02/2026", "31/01/2026", "£1.50", "1,234", "1.234,5", "12 %", "true", "# no", "08:30", "1e3"),
    )
)


class Blocks(DelimitedCase):
    """However small the blocks in which a file is read, what comes of it is the same."""

    @given(
        st.lists(st.lists(_CELLS, min_size=2, max_size=4), min_size=1, max_size=14),
        st.sampled_from(["\n", "\r\n"]),
        st.integers(1, 60),
    )
    def test_small_blocks_and_one(self, rows, end, size):
        import csv
        import io

        written = io.StringIO()
        writer = csv.writer(written, lineterminator=end)
        writer.writerows([["first", "second", "third"], *rows])
        whole = self.outcome(written.getvalue())
        with mock.patch("keen_trellis.sources.text_blocks.BLOCK_BYTES", size):
            parts = self.outcome(written.getvalue())
        self.assertEqual(parts, whole)

    @given(st.text(st.sampled_from('a1,"\n\r'), max_size=80), st.integers(1, 40))
    @example('1,"x"\n2,"y"z\n3,"q\nr"\n4,s"t\n', 8)
    @example('1,"x\n2,y"\n3,"z"\n4,"\n', 8)
    def test_marks_anywhere(self, text, size):
        content = f"a,b\n1,2\n{text}"
        whole = self.outcome(content)
        with mock.patch("keen_trellis.sources.text_blocks.BLOCK_BYTES", size):
            self.assertEqual(self.outcome(content), whole)

    def outcome(self, content: str):
        self.path.write_text(content, newline="")
        library = Library(Cache(self.path.parent / f"cache-{uuid.uuid4().hex}"))
        try:
            snapshot = library.get(library.content(self.path).settings(""), Task())
        except SourceError as error:
            return str(error)
        table = snapshot.table
        numbers = [table.origins(row)[0].row for row in range(table.rows)]
        return (
            table.names,
            [field.arrow_type for field in table.fields],
            rows_of(table),
            numbers,
            self.said(snapshot),
        )

    def test_numbers_and_dates_that_are_read_at_once_are_written_plainly(self):
        days = "".join(f"{number},2026-11-{number % 30 + 1:02},x\n" for number in range(60))
        late = (
            "007",
            "+5",
            " 7",
            "0xFFFFFFFF",
            "-0",
            "4294967295",
            "1e3",
            "123456789012345678901",
            "n/a",
            "",
        )
        for cells in [(value, "2026-01-01") for value in late] + [("7", "2026-02-30"), ("7", "2026-1-01")]:
            content = f"number,day,name\n{days}{','.join(cells)},y\n"
            with mock.patch("keen_trellis.sources.text_blocks.BLOCK_BYTES", 64):
                parts = self.outcome(content)
            self.assertEqual(parts, self.outcome(content), cells)

    def test_a_field_that_begins_with_blanks_and_one_that_changes_late(self):
        rows = [["", "1"]] * 30 + [["7", "2"]] * 30 + [["8", "2.5"]] * 3
        with mock.patch("keen_trellis.sources.text_blocks.BLOCK_BYTES", 50):
            table = self.read("a,b\n" + "".join(f"{a},{b}\n" for a, b in rows)).table
        self.assertEqual([field.type for field in table.fields], [T.INTEGER, T.DECIMAL])
        self.assertEqual(
            (rows_of(table)[0], rows_of(table)[-1]), ((None, Decimal("1.0")), (8, Decimal("2.5")))
        )
        chosen = table.take(np.array([62, 0, -1, 30]), ["a"])[0]
        self.assertEqual(chosen.values.to_pylist(), [8, None, None, 7])


class Cuts(SourceCase):
    """Files are looked at in blocks; where one ends must not matter."""

    TEXTS = st.text(st.sampled_from('a,"\n\r'), max_size=300)

    @given(TEXTS, st.booleans())
    @example('x,"a\n""b""",c\n', False)
    def test_quotation_marks_open_and_close_by_turns(self, text, is_open):
        well, around = True, set('",\n\r')
        outside = not is_open
        for place, sign in enumerate(text):
            if sign == '"':
                beside = text[place - 1 : place] if outside else text[place + 1 : place + 2]
                well &= not beside or beside in around
                outside = not outside
        found = Quotation(np.frombuffer(text.encode(), np.uint8), '"', ",", is_open=is_open)
        places, end_rows = found.ends()
        self.assertEqual((found.marks, found.stand_well), (text.count('"'), well))
        self.assertEqual(found.ends_open, not outside)
        lines = [place for place, sign in enumerate(text) if sign == "\n"]
        self.assertEqual((found.newlines, places.tolist()), (len(lines), lines))
        ends = [(text[:place].count('"') + is_open) % 2 == 0 for place in lines]
        self.assertEqual((found.row_ends, end_rows.tolist()), (sum(ends), ends))

    @given(TEXTS, st.integers(1, 9), st.sampled_from(['"', ""]))
    @example('a,"\n\n\n\n\n\n\n\n"\nb\n', 2, '"')
    def test_blocks_are_cut_behind_whole_rows(self, text, size, quote):
        path = self.put("r.csv", text)
        file = TextFile(path, "r.csv", TextDialect("utf-8", ",", quote), 2, 0, 0, None)
        with mock.patch("keen_trellis.sources.text_blocks.BLOCK_BYTES", size), path.open("rb") as opened:
            parts = [bytes(block[:end]).decode() for block, end in file._whole_rows(opened, [])]
        together = "".join(parts)
        if together != text:
            self.assertTrue(text.startswith(together))
            last = Quotation(np.frombuffer(parts[-1].encode(), np.uint8), '"', ",")
            self.assertFalse(last.stand_well)
        for part in parts[:-1]:
            self.assertEqual(part[-1], "\n")
            self.assertFalse(quote and part.count('"') % 2)


if __name__ == "__main__":
    unittest.main()
