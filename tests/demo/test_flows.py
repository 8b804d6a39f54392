"""Each demo flow as it is saved and run: its counts are those that the scenario holds."""

import csv
import shutil
import tempfile
import unittest
from collections import Counter, defaultdict
from decimal import Decimal
from itertools import pairwise
from pathlib import Path

import openpyxl
from click.testing import CliRunner

from keen_trellis.cli import main
from keen_trellis.core.task import Task
from keen_trellis.demo.files import REGIONS_FILE
from keen_trellis.demo.flows import FLOWS
from keen_trellis.demo.season_report import SEASON_REPORT
from keen_trellis.flow.file_format import load
from keen_trellis.flow.reconciling import DIFFERS, IN_BOTH, STANDS, only_in
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.running import run_flow
from keen_trellis.sources.library import Library
from tests import demo_data
from tests.outputs.reports import parts_of
from tests.tables import rows_of

_LIBRARY = Library()


def dicts(table) -> list[dict]:
    return [dict(zip(table.names, row, strict=True)) for row in rows_of(table)]


def cost_of(trip) -> Decimal:
    """What a trip cost; two of the files write it with a sign of currency."""
    cost = "".join(sign for sign in str(trip[3]) if sign.isdigit() or sign in ".,")
    return Decimal(cost.replace(",", ""))


class DemoFlows(unittest.TestCase):
    def setUp(self):
        self.scenario = demo_data.scenario()
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def run_of(self, name: str):
        """What a saved flow comes to, and the rows of its output."""
        flow = load(demo_data.folder() / f"{name}.trellis", KINDS)
        outcome = run_flow(flow, KINDS, _LIBRARY, folder=self.folder)
        output = next(step for step in flow.steps if step.kind == "output")
        return outcome, dicts(Runner(KINDS, _LIBRARY).result(flow, output.id, Task()).rows)

    def test_all_are_there(self):
        self.assertEqual({path.name for path in demo_data.folder().glob("*.trellis")}, set(FLOWS))

    def test_winter_loans(self):
        outcome, rows = self.run_of("Winter loans")
        scenario, planted = self.scenario, self.scenario.planted
        self.assertEqual([knot.counts.pairs for knot in outcome.knots[:1]], [8306])
        visitors = {(venue, str(month)[:7]): count for venue, month, count in scenario.visitors}
        out_of = {loan[0]: (loan[2], str(loan[3])[:7]) for loan in scenario.loans}
        self.assertEqual(
            {row["Loan no"]: row["month"] for row in rows}, {no: key[1] for no, key in out_of.items()}
        )
        self.assertEqual(
            {row["Loan no"]: row["sum of Visitors"] for row in rows},
            {no: visitors.get(key) for no, key in out_of.items()},
        )
        unknown = [row["Loan no"] for row in rows if row["keeper"] == "not in the registry"]
        absent = 49
        self.assertEqual(len(unknown), absent)
        self.assertLessEqual(set(planted.never_registered), set(unknown))

    def test_season_report(self):
        shutil.copy(demo_data.folder() / SEASON_REPORT, self.folder)
        before = parts_of(self.folder / SEASON_REPORT)
        flow = load(demo_data.folder() / "Season report.trellis", KINDS)
        run_flow(flow, KINDS, _LIBRARY, folder=self.folder, replace=True)
        book = openpyxl.load_workbook(self.folder / SEASON_REPORT)
        counts = Counter(str(loan[3])[:7] for loan in self.scenario.loans)
        rows = {row[0].value: row[1].value for row in book["Months"]["B5:C30"] if row[0].value}
        self.assertGreater(len(counts), 3)
        self.assertEqual(rows, {**counts, "Total": "=SUBTOTAL(109,Months[loans])"})
        last = 4 + len(counts)
        self.assertEqual(book["Months"].tables["Months"].ref, f"B4:E{last + 1}")
        self.assertEqual(book["Months"]["G4"].value, "Checked by K. Nance")
        series = book["Report"]._charts[0].series[0]
        self.assertEqual(series.val.numRef.f, f"Months!$D$5:$D${last}")
        self.assertEqual(book["Report"]["B4"].value, f"=SUM(Months!D5:D{last})")
        now = parts_of(self.folder / SEASON_REPORT)
        self.assertEqual(
            {part for part in now if now[part] != before.get(part)},
            {
                *("xl/charts/chart1.xml", "xl/tables/table1.xml", "xl/workbook.xml"),
                *("xl/worksheets/sheet1.xml", "xl/worksheets/sheet2.xml"),
            },
        )

    def test_cost_per_visitor(self):
        _, rows = self.run_of("Cost per visitor")
        north = {venue[0]: venue[1] for venue in self.scenario.venues if venue[2] == "North"}
        lent = [loan for loan in self.scenario.loans if loan[2] in north]
        self.assertEqual({row["Loan no"] for row in rows}, {loan[0] for loan in lent})
        self.assertTrue(all(row["Region"] == "North" for row in rows))
        # Spread over the loans of a group, the costs add up to what those trips cost.
        months = {(north[loan[2]], str(loan[3])[:7]) for loan in lent}
        trips = [trip for month in self.scenario.courier_logs.values() for trip in month]
        paid = sum(cost_of(trip) for trip in trips if (trip[0], str(trip[1])[:7]) in months)
        self.assertEqual(sum(row["sum of cost"] for row in rows if row["sum of cost"] is not None), paid)

    def test_sets(self):
        outcome, rows = self.run_of("Sets")
        parts = [row for row in self.scenario.objects if row[4]]
        self.assertEqual(len(parts), self.scenario.planted.parts_of_sets)
        self.assertEqual(outcome.knots[0].counts.left_matched, len(parts))
        self.assertEqual(outcome.knots[0].name, "Parts with Sets")
        self.assertEqual({row["part_of"]: row["parts"] for row in rows}, Counter(row[4] for row in parts))
        titles = {row[1]: row[2] for row in self.scenario.objects}
        self.assertEqual(
            {row["part_of"]: row["set"] for row in rows}, {row[4]: titles[row[4]] for row in parts}
        )
        self.assertEqual([row["parts"] for row in rows], sorted((row["parts"] for row in rows), reverse=True))
        self.assertTrue(all(entry.holds for entry in outcome.guards))

    def test_cover(self):
        _, rows = self.run_of("Cover")
        expected = Counter()
        for loan in self.scenario.loans:
            found = [
                rate
                for rate in self.scenario.cover_rates
                if rate[0] <= loan[6] <= rate[1] and str(rate[2]) <= str(loan[3]) <= str(rate[3])
            ]
            premiums = [Decimal(loan[6]) * Decimal(str(rate[4])) / 1000 for rate in found]
            expected[loan[0]] = sorted(round(premium, 6) for premium in premiums) or [None]
        made = defaultdict(list)
        for row in rows:
            premium = row["premium"]
            made[row["Loan no"]].append(None if premium is None else round(Decimal(str(premium)), 6))
        self.assertEqual({name: sorted(found) for name, found in made.items()}, dict(expected))
        self.assertGreater(len(rows), len(self.scenario.loans))  # where two rates overlap

    def test_all_couriers(self):
        outcome, rows = self.run_of("All couriers")
        expected = defaultdict(lambda: [0, 0, Decimal(0)])
        trips = [trip for month in self.scenario.courier_logs.values() for trip in month]
        trips += [("Pier", "2026-03-04", 2, "61.50"), ("Ebbrick", "2026-11-19", 1, "38.00")]
        for trip in trips:
            group = expected[trip[0], int(str(trip[1])[5:7])]
            group[0] += 1
            group[1] += int(trip[2])
            group[2] += cost_of(trip)
        made = {(r["venue"], r["month"]): [r["trips"], r["crates"], r["cost"]] for r in rows}
        self.assertEqual(made, dict(expected))
        self.assertEqual(list(made), sorted(made))
        self.assertTrue(all(entry.holds for entry in outcome.guards))

    def test_returns_desk(self):
        _, rows = self.run_of("Returns desk")
        planted = self.scenario.planted
        stands = defaultdict(set)
        for row in rows:
            stands[row[STANDS]].add(row["Loan no"] or row["loan no of Returns desk"])
        self.assertEqual(stands[only_in("Returns desk")], set(planted.returned_but_not_lent))
        self.assertEqual(stands[only_in("Loans")], set(planted.returned_but_not_listed))
        self.assertEqual(stands[IN_BOTH], set(planted.dates_that_disagree))
        for row in rows:
            self.assertEqual(row[DIFFERS], "Back date" if row[STANDS] == IN_BOTH else None)
        names = list(rows[0])
        self.assertEqual(
            names[:6],
            [STANDS, DIFFERS, "Loan no", "loan no of Returns desk", "Back date", "returned of Returns desk"],
        )

    def test_region_by_region_is_run_for_three_regions_from_a_file(self):
        scenario = self.scenario
        data = demo_data.folder()
        words = (data / "Region by region.trellis", "--values", data / REGIONS_FILE, "--to", self.folder)
        called = CliRunner().invoke(main, ["run", *map(str, words), "--leave-flow"])
        self.assertEqual(called.exit_code, 0, called.output)
        region_of = {venue[0]: venue[2] for venue in scenario.venues}
        with (data / REGIONS_FILE).open(newline="") as file:
            runs = list(csv.DictReader(file))
        self.assertEqual([run["region"] for run in runs], ["North", "Middle", "South"])
        written = {path.name for path in self.folder.glob("*.xlsx")}
        self.assertEqual(written, {f"Loans of {run['region']}.xlsx" for run in runs})
        for run in runs:
            sheet = openpyxl.load_workbook(self.folder / f"Loans of {run['region']}.xlsx", read_only=True)
            made = [row[0] for row in sheet[run["region"]].iter_rows(min_row=2, values_only=True)]
            lent = Counter(
                loan[0]
                for loan in scenario.loans
                if region_of.get(loan[2]) == run["region"] and str(loan[3]) >= run["since"]
            )
            self.assertEqual(set(made), set(lent))
            self.assertGreater(len(made), 100)
            sheet.close()

    def test_labels_find_their_makers_and_the_ladder_says_how(self):
        _, rows = self.run_of("Labels")
        planted = self.scenario.planted
        self.assertEqual(len(rows), len(self.scenario.labels))
        by_rung = defaultdict(set)
        for row in rows:
            by_rung[row["matched by"]].add(row["label"])
        capitals, nobody = set(planted.labels_in_capitals), set(planted.labels_of_nobody)
        spoiled = {*planted.labels_last_name_first, *planted.labels_with_a_slip}
        links = KINDS.settings(
            next(
                step
                for step in load(demo_data.folder() / "Labels.trellis", KINDS).steps
                if step.kind == "join"
            )
        )
        equal, any_case, alike = (rung.said for rung in links.ladder)
        everybody = {row[0] for row in self.scenario.labels}
        self.assertEqual(by_rung[equal], everybody - capitals - spoiled - nobody)
        self.assertEqual(by_rung[any_case], capitals)
        self.assertEqual(by_rung[alike], spoiled)
        self.assertEqual(by_rung[None], nobody)
        for row in rows:
            self.assertEqual(row["maker of Makers"], planted.makers_meant.get(row["label"]))
            if row["label"] in by_rung[alike]:
                self.assertGreaterEqual(row["likeness"], 85)

    def test_whole_sets(self):
        _, rows = self.run_of("Whole sets")
        objects = {row[1]: row for row in reversed(self.scenario.objects)}
        self.assertEqual(len(rows), self.scenario.planted.parts_of_sets)
        self.assertEqual({row["level"] for row in rows}, {1, 2})
        for row in rows:
            path = row["path"].split(" / ")
            self.assertEqual((path[-1], len(path)), (row["accession"], row["level"] + 1))
            for whole, part in pairwise(path):
                self.assertEqual(objects[part][4], whole)
            top = objects[path[0]]
            self.assertIsNone(top[4])
            self.assertEqual(
                (row["top"], row["title of the top"], row["keeper of the top"]), (path[0], top[2], top[5])
            )

    def test_guarded_loans_write_nothing(self):
        outcome, _ = self.run_of("Guarded loans")
        self.assertEqual([entry.holds for entry in outcome.guards], [False, False, True])
        self.assertEqual((outcome.written, list(self.folder.iterdir())), ([], []))


if __name__ == "__main__":
    unittest.main()
