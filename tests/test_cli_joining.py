"""Every option of `match` and `blend` on small files, and what they refuse."""

import csv
import json
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from click.testing import CliRunner

from keen_trellis.cli import main
from tests import demo_data

_LOANS = """loan,object,venue,out,value
L-1,lcm.1,Pier,2026-01-05,500
L-2,LCM 2,Pier,2026-07-09,1500
L-3,LCM.O3,Mill,2026-01-20,500
L-4,,Hall,2026-02-01,9000
"""
_OBJECTS = "accession,title,valued\nLCM.1,Urn,2020\nLCM.2,Bowl,2021\nLCM.1,Jug,2024\nLCM.03,Lamp,2019\n"
_RATES = "from,to,rate\n0,499,1.20\n500,999,1.40\n1000,4999,1.80\n"
_TRIPS = "place,cost\npier,10.00\nPIER,0.01\nmill,5.00\nquay,7.00\n"
_FIXES = "wrong,right\nLCM.O3,LCM.03\n"


class CommandCase(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        for name, content in (
            ("loans", _LOANS),
            ("objects", _OBJECTS),
            ("rates", _RATES),
            ("trips", _TRIPS),
            ("fixes", _FIXES),
        ):
            (self.folder / f"{name}.csv").write_text(content)

    def path(self, name):
        return f"{name.capitalize()}={self.folder / name}.csv"

    def run_command(self, *words):
        return CliRunner().invoke(main, [str(word) for word in words])

    def match(self, other, *words, left="loans"):
        result = self.run_command("match", self.path(left), self.path(other), *words, "--json")
        self.assertEqual(result.exit_code, 0, result.output)
        return json.loads(result.output)

    def refused(self, code, said, *words):
        result = self.run_command(*words)
        self.assertEqual(result.exit_code, code, result.output)
        self.assertIn(said, result.output)
        self.assertNotIn("Traceback", result.output)

    def written(self, *words):
        target = self.folder / "out.csv"
        result = self.run_command(*words, "--write", target, "--replace")
        self.assertEqual(result.exit_code, 0, result.output)
        with target.open(newline="") as file:
            return list(csv.DictReader(file))


class Matching(CommandCase):
    LINK = ("--link", "object=accession")

    def test_preparations_and_corrections(self):
        found = self.match("objects", *self.LINK)
        self.assertEqual((found["left_matched"], found["left_blank"]), (0, 1))
        found = self.match("objects", *self.LINK, "--ignore", "case,punctuation,inner-spaces")
        self.assertEqual((found["left_matched"], found["pairs"], found["matched_as_written"]), (2, 3, 0))
        fixed = self.match("objects", *self.LINK, "--correct", self.folder / "fixes.csv")
        self.assertEqual((fixed["left_matched"], fixed["pairs"]), (1, 1))

    def test_taking(self):
        words = (*self.LINK, "--ignore", "case")
        self.assertEqual(self.match("objects", *words)["pairs"], 2)
        rows = self.written(
            "match",
            self.path("loans"),
            self.path("objects"),
            *words,
            "--take",
            "greatest:valued",
            "--type",
            "inner",
        )
        self.assertEqual([row["title"] for row in rows], ["Jug"])
        found = self.match("objects", *words, "--take", "first", "--type", "full-outer")
        self.assertEqual((found["right_passed_over"], found["result_rows"]), (1, 7))
        self.refused(
            7,
            "must match one at most",
            "match",
            self.path("loans"),
            self.path("objects"),
            *words,
            "--take",
            "one",
        )

    def test_ranges_and_expressions(self):
        links = ("--link", "value >= from", "--link", "value<=to")
        found = self.match("rates", *links)
        self.assertEqual((found["left_matched"], found["pairs"], found["cardinality"]), (3, 3, "n:1"))
        found = self.match("rates", "--link", "EXTRACT(MONTH FROM out) * 500 = from", *links)
        self.assertEqual(found["pairs"], 2)
        any_one = self.match(
            "rates", "--link", "value = from", "--link", "value + 1 = rate * 1000 + 101", "--any"
        )
        self.assertEqual(any_one["pairs"], 3)

    def test_compare_as_and_blank_matches_blank(self):
        found = self.match("rates", "--link", "object=rate", "--compare-as", "number")
        self.assertEqual((found["left_not_converted"], found["left_blank"], found["pairs"]), (3, 1, 0))
        found = self.match("loans", "--link", "object=object", "--blank-matches-blank")
        self.assertEqual(found["pairs"], 4)

    def test_conditions_order_and_fields_and_the_same_as_a_flow(self):
        flow = self.folder / "work.trellis"
        words = ("match", self.path("loans"), self.path("objects"), *self.LINK, "--ignore", "case")
        shaped = (
            *("--where", "Loans: object IS NOT NULL", "--keep", "loan", "--side", "--type", "full-outer"),
            *("--sort", "loan desc", "--first", "2", "--save-flow", flow),
        )
        rows = self.written(*words, *shaped)
        self.assertEqual(len(rows), 2)
        self.assertEqual(next(iter(rows[0])), "loan")
        self.assertIn("side", rows[0])
        self.assertEqual([row["loan"] for row in rows], sorted((row["loan"] for row in rows), reverse=True))
        before = (self.folder / "out.csv").read_bytes()
        (self.folder / "out.csv").unlink()
        result = self.run_command("run", flow)
        self.assertEqual(result.exit_code, 0, result.output)
        self.assertEqual((self.folder / "out.csv").read_bytes(), before)
        self.refused(6, "exists already", *words, "--save-flow", flow)
        self.refused(6, "ends in .trellis", *words, "--save-flow", self.folder / "work.json")
        self.refused(2, "no field “lone”", *words, "--write", self.folder / "b.csv", "--sort", "lone")
        self.refused(2, "does not name its table", *words, "--where", "object = 'x'")
        self.refused(2, "--sort says how to write", *words, "--sort", "loan")
        self.refused(2, "no field “lone”", *words, "--keep", "lone")

    def test_how_it_is_written(self):
        words = ("match", self.path("loans"), self.path("objects"), *self.LINK, "--ignore", "case")
        target = self.folder / "out.csv"
        forms = [
            word for form in ("delimiter=;", "no_partner=none", "quotation=text") for word in ("--form", form)
        ]
        result = self.run_command(*words, "--write", target, *forms)
        self.assertEqual(result.exit_code, 0, result.output)
        lines = target.read_text().splitlines()
        self.assertTrue(lines[0].startswith('"loan";"object"'))
        self.assertTrue(any(line.endswith(";none;none") for line in lines))
        self.refused(
            2,
            "“sheet=Data” says nothing about delimited text",
            *words,
            "--write",
            target,
            "--form",
            "sheet=Data",
        )
        self.refused(2, "It has: ".lower(), *words, "--write", self.folder / "a.parquet", "--form", "blank=x")
        self.refused(2, "“harmless” is true or false", *words, "--write", target, "--form", "harmless=maybe")
        self.refused(2, "no encoding “utf-9”", *words, "--write", target, "--form", "encoding=utf-9")
        self.refused(2, "--form says how to write", *words, "--form", "blank=x")
        result = self.run_command(
            *words, "--write", self.folder / "by.tsv", "--form", "split_by=loan", "--json"
        )
        files = json.loads(result.output)["outputs"][0]["files"]
        self.assertGreater(len(files), 1)
        self.assertTrue(all(Path(file).exists() for file in files))

    def test_cross_bring_and_partner_found(self):
        self.assertEqual(self.match("rates", "--type", "cross")["result_rows"], 12)
        rows = self.written(
            "match",
            self.path("loans"),
            self.path("objects"),
            *self.LINK,
            "--ignore",
            "case",
            "--take",
            "first",
            "--bring",
            "title",
            "--partner-found",
        )
        self.assertEqual(list(rows[0]), ["loan", "object", "venue", "out", "value", "title", "partner found"])
        self.assertEqual([row["partner found"] for row in rows], ["true", "false", "false", "false"])

    def test_alike_near_and_the_best_of_them(self):
        (self.folder / "one.csv").write_text("who,year\nAda Olm,1901\nBen Far,1915\nNobody,1990\n")
        (self.folder / "two.csv").write_text("name,born\nOlm Ada,1870\nBen Farr,1880\nBen Fare,1914\n")
        words = ("match", self.path("one"), self.path("two"), "--link", "who=name")
        rows = self.written(*words, "--like", "85", "--type", "inner")
        self.assertEqual(
            [(row["who"], row["born"]) for row in rows],
            [("Ada Olm", "1870"), ("Ben Far", "1880"), ("Ben Far", "1914")],
        )
        years = (*words[:3], "--link", "year=born", "--type", "inner")
        self.assertEqual(
            [(row["year"], row["born"]) for row in self.written(*years, "--near", "any", "--best")],
            [("1901", "1914"), ("1915", "1914"), ("1990", "1914")],
        )
        self.assertEqual([row["year"] for row in self.written(*years, "--near", "1")], ["1915"])
        found = self.run_command("explain", *words[1:], "--like", "99", "--json")
        self.assertIn('"reasons"', found.stdout)
        for said, wrong in (
            ("which of those", ("--best",)),
            ("of texts or of numbers", ("--like", "85", "--near", "1")),
            ("“much” is not from 1 to 100", ("--like", "much")),
            ("from 1 to 100", ("--like", "0")),
            ("from 1 to 100", ("--like", "nan")),
            ("no distance", ("--near", "1")),
            ("no distance", ("--near", "any", "--best")),
        ):
            with self.subTest(said):
                self.refused(2, said, *words, *wrong)

    def test_what_is_refused(self):
        words = ("match", self.path("loans"), self.path("objects"))
        self.refused(2, "no field “objct”", *words, "--link", "objct=accession")
        self.refused(7, "never be equal", *words, "--link", "value=title")
        self.refused(2, "cannot be read", *words, "--link", "UPPER(object=accession")
        self.refused(2, "not a way to take", *words, *self.LINK, "--take", "latest")
        self.refused(2, "Nothing compares as", *words, *self.LINK, "--compare-as", "colour")
        self.refused(2, "neither more nor less", *words, "--link", "value<valued", "--blank-matches-blank")
        self.refused(7, "does not fit", *words, "--link", "value * 9223372036854775807 = valued")
        many = "\n".join(["k", *map(str, range(8_000))])
        (self.folder / "many.csv").write_text(many)
        large = ("match", self.path("many"), self.path("many"), "--type", "cross")
        self.refused(7, "would have 64,000,000 rows; the limit is 50,000,000", *large)
        unequal = ("--link", "k <> k", "--type", "left-anti")
        found = self.match("many", *unequal, left="many")
        self.assertEqual((found["pairs"], found["result_rows"]), (8_000 * 7_999, 0))
        self.refused(7, "63,992,000", *large[:3], *unequal[:2])
        self.refused(4, "has two columns", *words, *self.LINK, "--correct", self.folder / "rates.csv")
        self.refused(2, "Say with --link", *words)


class Explaining(CommandCase):
    def test_reasons_in_words_and_as_json(self):
        words = ("explain", self.path("loans"), self.path("objects"), "--link", "object=accession")
        text = self.run_command(*words).output
        self.assertIn("1 loan, 1 value: the same apart from case.", text)
        self.assertIn("“lcm.1” as “LCM.1”", text)
        self.assertIn("Mend: ignore case, gains 1 row.", text)
        found = json.loads(self.run_command(*words, "--json").output)["reasons"]
        kinds = {entry["kind"] for entry in found if entry["side"] == "left"}
        self.assertEqual(kinds, {"written-differently", "look-alike", "blank"})
        other = self.run_command(
            "explain", self.path("loans"), self.path("objects"), "--link", "value=accession", "--json"
        )
        self.assertEqual(json.loads(other.output)["reasons"][0]["kind"], "other-type")

    def test_links_are_proposed_with_their_evidence(self):
        data = demo_data.folder()
        words = f"Loans={data / 'loans-2026.xlsx'}#Loans", f"Objects={data / 'registry.sqlite'}#objects"
        (first, *_) = json.loads(self.run_command("propose", *words, "--json").output)["proposals"]
        link = {
            "left": "Object no",
            "operator": "=",
            "right": "accession",
            "ignore": ["case", "outer-spaces"],
        }
        self.assertEqual(first["links"], [link])
        self.assertGreater(first["left_found"], 0.99)
        self.assertLess(first["right_unique"], 1)
        self.assertIn("are in accession of Objects", first["evidence"])
        self.assertIn("Object no = accession: 99.", self.run_command("propose", *words).output)
        nothing = self.run_command("propose", self.path("rates"), self.path("trips"))
        self.assertIn("No field of Rates", nothing.output)

    def test_the_demos_troubles_are_found_with_their_counts(self):
        data, planted = demo_data.folder(), demo_data.scenario().planted
        sides = f"Loans={data / 'loans-2026.xlsx'}#Loans", f"Objects={data / 'registry.sqlite'}#objects"
        words = ("explain", *sides, "--link", "Object no=accession", "--json")
        found = json.loads(self.run_command(*words).output)["reasons"]
        of_left = [entry for entry in found if entry["side"] == "left"]
        easy = sum(
            entry["rows"]
            for entry in of_left
            if entry["said"].endswith(("apart from case", "apart from outer spaces"))
        )
        self.assertEqual(easy, len(planted.only_after_case_and_outer_spaces))
        (blank,) = (entry["rows"] for entry in of_left if entry["kind"] == "blank")
        self.assertEqual(blank, 5)


class Blending(CommandCase):
    def blend(self, *words):
        return (
            "blend",
            self.path("loans"),
            self.path("trips"),
            "--link",
            "Trips: venue = place",
            "--ignore",
            "case",
            *words,
        )

    def test_measures_stand_on_the_rows(self):
        rows = self.written(*self.blend("--measure", "Trips: sum(cost) as total", "--measure", "count(*)"))
        self.assertEqual([row["total"] for row in rows], ["10.01", "10.01", "5.00", ""])
        self.assertEqual([row["count of rows"] for row in rows], ["2", "2", "1", "0"])

    def test_where_spread_keep_and_counts(self):
        words = ("--measure", "sum(cost) as total", "--where", "Trips: cost > 1")
        rows = self.written(*self.blend(*words, "--spread", "total by value"))
        self.assertEqual([row["total"] for row in rows], ["2.50", "7.50", "5.00", ""])
        rows = self.written(*self.blend(*words, "--spread", "total on first"))
        self.assertEqual([row["total"] for row in rows], ["10.00", "", "5.00", ""])
        result = self.run_command(*self.blend(*words, "--keep", "all-groups", "--json"))
        found = json.loads(result.output)
        self.assertEqual((found["result_rows"], found["fields"]), (4, ["venue", "total"]))
        other = found["others"][0]
        self.assertEqual((other["groups"], other["groups_used"], other["rows_left_out"]), (3, 3, 1))
        text = self.run_command(*self.blend(*words)).output
        self.assertIn("Trips: 3 groups, 2 of them used, on 3 of 4 loans.", text)

    def test_the_main_table_is_filtered_on_its_own_rail(self):
        words = ("--measure", "sum(cost) as total", "--where", "Loans: value > 500", "--where", "cost > 1")
        rows = self.written(*self.blend(*words))
        self.assertEqual([(row["loan"], row["total"]) for row in rows], [("L-2", "10.00"), ("L-4", "")])
        self.refused(
            2, "no field “vale”", *self.blend("--where", "Loans: vale > 500", "--measure", "count(*)")
        )

    def test_a_table_of_which_nothing_is_measured_is_named(self):
        result = self.run_command(*self.blend())
        self.assertIn("Nothing is measured of Trips", result.stderr)
        self.assertEqual(result.exit_code, 0)
        self.assertIn("OTHER...", self.run_command("blend", "--help").output)

    def test_what_is_refused(self):
        for code, said, *words in (
            (2, "is not a measure", "--measure", "add(cost)"),
            (2, "no field “price”", "--measure", "sum(price)"),
            (7, "sum needs numbers", "--measure", "sum(place)"),
            (2, "no measure “totl”", "--measure", "sum(cost) as total", "--spread", "totl"),
            (6, "no way to keep rows", "--measure", "sum(cost)", "--keep", "some"),
            (2, "not a condition", "--measure", "sum(cost)", "--where", "cost"),
        ):
            self.refused(code, said, *self.blend(*words))
        self.refused(
            2,
            "gets its share back",
            *self.blend("--measure", "Loans: sum(value)", "--spread", "sum of value"),
        )
        two = ("blend", self.path("loans"), self.path("trips"), self.path("rates"), "--link", "venue=place")
        self.refused(2, "does not name its table", *two)


class Guards(CommandCase):
    LINK = ("--link", "object=accession", "--ignore", "case,punctuation,inner-spaces")

    def test_guards_of_a_match_hold_or_end_it_with_3_and_write_nothing(self):
        found = self.match("objects", *self.LINK, "--guard", "left-unmatched<=50%", "--guard", "rows=1..")
        self.assertEqual([entry["holds"] for entry in found["guards"]], [True, True])
        target = self.folder / "out.csv"
        words = ("match", self.path("loans"), self.path("objects"), *self.LINK, "--guard", "all-left-match")
        result = self.run_command(*words, "--write", target)
        self.assertEqual(result.exit_code, 3)
        self.assertIn("all loans have a partner", result.output)
        self.assertFalse(target.exists())
        result = self.run_command(*words, "--json")
        self.assertEqual(result.exit_code, 3)
        (entry,) = json.loads(result.stdout)["guards"]
        self.assertEqual((entry["holds"], entry["side"], entry["rows"]), (False, "left", 2))

    def test_what_is_no_guard_is_refused(self):
        words = ("match", self.path("loans"), self.path("objects"), *self.LINK)
        self.refused(2, "is not a guard", *words, "--guard", "everything fine")

    def test_a_flow_is_run_behind_its_guards(self):
        folder = demo_data.copy(self.folder / "demo")
        flow = folder / "Winter loans.trellis"
        members = json.loads(flow.read_text())
        knot = next(step for step in members["steps"] if step["kind"] == "join")
        knot["settings"]["guards"] = ["left-unmatched<=49", "right-key-unique"]
        flow.write_text(json.dumps(members))
        result = self.run_command("run", flow, "--leave-flow")
        self.assertEqual(result.exit_code, 3, result.output)
        self.assertIn("2 values repeat, in 4 rows", result.output)
        self.assertIn("Not written", result.output)
        self.assertFalse((folder / "Loan report.xlsx").exists())
        result = self.run_command("run", flow, "--leave-flow", "--despite-guards", "--json")
        self.assertEqual(result.exit_code, 3, result.output)
        self.assertTrue((folder / "Loan report.xlsx").exists())
        holds = [entry["holds"] for entry in json.loads(result.stdout)["guards"]]
        self.assertEqual(holds, [True, False])
        knot["settings"]["guards"] = ["left-unmatched<=49"]
        flow.write_text(json.dumps(members))
        words = ("run", flow, "--leave-flow", "--replace")
        self.assertEqual(self.run_command(*words, "--guard", "rows=8000..9000").exit_code, 0)
        self.refused(3, "one row is one Loan no", *words, "--guard", "one-row-per:Loan no")


if __name__ == "__main__":
    unittest.main()
