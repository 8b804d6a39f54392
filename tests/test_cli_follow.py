"""Asking after one value: each way in which a row is kept, lost, multiplied, changed or summed up."""

import json

from tests.test_cli_flows import output, step, text
from tests.test_cli_runs import LINK, RunsCase


class FollowCase(RunsCase):
    def follow(self, *words, steps=None):
        """What is known of a value in a flow of these steps, behind the sources and before an output."""
        if steps is not None:
            self.path = self.flow(text("loans"), text("venues"), *steps, output(steps[-1]["id"]))
        return json.loads(self.call("follow", self.path, *words, "--json").stdout)

    def fates(self, at, *words, steps=None, way=0):
        """What became of a value at a step: how, and in what words."""
        found = self.follow(*words, steps=steps)["ways"][way]
        (stage,) = [stage for stage in found["stages"] if stage["step"] == at]
        return stage, [(fate["how"], fate["said"]) for fate in stage["fates"]]

    def join(self, **settings):
        return step("joined", "join", ["loans", "venues"], links=LINK, **settings)


class OnRails(FollowCase):
    def test_a_filter_says_which_condition_drops_it_and_what_it_has_there(self):
        conditions = [
            {"of": "venue", "is": "one-of", "values": ["Pier"]},
            {"of": "loan", "is": "true", "values": []} | {"of": "loan > 'L-0'", "is": "true"},
        ]
        stage, fates = self.fates("f", "L-3", steps=[step("f", "filter", ["loans"], conditions=conditions)])
        self.assertEqual((stage["rows_before"], stage["rows_after"]), (1, 0))
        ((how, said),) = fates
        self.assertEqual(how, "dropped")
        self.assertIn("venue “Hall”", said)
        end = self.follow("L-3")["ways"][0]["ends"][0]
        self.assertEqual(end["rows"], 0)
        self.assertIn("it is lost at F: dropped", end["said"])

    def test_a_shared_filter_does_the_same(self):
        members = {
            "format": "keen-trellis/1",
            "filters": [{"id": "v", "name": "Venue", "is": "one-of", "values": ["Pier"]}],
            "steps": [
                text("loans"),
                step("t", "shared-filter", ["loans"], filter="v", of="venue"),
                output("t"),
            ],
        }
        self.path = self.write("a.trellis", json.dumps(members))
        ((how, said),) = self.fates("t", "L-3")[1]
        self.assertEqual(how, "dropped")
        self.assertIn("venue “Hall”", said)

    def test_distinct_says_which_row_is_kept_in_its_place(self):
        self.write("loans.csv", "loan,venue\nL-1,Pier\nL-2,Pier\nL-3,Hall\n")
        keys = [{"of": "venue"}]
        stage, ((how, said),) = self.fates("d", "L-2", steps=[step("d", "distinct", ["loans"], keys=keys)])
        self.assertEqual((how, stage["rows_after"]), ("dropped", 0))
        self.assertEqual(said, "dropped, since loans.csv, row 2 has the same key and is kept")
        self.assertEqual(self.fates("d", "L-1")[1], [])

    def test_first_rows(self):
        steps = [step("f", "first", ["loans"], count=2, by=[{"of": "loan"}])]
        self.assertEqual(self.fates("f", "L-1", steps=steps)[1], [])
        ((how, said),) = self.fates("f", "L-4")[1]
        self.assertEqual((how, said), ("dropped", "dropped, since it is not among the first 2"))

    def test_fill_leaves_out_and_fills(self):
        fills = [{"fields": ["venue"], "how": "leave-out"}]
        ((how, said),) = self.fates("f", "L-4", steps=[step("f", "fill", ["loans"], fills=fills)])[1]
        self.assertEqual((how, said), ("dropped", "left out, since it has a gap: venue blank"))
        fills = [{"fields": ["venue"], "how": "value", "of": "unknown"}]
        ((how, said),) = self.fates("f", "L-4", steps=[step("f", "fill", ["loans"], fills=fills)])[1]
        self.assertEqual((how, said), ("filled", "venue is “unknown”, and was blank"))

    def test_corrections_and_mended_texts_change_it(self):
        corrected = step("c", "correct", ["loans"], fields=["venue"], pairs=[["tower", "Tower"]])
        ((how, said),) = self.fates("c", "tower", steps=[corrected])[1]
        self.assertEqual((how, said), ("changed", "venue is “Tower”, and was “tower”"))
        mended = step("m", "mend-text", ["loans"], fields=["venue"], actions=[{"how": "upper"}])
        ((how, said),) = self.fates("m", "Hall", steps=[mended])[1]
        self.assertEqual((how, said), ("changed", "venue is “HALL”, and was “Hall”"))

    def test_choosing_drops_or_renames_its_field(self):
        steps = [step("c", "choose", ["loans"], fields=[{"of": "loan"}], others=False)]
        ((how, said),) = self.fates("c", "Hall", steps=steps)[1]
        self.assertEqual(how, "field-dropped")
        self.assertIn("venue is not among the fields that are kept", said)
        steps = [step("c", "choose", ["loans"], fields=[{"of": "venue", "name": "where"}], others=True)]
        self.assertEqual(self.fates("c", "Hall", steps=steps)[1], [])

    def test_compute_split_combine_and_sort_lose_nothing(self):
        steps = [
            step("k", "compute", ["loans"], field="both", expression="loan || '/' || venue"),
            step("s", "split", ["k"], of="both", between="/", into=["one", "two"]),
            step("b", "combine", ["s"], of=["two", "one"], into="back"),
            step("o", "sort", ["b"], by=[{"of": "loan", "descending": True}]),
        ]
        found = self.follow("L-3", steps=steps)["ways"][0]
        self.assertEqual([stage["rows_after"] for stage in found["stages"]], [1] * 5)
        self.assertEqual([fate for stage in found["stages"] for fate in stage["fates"]], [])
        made = self.follow("L-3/Hall")
        self.assertTrue(made["made"])
        self.assertEqual((made["ways"][0]["step"], made["ways"][0]["fields"]), ("k", ["both"]))

    def test_a_row_for_each_part_makes_it_several(self):
        text = step("k", "compute", ["loans"], field="list", expression="loan || ';' || venue")
        parts = step("s", "split-rows", ["k"], of="list", between=";")
        found = self.fates("s", "L-3", steps=[text, parts])[1]
        self.assertEqual(found[0], ("multiplied", "became 2 rows, one for each part of list"))
        self.assertEqual(found[1], ("changed", "list is “L-3”, and was “L-3;Hall”"))
        whole = {**parts, "settings": {"of": "list", "between": "/"}}
        self.assertEqual(self.fates("s", "L-3", steps=[text, whole])[1], [])

    def test_columns_that_become_rows_make_it_several_or_drop_it(self):
        many = step("c", "columns-to-rows", ["loans"], of=["loan", "venue"])
        (found, *_) = self.fates("c", "L-3", steps=[many])[1]
        self.assertEqual(found, ("multiplied", "became 2 rows, one for each of loan, venue"))
        few = step("c", "columns-to-rows", ["loans"], of=["venue"], no_blanks=True)
        (found,) = self.fates("c", "L-4", steps=[few])[1]
        self.assertEqual(found, ("dropped", "dropped, since it is blank in venue"))

    def test_it_is_summed_into_columns_or_has_none(self):
        self.write("loans.csv", "loan,venue\nL-1,Pier\nL-2,Pier\nL-3,Hall\n")
        wide = step("w", "rows-to-columns", ["loans"], of="venue", columns=["Pier"], keys=["loan"])
        kept = self.fates("w", "L-1", steps=[wide])[1]
        self.assertEqual(kept, [("summed", "summed into one row: loan “L-1”, of 1 loan")])
        gone = self.fates("w", "L-3", steps=[wide])[1]
        self.assertEqual(gone, [("dropped", "dropped, since its venue has no column")])

    def test_it_is_summed_into_a_group(self):
        self.write("loans.csv", "loan,venue\nL-1,Pier\nL-2,Pier\nL-3,Hall\n")
        measures = [{"name": "loans", "function": "count"}]
        steps = [step("s", "summarise", ["loans"], keys=["venue"], measures=measures)]
        stage, ((how, said),) = self.fates("s", "L-2", steps=steps)
        self.assertEqual((how, said), ("summed", "summed into one row: venue “Pier”, of 2 loans"))
        self.assertEqual(stage["rows_after"], 1)

    def test_a_union_takes_it_on_from_each_rail(self):
        steps = [step("u", "union", ["loans", "loans"])]
        stage, fates = self.fates("u", "L-3", steps=steps)
        self.assertEqual((stage["rows_before"], stage["rows_after"], fates), (2, 2, []))

    def test_a_skipped_step_does_nothing_to_it(self):
        skipped = step("f", "filter", ["loans"], conditions=[{"of": "loan", "is": "blank"}]) | {
            "skipped": True
        }
        stage, fates = self.fates("f", "L-3", steps=[skipped])
        self.assertEqual((stage["rows_after"], fates), (1, []))


class InJoins(FollowCase):
    def test_matched_with_whom_and_how_they_write_it(self):
        link = [{"left": "venue", "right": "venue", "ignore": ["case"]}]
        joined = step("joined", "join", ["loans", "venues"], links=link, type="inner")
        ((how, said),) = self.fates("joined", "L-2", steps=[joined])[1]
        self.assertEqual(how, "matched")
        self.assertEqual(said, "matched with 1 venue: venues.csv, row 3; “tower” here is “Tower” there")

    def test_unmatched_with_the_reason_the_mend_and_what_is_nearest(self):
        stage, ((how, said),) = self.fates("joined", "L-2", steps=[self.join(type="left-outer")])
        self.assertEqual((how, stage["rows_after"]), ("unmatched", 1))
        self.assertTrue(said.startswith("found no venue: the same apart from case (mend: ignore case)"), said)
        self.assertIn("nearest: “Tower”", said)
        self.assertIn("venues.csv, row 3", said)
        stage, ((how, said),) = self.fates("joined", "L-2", steps=[self.join(type="inner")])
        self.assertEqual((how, stage["rows_after"]), ("unmatched", 0))
        self.assertIn("it is left out", said)

    def test_a_blank_link_field_is_said(self):
        ((how, said),) = self.fates("joined", "L-4", steps=[self.join(type="inner")])[1]
        self.assertEqual(how, "unmatched")
        self.assertIn("the link field is blank", said)

    def test_multiplied_and_why_an_output_has_it_several_times(self):
        self.write("venues.csv", "venue,town\nPier,Wick\nPier,Sand\nPier,Port\n")
        stage, ((how, said),) = self.fates("joined", "L-1", steps=[self.join(type="inner")])
        self.assertEqual((how, stage["rows_after"]), ("multiplied", 3))
        self.assertIn("matched with 3 venues: venues.csv, row 2; venues.csv, row 3", said)
        (end,) = self.follow("L-1")["ways"][0]["ends"]
        self.assertEqual(end["rows"], 3)
        self.assertTrue(
            end["said"].startswith("at Joined 1 row becomes 3 (matched with 3 venues"), end["said"]
        )

    def test_passed_over_since_another_was_taken(self):
        self.write("venues.csv", "venue,town\nPier,Wick\nPier,Sand\n")
        steps = [self.join(type="left-outer", take="last")]
        stage, ((how, said),) = self.fates("joined", "Wick", steps=steps)
        self.assertEqual((how, stage["rows_after"]), ("passed-over", 0))
        self.assertIn("it matches loans.csv, row 2, paired with another row (venues.csv, row 3)", said)

    def test_of_several_that_match_one_is_taken(self):
        self.write("venues.csv", "venue,town\nPier,Wick\nPier,Sand\n")
        steps = [self.join(type="left-outer", take="last")]
        ((_, said),) = self.fates("joined", "L-1", steps=steps)[1]
        self.assertEqual(said, "matched with 1 venue of 2 that match: venues.csv, row 3")

    def test_of_a_ladder_the_rung_is_said_and_asked_again(self):
        self.write("loans.csv", "loan,venue,code\nL-1,Pier,p\nL-2,MILL,m\nL-3,Quay,q\nL-5,Dock,z\n")
        self.write("venues.csv", "venue,code,town\nPier,p,A\nMill,m,B\nWharf,q,C\nOld wharf,q,D\n")
        equal = {"left": "venue", "right": "venue"}
        rungs = [
            {"links": [{**equal, "ignore": ["case"]}]},
            {"links": [{"left": "code", "right": "code"}]},
        ]
        joined = step(
            "joined", "join", ["loans", "venues"], links=[equal], rungs=rungs, type="left-outer", take="first"
        )
        cased = "by “venue = venue, ignoring case”"
        for value, wanted in (
            ("L-1", "matched with 1 venue by “venue = venue”: venues.csv, row 2"),
            ("L-2", f"matched with 1 venue {cased}: venues.csv, row 3; “MILL” here is “Mill” there"),
            ("L-3", "matched with 1 venue by “code = code” of 2 that match: venues.csv, row 4"),
            ("B", f"matched with 1 loan {cased}: loans.csv, row 3; “Mill” here is “MILL” there"),
            ("D", "passed over: it matches loans.csv, row 4, paired with another row (venues.csv, row 4)"),
        ):
            with self.subTest(value):
                ((_, said),) = self.fates("joined", value, steps=[joined])[1]
                self.assertEqual(said, wanted)

    def test_types_that_drop_what_matches_or_keep_it_once(self):
        stage, ((how, said),) = self.fates("joined", "L-1", steps=[self.join(type="left-anti")])
        self.assertEqual((how, stage["rows_after"]), ("dropped", 0))
        self.assertIn("it has a partner in Venues", said)
        stage, ((how, said),) = self.fates("joined", "L-1", steps=[self.join(type="left-semi")])
        self.assertEqual((how, stage["rows_after"]), ("matched", 1))
        stage, ((how, _),) = self.fates("joined", "Quay", steps=[self.join(type="full-anti")])
        self.assertEqual((how, stage["rows_after"]), ("unmatched", 1))

    def test_it_goes_on_from_a_stub(self):
        steps = [self.join(type="inner"), step("f", "sort", ["joined:unmatched_left"], by=[{"of": "loan"}])]
        found = self.follow("L-3", steps=steps)["ways"][0]
        self.assertEqual([stage["rows_after"] for stage in found["stages"]], [0, 1, 1])

    def test_of_large_tables_it_is_told_from_the_value_itself(self):
        count = 120_000
        self.write("loans.csv", "loan,venue\n" + "".join(f"L-{n},V-{n % 7000}\n" for n in range(count)))
        self.write("venues.csv", "venue,town\n" + "".join(f"V-{n},T\n" for n in range(6900)))
        ((how, said),) = self.fates("joined", "L-6950", steps=[self.join(type="inner")])[1]
        self.assertEqual(how, "unmatched")
        self.assertIn("nearest: “V-", said)


class InBlends(FollowCase):
    def blend(self, **other):
        measure = {"name": "came in all", "function": "sum", "of": "came"}
        return step(
            "b", "blend", ["loans", "visits"], others=[{"links": LINK, "measures": [measure], **other}]
        )

    def setUp(self):
        super().setUp()
        self.write("visits.csv", "venue,came\nPier,3\nPier,4\nQuay,5\n")

    def found(self, at, *words, steps):
        self.path = self.flow(text("loans"), text("visits"), *steps, output(steps[-1]["id"]))
        return self.fates(at, *words)

    def test_a_main_row_found_a_group_or_none(self):
        _, ((how, said),) = self.found("b", "L-1", steps=[self.blend()])
        self.assertEqual((how, said), ("matched", "found a group of 2 visits"))
        stage, ((how, said),) = self.found("b", "L-3", steps=[self.blend()])
        self.assertEqual((how, stage["rows_after"]), ("unmatched", 1))
        self.assertIn("found no group of Visits", said)

    def test_what_found_nothing_may_be_left_out(self):
        blend = self.blend()
        blend["settings"]["keep"] = "found"
        stage, fates = self.found("b", "L-3", steps=[blend])
        self.assertEqual(stage["rows_after"], 0)
        self.assertEqual([how for how, _ in fates], ["unmatched", "dropped"])

    def test_a_row_of_another_table_is_summed_or_dropped_or_used_by_none(self):
        _, ((how, said),) = self.found("b", "4", steps=[self.blend()])
        self.assertEqual(
            (how, said), ("summed", "summed into a group of 2 visits (venue “Pier”), which is on 1 loan")
        )
        _, ((how, said),) = self.found("b", "5", steps=[self.blend()])
        self.assertEqual(how, "unmatched")
        self.assertIn("which is on no loan", said)
        _, fates = self.found("b", "3", steps=[self.blend(where="came > 3")])
        self.assertEqual([how for how, _ in fates], ["dropped"])
        self.assertIn("came “3”", fates[0][1])

    def test_main_rows_become_one_row_a_group(self):
        blend = self.blend()
        blend["settings"]["keep"] = "groups"
        self.write("loans.csv", "loan,venue\nL-1,Pier\nL-2,Pier\nL-3,Hall\n")
        _, ((how, said),) = self.found("b", "L-2", steps=[blend])
        self.assertEqual((how, said), ("summed", "summed into one row: venue “Pier”, of 2 loans"))


class Asked(FollowCase):
    def test_every_row_of_every_source_that_holds_it(self):
        self.path = self.flow(*self.steps)
        found = self.follow("Pier")
        self.assertEqual([(way["name"], way["rows"]) for way in found["ways"]], [("Loans", 1), ("Venues", 1)])
        self.assertEqual(found["ways"][1]["places"], "venues.csv, row 2")
        self.assertEqual(len(self.follow("Pier", "--step", "Venues")["ways"]), 1)

    def test_a_number_and_a_day_are_found_as_they_are_written(self):
        self.write("loans.csv", "loan,fee,out\nL-1,1.50,2026-05-01\nL-2,7,2026-06-01\n")
        self.path = self.flow(text("loans"), output("loans"))
        for value in ("1.5", "1.50", "2026-05-01"):
            (way,) = self.follow(value)["ways"]
            self.assertEqual(way["places"], "loans.csv, row 2", value)
        self.assertEqual(self.follow("2026-13-01")["ways"], [])

    def test_nothing_near_is_taken_for_it_without_a_word(self):
        self.path = self.flow(*self.steps)
        found = self.follow("  HALL")
        self.assertTrue(found["loosely"])
        said = self.call("follow", self.path, "  HALL").stdout
        self.assertIn("nowhere as it is written", said)
        self.assertIn("is in no row of any source or step.", self.call("follow", self.path, "Hallo").stdout)
        said = self.call("follow", self.path, "Hall", "--field", "venues", code=2).stderr
        self.assertIn("No step has a field “venues”.", said)

    def test_the_way_is_told_in_words(self):
        said = self.call("follow", self.path, "L-3").stdout
        self.assertIn("Loans: in 1 row, loan.", said)
        self.assertIn("loans.csv, row 4", said)
        self.assertIn("=> Out.csv-output: in 1 row.", said)
