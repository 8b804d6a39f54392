"""What is worked out on a thread is an edit of the flow as it is then, or refuses itself."""

import unittest

import msgspec

from keen_trellis.core.join_type import JoinType
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Input
from keen_trellis.flow.reviewing import Review, Verdict
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.session import combining, editing
from keen_trellis.session.selection import Selection
from tests.session.stepping import SessionCase

LOANS = "loan,venue,crates\nL-1,Pier,2\nL-2,Tower,3\nL-3,Hall,4\n"
VENUES = "venue,town,crates\nPier,Northhaven,2\nTower,Wick,3\nQuay,Wick,9\n"


class Meeting(SessionCase):
    def setUp(self):
        super().setUp()
        self.begin_rails(loans=LOANS, venues=VENUES)
        self.loans, self.venues = Selection("loans"), Selection("venues")
        self.asked = []

    def begin(self, what):
        """Begin a proposal, and let everything else be done."""
        what()
        self.assertTrue(self.steps.waiting)

    def rename(self, step="loans", name="Loans of May"):
        self.session.apply("Rename", lambda flow: edits.rename(flow, step, name))


class Joins(Meeting):
    def join(self):
        combining.join(self.session, self.venues, self.loans, self.asked.append)

    def test_a_rename_made_meanwhile_stays(self):
        self.begin(self.join)
        self.rename()
        self.steps.rest()
        self.assertIn("Loans of May", self.names())
        self.assertEqual(self.kind("join").inputs, (Input("loans"), Input("venues")))
        self.assertEqual(self.session.history.undo_name, "Join Loans of May with Venues")
        self.session.undo()
        self.assertIn("Loans of May", self.names())
        self.assertIn("Loans of May", self.asked[0])

    def test_a_rail_that_is_gone_is_joined_with_nothing(self):
        self.begin(self.join)
        self.session.apply("Remove", lambda flow: edits.remove_step(flow, "venues"))
        self.steps.rest()
        self.assertEqual(self.names(), ["Loans"])
        self.assertEqual(self.session.history.undo_name, "Remove")
        self.assertIn("One of the two rails was removed meanwhile.", self.told)
        self.assertEqual(self.asked, [])

    def test_a_field_that_is_gone_is_no_link(self):
        self.venues = Selection("venues-2")
        copy = self.session.margin.stump_settings(
            Selection(path=str(self.folder / "venues.csv"), table="venues")
        )
        self.session.apply("Again", lambda flow: edits.add_source(flow, copy, "Venues"))
        self.steps.rest()
        self.begin(self.join)
        out = msgspec.structs.replace(copy, fields=(FieldSettings("venue", left_out=True),))
        self.session.change_settings("venues-2", out, "Leave it out")
        # The source is known without its field before the proposal is.
        while not any("has no field" in entry for entry in self.told) and self.steps.waiting:
            self.steps.work(-1 if len(self.steps.waiting) > 1 else 0)
        self.assertIn("Venues 2 no longer has the field “venue”: it was changed meanwhile.", self.told)
        self.assertNotIn("join", [step.kind for step in self.session.flow.steps])

    def test_stumps_get_their_rails_only_with_the_knot(self):
        for step in ("loans", "venues"):
            self.session.apply("Remove", lambda flow, step=step: edits.remove_step(flow, step))
        self.steps.rest()
        self.loans = Selection(path=str(self.folder / "loans.csv"), table="loans")
        self.venues = Selection(path=str(self.folder / "venues.csv"), table="venues")
        self.begin(self.join)
        self.session.apply("Add", lambda flow: edits.add_file(flow, str(self.put("more.csv", VENUES))))
        self.steps.rest()
        self.assertEqual(self.names(), ["Loans", "Venues", "Loans with Venues"])
        self.assertIn(str(self.folder / "more.csv"), self.session.flow.files)

    def test_cancelled_it_leaves_the_flow_alone(self):
        self.begin(self.join)
        before = self.session.flow
        self.session.jobs.cancel_all()
        self.steps.rest()
        self.assertIs(self.session.flow, before)
        self.assertEqual(self.asked, [])

    def test_giving_a_proposal_up_takes_back_nothing_else(self):
        self.begin(self.join)
        self.steps.rest()
        joined = self.session.flow
        self.rename()
        self.session.drop_edit(joined)
        self.assertIn("Loans of May", self.names())
        self.assertEqual(self.kind("join").inputs[0], Input("loans"))
        self.session.undo()
        self.session.drop_edit(self.session.flow)
        self.assertEqual(self.names(), ["Loans", "Venues"])


class Others(Meeting):
    def test_a_rename_made_while_a_blend_is_proposed_stays(self):
        self.begin(lambda: combining.blend(self.session, self.venues, self.loans))
        self.rename()
        self.steps.rest()
        self.assertIn("Loans of May", self.names())
        self.assertEqual(self.kind("blend").inputs, (Input("loans"), Input("venues")))

    def test_a_rename_made_while_a_comparison_is_asked_for_stays(self):
        self.begin(lambda: combining.reconcile(self.session, self.venues, self.loans, self.asked.append))
        self.rename()
        self.steps.rest()
        (found,) = self.asked
        self.rename("venues", "Sites")
        combining.compare(self.session, found, [("crates", "crates")])
        self.assertIn("Loans of May against Sites", self.names())

    def test_a_comparison_of_a_rail_that_is_gone_is_refused(self):
        self.begin(lambda: combining.reconcile(self.session, self.venues, self.loans, self.asked.append))
        self.steps.rest()
        self.session.apply("Remove", lambda flow: edits.remove_step(flow, "venues"))
        combining.compare(self.session, self.asked[0], [("crates", "crates")])
        self.assertEqual(self.names(), ["Loans"])


class Reviews(Meeting):
    def setUp(self):
        super().setUp()
        combining.join(self.session, self.venues, self.loans, self.asked.append)
        self.steps.rest()
        self.knot = self.kind("join").id
        rejected = msgspec.structs.replace(self.settings, rejected=(("Hall", "Quay"),))
        self.review = Review.of(rejected, ()).decided([0], Verdict.ACCEPTED)

    @property
    def settings(self):
        return editing.join_settings(self.session, self.knot)

    def test_what_was_set_since_the_review_began_stays(self):
        corrected = msgspec.structs.replace(self.settings.links[0], correct=(("Pier", "Quay"),))
        editing.change_join(self.session, self.knot, "Correct", links=(corrected,))
        editing.change_join_type(self.session, self.knot, JoinType.INNER)
        after = self.review.settings_after(self.settings)
        self.assertEqual(after.join_type, JoinType.INNER)
        self.assertEqual(after.links[0].correct, (("Pier", "Quay"), ("Hall", "Quay")))

    def test_other_link_fields_are_not_corrected(self):
        link = msgspec.structs.replace(self.settings.links[0], left="loan", right="town")
        editing.change_join(self.session, self.knot, "Link", links=(link,))
        with self.assertRaisesRegex(Exception, "other link fields"):
            self.review.settings_after(self.settings)


if __name__ == "__main__":
    unittest.main()
