"""A source is read from another file, table or address: what is different is shown before it is taken."""

from pathlib import Path

import xlsxwriter
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.core.values import FieldType
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, SHIFT
from tests.desktop.test_sources import SourcesCase

KEY = Qt.Key
PLACE = "Place"


class Elsewhere(SourcesCase):
    def setUp(self):
        super().setUp()
        self.text_file("loan,Loan date,venue\nL-1,2026-05-01,Quay\nL-2,2026-05-02,Pier\n", "may.csv")
        self.loans = self.begin(self.folder / "may.csv")

    def choose_place(self, text: str):
        """Open the list under the file's name and choose a line of it."""
        self.session.select(Selection(self.loans))
        self.click(self.chip(PLACE))
        self.pick(text)
        self.rest()

    def choose_file(self, content: str, name: str = "june.csv") -> Path:
        path = self.text_file(content, name)
        self.choose_place("another file …")
        self.enter_file(path)
        self.rest()
        return path

    def test_what_is_the_same_is_taken_at_once_and_back(self):
        june = self.choose_file("loan,Loan date,venue\nL-8,2026-06-01,Quay\n")
        self.assertEqual(self.settings(self.loans).path, str(june))
        self.assertEqual(len(self.rows(self.loans)), 1)
        self.assertIn(str(june), self.session.margin.paths())
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.rows(self.loans)), 2)

    def test_what_differs_is_listed_and_what_is_called_alike_is_proposed(self):
        june = self.choose_file("loan,date of loan,place,n\n8,2026-06-01,Quay,1\n")
        self.assertEqual(self.settings(self.loans).path, str(self.folder / "may.csv"))
        self.assertEqual(
            self.lines(),
            [
                "read it so",
                "call date of loan Loan date",
                "read loan as text",
                "venue is gone",
                "new: place, n",
            ],
        )
        self.pick("read loan as text")
        self.pick("venue is gone")
        self.assertEqual(self.lines(), ["place", "n"])
        self.pick("place")
        self.assertIn("call place venue", self.lines())
        self.assertNotIn("venue is gone", self.lines())
        self.pick("read it so")
        self.rest()
        self.assertEqual(self.settings(self.loans).path, str(june))
        table = self.session.outcome(self.loans).result.rows
        self.assertEqual([field.name for field in table.fields], ["loan", "Loan date", "venue", "n"])
        # What was not ticked before another line was chosen is not ticked after.
        self.assertEqual(table.field("loan").type, FieldType.INTEGER)

    def test_a_type_from_before_is_kept_where_it_is_ticked(self):
        self.choose_file("loan,Loan date,venue\n8,2026-06-01,Quay\n")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.rows(self.loans)[0][0], "8")

    def test_what_was_typed_in_is_read_from_a_file_from_then_on(self):
        typed = TypedTable(("loan", "venue"), (("L-1", "Quay"),))
        editing.begin_typed_table(self.session)
        self.loans = self.session.selection.step
        self.session.change_settings(self.loans, SourceSettings("typed", typed=typed), "typed")
        self.rest()
        june = self.text_file("loan,where\nL-8,Quay\n", "june.csv")
        self.press(KEY.Key_F8, modifier=SHIFT)
        self.pick("another file …")
        self.enter_file(june)
        self.rest()
        self.assertEqual(self.lines(), ["read it so", "venue is gone", "new: where"])
        self.pick("read it so")
        self.rest()
        self.assertEqual(self.rows(self.loans), [("L-8", "Quay")])
        self.assertIn("june.csv", self.sentence)

    def test_keys_open_the_list(self):
        self.session.select(Selection(self.loans))
        self.rest()
        self.press(KEY.Key_F8, modifier=SHIFT)
        self.assertIn("another file …", self.lines())

    def test_what_is_not_ticked_is_not_done(self):
        self.choose_file("loan,date of loan,venue\nL-8,2026-06-01,Quay\n")
        self.pick("call date of loan Loan date")
        self.pick("read it so")
        self.rest()
        table = self.session.outcome(self.loans).result.rows
        self.assertEqual([field.name for field in table.fields], ["loan", "date of loan", "venue"])

    def test_escape_leaves_it_where_it_was(self):
        before = self.session.flow
        self.choose_file("other\n1\n")
        self.assertIn("read it so", self.lines())
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(self.session.flow, before)

    def test_what_cannot_be_read_is_said_and_changes_nothing(self):
        before = self.session.flow
        path = self.folder / "june.parquet"
        path.write_bytes(b"PAR1 cut off PAR1")
        self.choose_place("another file …")
        self.enter_file(path)
        self.rest()
        box = self.dialog(QMessageBox)
        self.assertIn("june.parquet", f"{box.text()} {box.informativeText()}")
        self.answer("OK")
        self.assertEqual(self.session.flow, before)

    def test_an_address_is_typed(self):
        self.text_file("loan,Loan date,venue\nL-8,2026-06-01,Quay\n", "log-06.csv")
        self.text_file("loan,Loan date,venue\nL-9,2026-07-01,Quay\n", "log-07.csv")
        self.choose_place("an address or a pattern of files …")
        self.enter(str(self.folder / "log-*.csv"))
        self.rest()
        if self.window.sentence.chooser is not None:
            self.pick("read it so")
            self.rest()
        self.assertEqual(len(self.rows(self.loans)), 2)


class Workbooks(SourcesCase):
    def book(self, name: str, **sheets: list[list]) -> Path:
        path = self.folder / name
        with xlsxwriter.Workbook(path) as book:
            for sheet, rows in sheets.items():
                page = book.add_worksheet(sheet)
                for number, values in enumerate(rows):
                    page.write_row(number, 0, values)
        return path

    def setUp(self):
        super().setUp()
        venues = [["venue", "town"], ["Quay", "Wick"], ["Pier", "Fenn"]]
        loans = [["loan", "venue"], ["L-1", "Quay"], ["L-2", "Pier"]]
        may = self.book("may.xlsx", Loans=loans, Venues=venues)
        self.june = self.book(
            "june.xlsx", Loans=[*loans, ["L-3", "Quay"]], Venues=[["venue", "city"], *venues[1:]]
        )
        self.july = self.book("july.xlsx", Register=loans[:2], Towns=venues)
        self.loans = self.begin(may, "Loans")
        self.venues = self.begin(may, "Venues")
        self.window.files.open_paths([self.june, self.july])
        self.rest()
        self.session.select(Selection(self.loans))
        self.click(self.chip(PLACE))

    def pick_table(self, path: Path, table: str):
        """Choose a table of the margin."""
        places = [choice.key for choice in self.chooser().choices]
        self.chooser().list.setCurrentRow(places.index((str(path), table)))
        self.press(KEY.Key_Return)
        self.rest()

    def test_others_of_the_same_file_come_with_it(self):
        self.pick_table(self.june, "Loans")
        self.assertEqual(
            self.lines(),
            [
                "read it so",
                "read Venues from it, too",
                "Venues: town is gone",
                "Venues: new: city",
            ],
        )
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual({s.path for s in self.session.sources().values()}, {str(self.june)})
        self.assertEqual(len(self.rows(self.loans)), 3)

    def test_or_stay(self):
        self.pick_table(self.june, "Loans")
        self.pick("read Venues from it, too")
        self.pick("read it so")
        self.rest()
        self.assertEqual(self.settings(self.loans).path, str(self.june))
        self.assertEqual(Path(self.settings(self.venues).path).name, "may.xlsx")

    def test_a_table_of_another_name_is_chosen(self):
        self.pick_table(self.july, "Register")
        self.assertEqual(self.settings(self.loans).table, "Register")
        self.assertEqual(Path(self.settings(self.venues).path).name, "may.xlsx")

    def test_a_file_without_the_table_asks_for_one(self):
        self.pick("another file …")
        self.enter_file(self.july)
        self.rest()
        self.assertEqual(self.lines(), ["Register", "Towns"])
        self.pick("Register")
        self.rest()
        self.assertEqual(len(self.rows(self.loans)), 1)
