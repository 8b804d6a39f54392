"""The match report: what it tells, in each form; what it leaves out; and the answers that come back."""

import hashlib
import json
import os
import zipfile
from html.parser import HTMLParser
from unittest import mock

import openpyxl
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from keen_trellis.flow.file_format import load
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.outputs.report.charts import Drawn
from keen_trellis.outputs.report.page import page
from keen_trellis.session.reporting import Wanted, told
from keen_trellis.sources.library import Library
from tests.test_cli_flows import output, step, text
from tests.test_cli_runs import LINK, RunsCase

MARKUP = '<script>alert("1")</script>'


class Read(HTMLParser):
    """What a page says and has: its text, its tags, and everything that it would load."""

    def __init__(self, page):
        super().__init__()
        self.tags, self.loaded, self.texts, self.pictures = set(), [], [], []
        self.feed(page)

    def handle_starttag(self, tag, attrs):
        self.tags.add(tag)
        self.pictures += [value for name, value in attrs if name == "alt"]
        self.loaded += [value for name, value in attrs if name in ("src", "href", "onload", "onclick")]

    def handle_data(self, data):
        if self.lasttag not in ("style", "title"):
            self.texts.append(data.strip())

    @property
    def text(self):
        return " ".join(filter(None, self.texts))


class ReportCase(RunsCase):
    def setUp(self):
        super().setUp()
        self.page = self.folder / "report.html"
        self.book = self.folder / "report.xlsx"

    def report(self, *words, code=0):
        return self.call("report", self.path, "--replace", *words, code=code)

    def analysis(self, *words):
        return json.loads(self.report("--json", *words).stdout)

    def read(self, *words):
        self.report("--html", self.page, *words)
        return Read(self.page.read_text())

    def sheet(self, name):
        rows = openpyxl.load_workbook(self.book)[name].iter_rows(values_only=True)
        names = next(rows)
        return [dict(zip(names, row, strict=True)) for row in rows]


class Told(ReportCase):
    def test_it_tells_on_which_files_the_flow_ran(self):
        (loans, _) = self.analysis()["sources"]
        content = (self.folder / "loans.csv").read_bytes()
        (file,) = loans["files"]
        self.assertEqual((file["path"], file["bytes"]), ("loans.csv", len(content)))
        self.assertEqual(file["sha256"], hashlib.sha256(content).hexdigest())
        self.assertEqual((loans["rows"], loans["fields"]), (4, 2))

    def test_a_join_is_told_with_its_counts_reasons_and_what_others_would_give(self):
        (join,) = self.analysis()["joins"]
        counts = join["counts"]
        self.assertEqual((counts["left_rows"], counts["left_matched"], counts["right_unmatched"]), (4, 1, 2))
        kinds = {reason["kind"]: reason for reason in join["reasons"] if reason["side"] == "left"}
        self.assertEqual(set(kinds), {"blank", "written-differently", "absent"})
        self.assertEqual(
            kinds["written-differently"]["examples"], [{"value": "tower", "rows": 1, "other": "Tower"}]
        )
        self.assertEqual(kinds["written-differently"]["mends"][0]["gain"], 1)
        places = kinds["absent"]["without_partner"]
        self.assertEqual((places["places"], places["cells"]), (["loans.csv, row 4"], [["Hall", "L-3"]]))
        rows = {line["type"]: line["rows"] for line in join["types"]}
        self.assertEqual((rows["inner join"], rows["left anti join"], rows["full outer join"]), (1, 3, 6))
        self.assertEqual([line["type"] for line in join["types"] if line["chosen"]], ["left outer join"])

    def test_what_matched_only_after_mending_is_told_by_mend(self):
        self.steps[2]["settings"]["links"] = ({"left": "venue", "right": "venue", "ignore": ["case"]},)
        self.path = self.flow(*self.steps)
        (mended,) = self.analysis()["joins"][0]["mended"]
        self.assertEqual(mended, {"said": "ignoring case", "pairs": 1, "examples": [["tower", "Tower"]]})

    def test_accepted_values_are_told_with_their_note(self):
        self.steps[2]["settings"]["accepted"] = (
            {"side": "left", "values": ["Hall"], "note": "closed in May"},
        )
        self.path = self.flow(*self.steps)
        self.assertIn("closed in May", self.read().text)

    def test_gaps_fields_and_guards_are_told(self):
        self.guarded("left-unmatched<=2", "rows=1..9")
        found = self.analysis()
        self.assertEqual([guard["holds"] for guard in found["guards"]], [False, True])
        (output,) = found["outputs"]
        self.assertTrue(output["held_back"])
        self.assertEqual([(gap["field"], gap["cells"]) for gap in found["gaps"]], [("town", 3)])
        fields = {field["name"]: field for field in output["fields"]}
        self.assertEqual(fields["town"]["origins"], ["Venues: town"])
        self.assertEqual((fields["loan"]["minimum"], fields["loan"]["maximum"]), ("L-1", "L-4"))
        self.assertEqual((fields["venue"]["blanks"], fields["town"]["absent"]), (1, 3))

    def test_totals_say_why_they_differ(self):
        self.write("loans.csv", "loan,venue,fee\nL-1,Pier,1.50\nL-2,tower,2.25\nL-3,Hall,4.00\n")
        self.write("venues.csv", "venue,town\nPier,Wick\nPier,Sand\nQuay,Wick\n")
        self.steps[2]["settings"]["type"] = "inner"
        self.path = self.flow(*self.steps)
        (total,) = self.analysis()["outputs"][0]["totals"]
        self.assertEqual(
            (total["source_total"], total["total"], total["difference"]), ("7.75", "3.00", "-4.75")
        )
        self.assertEqual((total["missing_rows"], total["missing_total"]), (2, "6.25"))
        self.assertEqual((total["again_rows"], total["again_total"]), (1, "1.50"))

    def test_a_report_after_a_run_compares_with_the_run_before_it(self):
        self.run_flow()
        first = self.noted()[0].taken
        self.write("loans.csv", "loan,venue\nL-1,Pier\n")
        self.run_flow()
        found = self.analysis()
        self.assertEqual(found["since"], first)
        self.assertTrue(
            any("4 rows of Loans before" in line or "3 gone" in line for line in found["changes"])
        )
        self.assertEqual(len(found["runs"]), 2)
        page = self.read()
        self.assertIn("How it moved over 2 runs", page.text)
        self.assertIn("Share of rows that found a partner: Joined from 25.0 % to 100 %", page.pictures)

    def test_one_step_is_told_with_what_is_before_it(self):
        self.steps.append(output("loans", "more.csv"))
        self.path = self.flow(*self.steps)
        found = self.analysis("--step", "Joined")
        self.assertEqual((found["about"], found["outputs"]), ("Joined", []))
        self.assertEqual([entry["step"] for entry in found["steps"]], ["loans", "venues", "joined"])
        said = self.report("--step", "nothing", code=2).stderr
        self.assertIn("No step is called “nothing”.", said)

    def test_a_blend_is_told_from_rows_to_groups(self):
        self.write("visits.csv", "venue,came\nPier,3\nPier,4\nQuay,5\n")
        self.write("loans.csv", "loan,venue\nL-1,Pier\nL-2,Pier\nL-3,Hall\n")
        other = {"links": LINK, "measures": [{"name": "came in all", "function": "sum", "of": "came"}]}
        steps = [
            text("loans"),
            text("visits"),
            step("blended", "blend", ["loans", "visits"], others=[other]),
            output("blended"),
        ]
        self.path = self.flow(*steps)
        (blend,) = self.analysis()["blends"]
        self.assertEqual((blend["rows"], blend["found_nothing"]), (3, 1))
        (told,) = blend["others"]
        self.assertEqual(
            (told["rows"], told["groups"], told["groups_used"], told["rows_found"]), (3, 2, 1, 2)
        )
        self.assertEqual((told["times"], told["overcounted"]), (2.0, ["came in all"]))


class Written(ReportCase):
    def test_a_page_needs_nothing_and_runs_nothing(self):
        self.write("loans.csv", f"loan,venue\nL-1,Pier\n{MARKUP.replace(',', ';')},Hall\n".replace('"', "'"))
        found = self.read()
        self.assertNotIn("script", found.tags)
        self.assertIn("<script>alert('1')</script>", found.text)
        self.assertTrue(found.loaded)
        self.assertTrue(all(value.startswith(("data:image/", "#")) for value in found.loaded), found.loaded)

    def test_the_same_flow_and_files_give_the_same_bytes(self):
        made = []
        for name in ("one", "two"):
            folder = self.folder / name
            folder.mkdir()
            paths = [folder / f"report.{form}" for form in ("html", "pdf", "xlsx")]
            words = [word for path in paths for word in (f"--{path.suffix[1:]}", path)]
            with mock.patch.dict(os.environ, {"SOURCE_DATE_EPOCH": "1780000000"}):
                self.report(*words)
            made.append([path.read_bytes() for path in paths])
        self.assertEqual(made[0], made[1])
        self.assertIn(b"2026-05-28 20:26 UTC", made[0][0])
        self.assertEqual(made[0][1][:5], b"%PDF-")

    def test_a_workbook_has_all_rows_with_their_places(self):
        rows = "".join(f"L-{number},none {number}\n" for number in range(1, 91))
        self.write("loans.csv", f"loan,venue\n{rows}")
        self.report("--xlsx", self.book, "--rows", "5")
        found = self.sheet("Loans nothing-alike")
        self.assertEqual(len(found), 90)
        self.assertEqual(found[89]["loan"], "L-90")
        self.assertEqual((found[0]["file"], found[0]["row"], found[0]["answer"]), ("loans.csv", 2, None))
        text = self.read("--rows", "5").text
        self.assertIn("and 85 more", text)
        self.assertNotIn("none 6 ", text)

    def test_it_is_written_with_a_run_even_where_guards_are_broken(self):
        self.guarded("left-unmatched<=2")
        said = self.run_flow("--report", self.page, code=3).stdout
        self.assertIn("Wrote the report to", said)
        self.assertIn("1 of 1 guards does not hold", Read(self.page.read_text()).text)
        self.assertFalse((self.folder / "out.csv").exists())

    def test_what_is_there_and_what_is_read_stays(self):
        loans = (self.folder / "loans.csv").read_bytes()
        said = self.report("--html", self.folder / "loans.csv", code=2).stderr
        self.assertIn("End its name in .html", said)
        self.path.with_suffix(".html").write_text("mine")
        said = self.call("report", self.path, "--html", self.path.with_suffix(".html"), code=5).stderr
        self.assertIn("exists already", said)
        self.assertEqual((self.folder / "loans.csv").read_bytes(), loans)
        self.assertEqual(self.path.with_suffix(".html").read_text(), "mine")

    @settings(max_examples=4, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(
        st.lists(st.text(st.characters(codec="utf-8", exclude_characters='",\r\n\0'), max_size=8), max_size=5)
    )
    def test_any_text_of_data_is_text(self, values):
        self.write("loans.csv", "loan,venue\n" + "".join(f"{value},x{value}\n" for value in values))
        analysis = told(load(self.path, KINDS), self.path, Runner(KINDS, Library()), Library(), Wanted())
        found = Read(page(analysis.analysis, None, Drawn(), 40))
        self.assertLessEqual(found.tags, TAGS)


TAGS = {
    *("html", "head", "meta", "title", "style", "body", "p", "h1", "h2", "h3", "ul", "li", "b", "i", "br"),
    *("span", "table", "thead", "tbody", "tr", "th", "td", "img"),
}


ONLY_2 = {"of": "who", "is": "one-of", "values": ["L-2"]}


class LeftOut(ReportCase):
    def told(self, *words):
        """Everything that a report says in all three forms."""
        told = self.report("--html", self.page, "--xlsx", self.book, "--json", *words).stdout
        with zipfile.ZipFile(self.book) as book:
            sheets = b"".join(book.read(name) for name in book.namelist()).decode()
        return self.page.read_text() + sheets + told

    def test_values_of_a_field_that_is_named_are_nowhere(self):
        self.assertIn("L-3", self.told())
        said = self.told("--without", "loan")
        for value in ("L-1", "L-2", "L-3", "L-4"):
            self.assertNotIn(value, said)
        self.assertIn("Hall", said)

    def test_a_field_that_is_linked_with_it_is_left_out_too(self):
        self.steps[2]["settings"]["links"] = ({"left": "venue", "right": "place"},)
        self.write("venues.csv", "place,town\nPier,Wick\nTower,Wick\nQuay,Sand\n")
        self.path = self.flow(*self.steps)
        said = self.told("--without", "venue")
        for value in ("Hall", "Tower", "tower", "Quay", "Pier"):
            self.assertNotIn(value, said)
        self.assertIn("Wick", said)
        self.assertEqual(self.analysis("--without", "venue")["withheld"], ["venue", "place"])

    def test_what_is_computed_from_it_or_renamed_is_left_out(self):
        self.steps[3:] = [
            step("named", "choose", ["joined"], fields=[{"of": "loan", "name": "who"}], others=True),
            step("made", "compute", ["named"], field="both", expression="who || '!'"),
            {**step("few", "filter", ["made"], conditions=[ONLY_2]), "name": "who is L-2"},
            output("few"),
        ]
        self.path = self.flow(*self.steps)
        self.assertIn("L-2!", self.told())
        self.assertNotIn("L-2", self.told("--without", "loan"))
        self.assertIn("a filter step", self.read("--without", "loan", "--step", "few").text)

    def test_the_flow_and_a_guard_mark_fields(self):
        members = json.loads(self.path.read_text())
        self.path.write_text(json.dumps({**members, "confidential": ["loan"]}))
        self.assertNotIn("L-3", self.told())
        self.run_flow()
        self.assertEqual(json.loads(self.path.read_text())["confidential"], ["loan"])
        self.guarded("confidential:town")
        said = self.told()
        self.assertNotIn("Wick", said)
        self.assertIn("town is confidential: neither here nor in reports", said)
        (guard,) = self.analysis()["guards"]
        self.assertFalse(guard["holds"])

    def test_a_name_that_is_no_field_is_refused(self):
        said = self.report("--without", "lone", code=2).stderr
        self.assertIn("“lone” is to be left out of reports, and no step has such a field.", said)
        members = json.loads(self.path.read_text())
        self.path.write_text(json.dumps({**members, "confidential": "loan"}))
        self.assertIn("“confidential” is no list of names of fields.", self.report(code=6).stderr)


class Answers(ReportCase):
    def answered(self, sheet, answers):
        """Write answers into their column, by the value that they are about, and hand the file back."""
        self.report("--xlsx", self.book)
        book = openpyxl.load_workbook(self.book)
        names = [cell.value for cell in book[sheet][1]]
        for row in book[sheet].iter_rows(min_row=2):
            said = answers.get(row[names.index("read")].value)
            if said is not None:
                row[names.index("answer")].value = said
        back = self.folder / "back.xlsx"
        book.save(back)
        return back

    def settings_now(self):
        members = json.loads(self.path.read_text())
        return next(entry for entry in members["steps"] if entry["id"] == "joined")["settings"]

    def test_yes_no_a_value_and_absent(self):
        back = self.answered("Loans written-differently", {"tower": "yes"})
        self.assertIn("1 value is corrected", self.call("answer", self.path, back).stdout)
        self.assertEqual(self.settings_now()["links"][0]["correct"], [["tower", "Tower"]])
        back = self.answered("Loans absent", {"Hall": "absent"})
        self.call("answer", self.path, back, "--note", "sold")
        (accepted,) = self.settings_now()["accepted"]
        self.assertEqual(accepted, {"side": "left", "values": ["Hall"], "note": "sold"})
        self.assertIn("no answer that is new", self.call("answer", self.path, back).stdout)

    def test_a_value_that_is_written_is_what_is_meant(self):
        back = self.answered("Loans absent", {"Hall": "Quay"})
        found = json.loads(self.call("answer", self.path, back, "--json").stdout)
        self.assertEqual((found["corrected"], found["absent"]), (1, 0))
        self.assertEqual(self.analysis()["joins"][0]["counts"]["left_matched"], 2)

    def test_no_keeps_a_pair_from_being_offered_again(self):
        back = self.answered("Loans written-differently", {"tower": "no"})
        self.call("answer", self.path, back)
        self.assertEqual(self.settings_now()["rejected"], [["tower", "Tower"]])

    def test_what_fits_nothing_changes_nothing(self):
        before = self.path.read_bytes()
        back = self.answered("Loans absent", {"Hall": "yes"})
        said = self.call("answer", self.path, back, code=4).stderr
        self.assertIn("Loans absent, row 2", said)
        self.assertIn("no value that “Hall” may mean", said)
        said = self.call("answer", self.path, self.folder / "venues.csv", code=4).stderr
        self.assertIn("No sheet of it has the columns", said)
        self.assertEqual(self.path.read_bytes(), before)

    def test_two_answers_to_one_value_are_refused(self):
        self.write("loans.csv", "loan,venue\nL-1,Hall\nL-2,Hall\n")
        self.report("--xlsx", self.book)
        book = openpyxl.load_workbook(self.book)
        sheet = book["Loans absent"]
        sheet["C2"], sheet["C3"] = "absent", "Pier"
        book.save(self.folder / "back.xlsx")
        said = self.call("answer", self.path, self.folder / "back.xlsx", code=4).stderr
        self.assertIn("Give one value one answer.", said)
