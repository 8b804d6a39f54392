"""Reasons for unmatched rows: each kind is planted and found with its count, and clean data gives none."""

import datetime as dt
import threading
import unittest

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.distinct import distinct_rows
from keen_trellis.core.errors import Cancelled
from keen_trellis.core.insight.mended import mended_pairs
from keen_trellis.core.insight.reason import Kind, Way
from keen_trellis.core.insight.reasons import Asked, explain, of_other_types
from keen_trellis.core.link import LinkField, Operator, Preparation, Take, Taken
from keen_trellis.core.matching import match
from keen_trellis.core.preparations import PREPARATIONS
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import ArrowTable, ChosenRows
from keen_trellis.core.task import Task
from tests.tables import table

LINK = (LinkField("k", "q"),)
_MANY = (Kind.REPEATED, Kind.OVERLAP, Kind.NOTHING_WRONG)


def reasons(left, right, links=LINK):
    return explain(Asked(left, right, links), match(left, right, links))


def told(found, side="left"):
    """Kind and rows of each reason of a side."""
    return [(entry.kind.value, entry.rows, entry.values) for entry in found if entry.side == side]


class Reasons(unittest.TestCase):
    def test_nothing_wrong_is_said_and_nothing_else(self):
        (only,) = reasons(table(k=["a", "b"]), table(q=["b", "a"]))
        self.assertEqual((only.kind, only.rows), (Kind.NOTHING_WRONG, 2))

    def test_the_smallest_preparation_that_helps_and_what_it_gains(self):
        left = table(k=["lcm.1", "LCM.1 ", "lcm-1", "LCM.2", "Äther", "LCM.9", "LCM.9"])
        right = table(q=["LCM.1", "LCM.2", "ather"])
        found = reasons(left, right)
        self.assertEqual(
            told(found),
            [
                ("absent", 2, 1),
                ("written-differently", 1, 1),
                ("written-differently", 1, 1),
                ("written-differently", 1, 1),
                ("written-differently", 1, 1),
            ],
        )
        mends = {entry.mends[0].said: entry for entry in found if entry.side == "left" and entry.mends}
        self.assertEqual(
            set(mends),
            {
                "ignore case",
                "ignore outer spaces",
                "ignore case and punctuation",
                "ignore accents and case",
                "accept as absent",
            },
        )
        example = mends["ignore case and punctuation"].examples[0]
        self.assertEqual((example.value, example.other), ("lcm-1", "LCM.1"))
        for said, entry in mends.items():
            mend = entry.mends[0]
            if said == "accept as absent":
                continue
            before = match(left, right, LINK).counts.left_matched
            after = match(left, right, mend.links, take=mend.take).counts.left_matched
            self.assertLessEqual(entry.rows, after - before)

    def test_a_preparation_that_makes_keys_of_the_other_side_one_says_so(self):
        (entry,) = (e for e in reasons(table(k=["ab"]), table(q=["AB", "Ab", "x"])) if e.side == "left")
        # What it finds may be chance, and is looked through first.
        self.assertEqual([mend.way for mend in entry.mends], [Way.REVIEW, Way.LINKS])
        self.assertEqual(entry.mends[1].merged, 1)
        self.assertIn("though 1 key is the same as another one then", entry.said)

    def test_blanks_placeholders_and_what_could_not_be_converted(self):
        found = reasons(table(k=[None, "n/a", "0000", "-", "7"]), table(q=["7"]))
        self.assertEqual(told(found), [("placeholder", 3, 3), ("blank", 1, 0)])
        links = (LinkField("k", "q", Preparation(compare_as="number")),)
        found = reasons(table(k=["7", "seven", None]), table(q=[7]), links)
        self.assertEqual(told(found), [("blank", 1, 0), ("not-converted", 1, 1)])

    def test_letters_that_look_like_digits_and_never_another_digit(self):
        left = table(k=["LCM.O482", "LCM.O482", "LCM.0483", "LCM.l2", "BOB"])
        right = table(q=["LCM.0482", "LCM.0484", "LCM.12", "LCM-12.", "808"])
        found = reasons(left, right)
        # Two values look like “LCM.l2”, so that it is left to be judged by hand.
        self.assertEqual(told(found), [("look-alike", 3, 2), ("absent", 2, 2)])
        entry = found[0]
        self.assertEqual((entry.examples[0].value, entry.examples[0].other), ("LCM.O482", "LCM.0482"))
        # “BOB” is too short to be taken for 808 without a look.
        mend = entry.mends[0]
        self.assertEqual((mend.gain, match(left, right, mend.links).counts.left_matched), (2, 2))

    def test_two_initials_are_offered_for_review_where_nothing_else_fits(self):
        left, right = table(k=["UK", "France", "US"]), table(q=["United Kingdom", "France", "United States"])
        (entry,) = (entry for entry in reasons(left, right) if entry.side == "left")
        self.assertEqual(entry.kind, Kind.ABSENT)
        pairs = dict(zip(entry.suggested.values.to_pylist(), entry.suggested.meant.to_pylist(), strict=True))
        self.assertEqual(pairs, {"UK": "United Kingdom", "US": "United States"})
        self.assertFalse(entry.suggested.likely.any())

    def test_first_and_last_name_are_joined_on_four_rows_as_on_eighty(self):
        for count in (4, 80):
            first, last = ([f"{name}{n % 9}" for n in range(count)] for name in ("Ada", "Moss"))
            first = [f"{name}{n}" for n, name in enumerate(first)]
            full = [f"{one} {other}" for one, other in zip(first, last, strict=True)]
            names, people = table(name=full), table(first=first, last=last)
            link = (LinkField("name", "first"),)
            entry = next(e for e in reasons(names, people, link) if e.kind is Kind.COMPOSED)
            self.assertEqual(entry.mends[0].said, "join first, “ ” and last")
            found = match(names, people, entry.mends[0].links).counts
            self.assertEqual((found.left_matched, found.cardinality), (count, "1:1"))

    def test_a_handful_among_hundreds_says_that_the_others_differ(self):
        left = table(k=[f"b-{n:04d}" for n in range(300)] + ["A-0001", "a-0002"])
        right = table(q=["a-0001", "A-0002"] + [f"c{n:05d}" for n in range(900)])
        said = [entry.said for entry in reasons(left, right) if entry.side == "left"]
        self.assertIn("the same apart from case; 300 other values differ anyway", said)

    def test_codes_that_mix_letters_and_digits_are_corrected_after_a_review_only(self):
        known = [f"N{number}{letters}" for number in range(300, 340) for letters in ("AA", "JB")]
        left = table(k=["N303AB", "N304JBA", "N3O5AA", "N306AA"])
        found = reasons(left, table(q=known))
        mends = [mend for entry in found if entry.side == "left" for mend in entry.mends]
        self.assertIn(Way.REVIEW, [mend.way for mend in mends])
        self.assertNotIn(Way.CORRECTIONS, [mend.way for mend in mends])

    def test_agreeing_on_all_links_but_one(self):
        left = table(venue=["Pier", "Pier", "Mill", "Quay"], month=[1, 2, 3, 9])
        right = table(venue=["Pier", "Mill"], month=[1, 4])
        links = (LinkField("venue", "venue"), LinkField("month", "month"))
        found = reasons(left, right, links)
        self.assertEqual(told(found), [("all-but-one", 2, 2), ("absent", 1, 1)])
        self.assertIn("they agree on venue, but not on month", found[0].said)
        self.assertEqual(found[0].examples[0].value, "Pier – 2")

    def test_repeated_keys_and_their_mend(self):
        left, right = table(k=["a", "a", "b"]), table(q=["a", "a", "a", "b"])
        (entry,) = reasons(left, right)
        self.assertEqual((entry.kind, entry.rows, entry.values), (Kind.REPEATED, 2, 1))
        mend = entry.mends[0]
        self.assertEqual((mend.gain, mend.take.kind), (4, Taken.FIRST))
        pairs = match(left, right, mend.links, take=mend.take).pairs
        self.assertEqual(match(left, right, LINK).pairs - pairs, mend.gain)

    def test_types_that_never_match(self):
        left, right = table(k=["7", "8", "x"]), table(q=[7, 8])
        (entry,) = of_other_types(Asked(left, right, LINK))
        self.assertEqual(entry.kind, Kind.OTHER_TYPE)
        self.assertEqual(
            [(mend.said, mend.gain) for mend in entry.mends],
            [("compare as text", 2), ("compare as number", 2)],
        )
        self.assertEqual(of_other_types(Asked(left, table(q=["7"]), LINK)), [])

    def test_range_links_have_reasons_too(self):
        links = (LinkField("k", "q", operator=Operator.GREATER),)
        found = reasons(table(k=[1, None, 2]), table(q=[5]), links)
        self.assertEqual(told(found), [("below-first", 2, 2), ("blank", 1, 0)])


class Planted(unittest.TestCase):
    """Trouble of one kind in otherwise clean data: found with its count, and nothing else."""

    VENUES = ("Harbour Museum", "Old Customs Hall", "Net Loft House", "Tolsery Reading Room")

    def only(self, found, side="left"):
        (reason,) = [entry for entry in found if entry.side == side and entry.kind is not Kind.ABSENT]
        return reason

    def test_misspelt_values_are_corrections_that_match(self):
        left = table(k=["Harbor Museum", "Harbor Museum", "Old Custmos Hall", "Net Loft House"])
        right = table(q=list(self.VENUES))
        reason = self.only(reasons(left, right))
        self.assertEqual((reason.kind, reason.rows, reason.values), (Kind.MISSPELT, 3, 2))
        (mend,) = reason.mends
        self.assertEqual((mend.way, mend.gain), (Way.CORRECTIONS, 3))
        self.assertEqual(match(left, right, mend.links).counts.left_matched, 4)
        self.assertEqual(reason.row_numbers.tolist(), [0, 1, 2])
        self.assertEqual(reason.suggested.values.to_pylist(), ["Harbor Museum", "Old Custmos Hall"])
        # Seen from the right the same value is wrong, so that the same correction is offered.
        other = self.only(reasons(left, right), "right")
        self.assertEqual(other.suggested.turned.tolist(), [True, True])
        self.assertEqual(set(other.mends[0].links), set(mend.links))

    def test_other_names_and_what_is_only_a_part(self):
        left = table(k=["Museum Harbour", "Old C. Hall", "Net Loft"])
        found = reasons(left, table(q=list(self.VENUES)))
        told = [(e.kind, e.rows, e.mends[0].way, e.mends[0].gain) for e in found if e.side == "left"]
        self.assertEqual(
            told,
            [
                (Kind.OTHER_NAME, 1, Way.CORRECTIONS, 1),
                (Kind.OTHER_NAME, 1, Way.CORRECTIONS, 1),
                (Kind.OTHER_NAME, 1, Way.REVIEW, 1),
            ],
        )

    def test_running_codes_and_names_without_partner_are_no_false_alarm(self):
        left = table(k=[f"LCM.{n:05d}" for n in range(1, 400, 2)] + ["Yarrow Mill", "Quarrel Point"])
        right = table(q=[f"LCM.{n:05d}" for n in range(0, 400, 2)] + list(self.VENUES))
        self.assertEqual({entry.kind for entry in reasons(left, right)}, {Kind.ABSENT})

    def test_a_changed_digit_is_offered_for_review_only(self):
        found = reasons(table(k=["HM/578/69"]), table(q=["HM/578/99", "LCM.1"]))
        (reason,) = [entry for entry in found if entry.side == "left"]
        self.assertEqual(reason.kind, Kind.ABSENT)
        self.assertEqual(reason.suggested.meant.to_pylist(), ["HM/578/99"])
        self.assertFalse(reason.suggested.likely.any())

    def test_numbers_in_another_notation(self):
        left, right = table(k=["7.0", "08", "9", "x"]), table(q=["7", "8", "9"])
        found = reasons(left, right)
        self.assertEqual(told(found), [("written-differently", 1, 1), ("other-type", 1, 1), ("absent", 1, 1)])
        self.assertEqual(found[1].mends[0].links[0].preparation.compare_as, "number")

    def test_codes_with_a_suffix_and_codes_in_two_fields(self):
        left, right = table(k=["A1-x", "B2-y", "C3-z"]), table(q=["A1", "B2", "C3", "D4"])
        reason = self.only(reasons(left, right))
        self.assertEqual((reason.kind, reason.rows, reason.mends[0].gain), (Kind.COMPOSED, 3, 3))
        self.assertEqual(match(left, right, reason.mends[0].links).counts.left_matched, 3)
        left = table(k=["HM.12", "HM.13", "LC.12", "ZZ.99"])
        right = table(c=["HM", "HM", "LC"], n=[12, 13, 12], q=["x", "y", "z"])
        reason = self.only(reasons(left, right))
        self.assertEqual((reason.kind, reason.rows, reason.mends[0].gain), (Kind.COMPOSED, 3, 3))
        self.assertEqual(match(left, right, reason.mends[0].links).counts.left_matched, 3)

    def test_a_field_of_several_links_is_mended_by_itself(self):
        left = table(venue=["Pier Gallery", "pier gallery", "Mill"], month=[1, 1, 2])
        right = table(venue=["Pier Gallery", "Mill"], month=[1, 2])
        links = (LinkField("venue", "venue"), LinkField("month", "month"))
        reason = self.only(reasons(left, right, links))
        self.assertEqual((reason.kind, reason.rows, reason.mends[0].gain), (Kind.WRITTEN_DIFFERENTLY, 1, 1))
        self.assertIn("venue: ", reason.said)

    def test_where_values_lie_that_are_in_no_period(self):
        left = table(k=["a", "a", "a", "a", "a", "b"], d=[1, 5, 12, 15, 99, 3])
        right = table(k=["a", "a"], low=[4, 14], high=[8, 20])
        links = (
            LinkField("k", "k"),
            LinkField("d", "low", operator=Operator.AT_LEAST),
            LinkField("d", "high", operator=Operator.AT_MOST),
        )
        found = reasons(left, right, links)
        self.assertEqual(
            sorted(told(found)),
            [("above-last", 1, 1), ("absent", 1, 1), ("below-first", 1, 1), ("in-gap", 1, 1)],
        )
        by_kind = {entry.kind: entry.examples[0].value for entry in found if entry.side == "left"}
        self.assertEqual((by_kind[Kind.BELOW], by_kind[Kind.GAP], by_kind[Kind.ABOVE]), ("1", "12", "99"))

    def test_overlapping_periods_are_said(self):
        left = table(d=[5, 7, 30])
        right = table(low=[1, 6, 30], high=[8, 9, 31])
        links = (
            LinkField("d", "low", operator=Operator.AT_LEAST),
            LinkField("d", "high", operator=Operator.AT_MOST),
        )
        (reason,) = reasons(left, right, links)
        self.assertEqual((reason.kind, reason.rows, reason.mends[0].gain), (Kind.OVERLAP, 1, 1))

    def test_what_is_absent_clusters_and_can_be_accepted(self):
        months = [f"2026-{number % 12 + 1:02d}-03" for number in range(120)]
        left = table(
            k=[f"{'gone ' if m.startswith('2026-05') else 'A'}{n}" for n, m in enumerate(months)], m=months
        )
        right = table(q=[f"A{n}" for n in range(120)])
        (reason,) = [entry for entry in reasons(left, right) if entry.side == "left"]
        self.assertEqual(
            [(c.field, c.value, c.rows, c.all_rows) for c in reason.clusters], [("m", "2026-05-03", 10, 10)]
        )
        question = Asked(left, right, LINK, accepted=(("gone 4", "gone 16"), ()))
        found = explain(question, match(left, right, LINK))
        self.assertEqual(told(found), [("absent", 8, 8), ("accepted", 2, 2)])

    def test_keys_that_repeat_on_both_sides_are_said_loudly(self):
        (reason,) = reasons(table(k=["a", "a", "b"]), table(q=["a", "a", "b"]))
        self.assertTrue(reason.said.startswith("n:m"), reason.said)
        self.assertEqual([mend.way for mend in reason.mends], [Way.TAKE, Way.TAKE, Way.DISTINCT])

    def test_the_latest_of_several_partners_and_one_row_a_key(self):
        days = [dt.date(2026, 1, 1), dt.date(2026, 3, 1), dt.date(2026, 2, 1), dt.date(2025, 1, 1)]
        left, right = table(k=["a", "b"]), table(q=["a", "a", "a", "b"], on=days, note=["x", "y", "y", "x"])
        (reason,) = reasons(left, right)
        mends = {mend.way: mend for mend in reversed(reason.mends)}
        self.assertEqual(mends[Way.TAKE].take, Take(Taken.GREATEST, "on"))
        after = match(left, right, LINK, take=mends[Way.TAKE].take)
        self.assertEqual((after.partners_in_right(0).tolist(), mends[Way.TAKE].gain), ([1], 2))
        distinct = mends[Way.DISTINCT]
        self.assertEqual((distinct.fields, distinct.take, distinct.gain), (("q",), mends[Way.TAKE].take, 2))

    def test_no_date_tells_the_latest_where_the_last_two_are_of_one_day(self):
        day = dt.date(2026, 1, 1)
        reason = reasons(table(k=["a"]), table(q=["a", "a"], on=[day, day]))[0]
        self.assertEqual({mend.take.kind for mend in reason.mends}, {Taken.FIRST, Taken.LAST})

    def test_nothing_alike_shows_both_patterns_and_the_link_that_fits(self):
        codes, loans = [f"LCM.{n:04}" for n in range(30)], [f"L-{n}" for n in range(30)]
        left, right = table(k=loans, object=codes), table(q=codes, n=list(range(30)))
        found = reasons(left, right)
        self.assertEqual(told(found), [("nothing-alike", 30, 30)])
        reason = found[0]
        self.assertEqual([(e.value, e.other) for e in reason.examples], [("A-99", "AAA.9999"), ("A-9", "")])
        mend = reason.mends[0]
        self.assertEqual((mend.links, mend.gain), ((LinkField("object", "q"),), 30))
        self.assertIn(Way.ACCEPT, {mend.way for mend in reason.mends})

    def test_values_of_one_kind_that_are_all_absent_are_just_absent(self):
        left, right = (table(k=[f"LCM.{n:04}" for n in rows]) for rows in (range(30), range(100, 130)))
        links = (LinkField("k", "k"),)
        found = explain(Asked(left, right, links), match(left, right, links))
        self.assertEqual({entry.kind for entry in found}, {Kind.ABSENT})

    def test_nothing_is_wrong_on_the_left_though_the_right_has_more(self):
        found = reasons(table(k=["a"]), table(q=["a", "x"]))
        self.assertEqual((found[0].kind, found[0].side), (Kind.NOTHING_WRONG, "left"))
        self.assertEqual(told(found, "right"), [("absent", 1, 1)])
        found = reasons(table(k=["a"]), table(q=["a", "a"]))
        self.assertNotIn(Kind.NOTHING_WRONG, {entry.kind for entry in found})

    def test_a_field_more_that_tells_partners_apart_is_offered(self):
        left = table(venue=["Pier", "Pier", "Mill"], month=["2026-01", "2026-02", "2026-01"])
        right = table(place=["Pier", "Pier", "Mill"], of=["2026-01", "2026-02", "2026-01"], cost=[1, 2, 3])
        links = (LinkField("venue", "place"),)
        found = match(left, right, links)
        (reason,) = explain(Asked(left, right, links), found)
        mend = reason.mends[0]
        self.assertEqual(
            (mend.way, mend.links[1:], mend.gain), (Way.EXTRA_LINK, (LinkField("month", "of"),), 2)
        )
        after = match(left, right, mend.links)
        self.assertEqual((found.pairs - after.pairs, after.counts.left_matched), (2, 3))

    def test_explaining_can_be_stopped_wherever_it_is(self):
        left = table(k=["Harbor Museum", "H. Museum", "lcm.1", "LCM.O2", *(f"n{n}" for n in range(50))])
        right = table(q=["Harbour Museum", "Old Harbour Museum", "LCM.1", "LCM.02", "n1", "n1"])
        outcome = match(left, right, LINK)
        whole = _StoppedAt(-1)
        explain(Asked(left, right, LINK), outcome, whole)
        self.assertGreater(whole.seen, 15)
        for place in range(1, whole.seen + 1):
            with self.subTest(place), self.assertRaises(Cancelled):
                explain(Asked(left, right, LINK), outcome, _StoppedAt(place))


class _StoppedAt(Task):
    """A task that is cancelled at a checkpoint with this number; -1 for none."""

    def __init__(self, place: int) -> None:
        super().__init__()
        self.place, self.seen, self.lock = place, 0, threading.Lock()

    def checkpoint(self, done: int = 0, total: int = 0, what: str = "") -> None:
        with self.lock:
            self.seen += 1
            if self.seen == self.place:
                self.cancel()
        super().checkpoint(done, total, what)


_WORDS = st.sampled_from(
    [
        "LCM.1",
        "lcm.1",
        "LCM 1",
        "LCM.l",
        "Harbour Museum",
        "Harbor Museum",
        "Museum, Harbour",
        "H. Museum",
        "n/a",
        "0",
        "00",
        "7",
        "7.0",
        "é",
        "É",
        " ",
        "-",
        "A-1",
        "A",
        "Hall",
        "Old Hall",
        "",
        "2026-01-02",
        "ſ",
        "İ",
    ]
)
_CELLS = st.lists(st.one_of(st.none(), _WORDS), max_size=8)
_NUMBERS = st.integers(0, 4)


def _left_out(data: ArrowTable, mend) -> int:
    """How many rows a filter mend leaves out: those with its words, or with a blank in any of its fields."""
    columns = [data.column(name).values.to_pylist() for name in mend.fields]
    return sum(
        any(cell in mend.words if mend.words else cell is None for cell in row)
        for row in zip(*columns, strict=True)
    )


class AnyTables(unittest.TestCase):
    @given(_CELLS, _CELLS, st.booleans(), st.booleans(), st.data())
    def test_each_unmatched_row_has_one_reason_and_mends_gain_what_they_say(
        self, one, two, any_of, range_too, data
    ):
        numbers = [
            data.draw(st.lists(_NUMBERS, min_size=len(rows), max_size=len(rows))) for rows in (one, two)
        ]
        left = ArrowTable(
            pa.table({"k": pa.array(one, pa.large_string()), "n": pa.array(numbers[0], pa.int64())})
        )
        right = ArrowTable(
            pa.table({"q": pa.array(two, pa.large_string()), "m": pa.array(numbers[1], pa.int64())})
        )
        links = LINK
        if range_too:
            operator = data.draw(st.sampled_from(list(Operator)))
            links = (*LINK, LinkField("n", "m", operator=operator))
        any_of = any_of and range_too
        found = match(left, right, links, any_of=any_of)
        reasons_found = explain(Asked(left, right, links, any_of), found)
        for side, unmatched in (("left", found.left_unmatched_rows), ("right", found.right_unmatched_rows)):
            own = [entry for entry in reasons_found if entry.side == side and entry.kind not in _MANY]
            rows = [row for entry in own for row in entry.row_numbers.tolist()]
            self.assertEqual(sorted(rows), unmatched.tolist())
            for entry in own:
                self.assertEqual(entry.rows, len(entry.row_numbers))
                for mend in entry.mends:
                    if mend.way in (Way.LINKS, Way.CORRECTIONS) and not any_of:
                        after = match(left, right, mend.links).counts
                        matched = after.left_matched if side == "left" else after.right_matched
                        before = found.counts.left_matched if side == "left" else found.counts.right_matched
                        self.assertGreaterEqual(matched - before, mend.gain, (entry.kind, mend.said))
                    if mend.way is Way.FILTER:
                        table_of_side, link = (left, "k") if side == "left" else (right, "q")
                        gone = _left_out(table_of_side, mend)
                        self.assertEqual(gone, mend.gain, (entry.kind, mend.said, link))
        for entry in reasons_found:
            for mend in entry.mends:
                if mend.way is Way.DISTINCT:
                    keys = [
                        Key(text, link.preparation)
                        for text, link in zip(mend.fields, mend.links, strict=True)
                    ]
                    kept = distinct_rows(right, keys, mend.take, Task(), blanks_stay=True)
                    after = match(left, ChosenRows(right, kept), links)
                    self.assertEqual(found.pairs - after.pairs, mend.gain)
                    self.assertEqual(found.counts.left_matched, after.counts.left_matched)
        list(mended_pairs(Asked(left, right, links, any_of), found, Task()))

    @given(_CELLS, _CELLS, st.sets(st.sampled_from(sorted(PREPARATIONS))))
    def test_mended_pairs_are_all_that_match_only_after_mending(self, one, two, names):
        left, right = (
            ArrowTable(pa.table({name: pa.array(rows, pa.large_string())}))
            for name, rows in (("k", one), ("q", two))
        )
        corrections = (("Harbor Museum", "Harbour Museum"), ("A", "A-1"))
        links = (LinkField("k", "q", Preparation.ignoring(names, corrections=corrections)),)
        found = match(left, right, links)
        parts = [entry.numbers.tolist() for entry in mended_pairs(Asked(left, right, links), found, Task())]
        self.assertEqual(
            sorted(number for part in parts for number in part), found.pair_numbers_only_prepared.tolist()
        )


if __name__ == "__main__":
    unittest.main()
