"""Slips and other names: what stands for what is found among many values, and nothing else is."""

import itertools
import random
import unittest

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st
from rapidfuzz.distance import OSA

from keen_trellis.core.insight.names import other_names
from keen_trellis.core.insight.partners import misspelt
from keen_trellis.core.letters import Letters
from keen_trellis.core.task import Task

VENUES = ["harbour museum", "old customs hall", "net loft house", "pier gallery", "tolsery museum"]
CODES = [f"lcm{number:05d}" for number in range(0, 2000, 2)]


def texts(values):
    return pa.array(values, pa.large_string())


def slips(mine, theirs, **options):
    """Value to partner and whether it is likely."""
    found = misspelt(texts(mine), texts(theirs), Task(), **options)
    return {
        mine[one]: (theirs[other], bool(likely))
        for one, other, likely in zip(found.mine, found.theirs, found.likely, strict=True)
    }


def names(mine, theirs):
    """Value to way, partner and whether it is likely."""
    found = {}
    for way, pairs in other_names(texts(mine), texts(theirs), Task()):
        for one, other, likely in zip(pairs.mine, pairs.theirs, pairs.likely, strict=True):
            found[mine[one]] = (way, theirs[other], bool(likely))
    return found


class Slips(unittest.TestCase):
    def test_each_kind_of_slip_among_running_codes(self):
        mine = ["harbor museum", "old custtoms hall", "net lofr house", "peir gallery", "tolsry musum"]
        wanted = {value: (venue, True) for value, venue in zip(mine, VENUES, strict=True)}
        self.assertEqual(slips(mine, VENUES + CODES), wanted)

    def test_codes_in_which_letters_and_digits_mix_are_never_taken_unseen(self):
        mine = ["n3blaa", "n917dlx", "2ndfloorhal", "peir gallery"]
        theirs = ["n3blab", "n917dly", "2ndfloorhall", "pier gallery", *CODES]
        found = slips(mine, theirs)
        self.assertEqual(
            {value: likely for value, (_, likely) in found.items()},
            {"n3blaa": False, "n917dlx": False, "2ndfloorhal": False, "peir gallery": True},
        )

    def test_two_slips_in_a_short_name_are_not_taken_unseen(self):
        self.assertEqual(slips(["hrbr hall"], ["harbor hall"]), {"hrbr hall": ("harbor hall", False)})

    def test_where_names_are_alike_by_chance_none_is_taken_unseen(self):
        syllables = ("bar", "bal", "ber", "bel", "gar", "gal", "ger", "gel", "mar", "mal", "mer", "mel")
        names = ["".join(parts) for parts in itertools.product(syllables, repeat=3)]
        random.Random(7).shuffle(names)
        known, unknown = names[:600], names[600:1200]
        found = slips(unknown, known)
        self.assertFalse(any(likely for _, likely in found.values()))
        # The same slips are taken where names lie far apart.
        apart = sorted(names)[::97]
        wrong = {name[:4] + "x" + name[5:]: (name, True) for name in apart}
        self.assertEqual(slips(list(wrong), apart), wrong)

    def test_a_running_code_is_not_a_slip_of_its_neighbour(self):
        mine = [f"lcm{number:05d}" for number in range(1, 2000, 2)]
        self.assertEqual(slips(mine, CODES), {})

    def test_of_two_equally_near_values_none_is_meant(self):
        self.assertEqual(slips(["marten holm"], ["martin holm", "marton holm"]), {})

    def test_digits_differ_only_where_it_is_asked_for_and_are_never_likely(self):
        self.assertEqual(slips(["hm-49971"], ["hm-49961", "zz-11111"]), {})
        found = slips(["hm-49971"], ["hm-49961", "zz-11111"], digits=True)
        self.assertEqual(found, {"hm-49971": ("hm-49961", False)})

    def test_short_values_have_no_partner(self):
        self.assertEqual(slips(["bob", "ab"], ["bab", "a"]), {})

    def test_long_values_are_found_by_a_word(self):
        right = "the collected drawings of the lantern coast survey office, third part"
        wrong = right.replace("drawings", "drawigns")
        self.assertEqual(slips([wrong], [right, *VENUES]), {wrong: (right, True)})
        self.assertEqual(slips(["the long gallery, room 14"], ["the long gallery, room 15"]), {})

    def test_another_letter_of_a_code_is_never_taken_unseen(self):
        self.assertEqual(slips(["lcn04882"], ["lcm04882"]), {"lcn04882": ("lcm04882", False)})

    @given(
        st.lists(st.text("abcde é", min_size=5, max_size=12), min_size=1, max_size=12, unique=True),
        st.lists(st.text("abcde é", min_size=5, max_size=12), min_size=1, max_size=12, unique=True),
    )
    def test_the_one_value_a_slip_away_is_found_whatever_the_others_are(self, mine, theirs):
        found = slips(mine, theirs)
        for value in mine:
            distances = sorted((OSA.distance(value, other), other) for other in theirs)
            nearest = distances[0][0]
            least = [other for distance, other in distances if distance == nearest]
            if nearest == 1 and len(least) == 1:
                self.assertEqual(found[value][0], least[0])
            elif nearest > 2 or len(least) > 1 or nearest == 0:
                self.assertNotIn(value, found)


class Fingerprints(unittest.TestCase):
    @given(st.lists(st.text(max_size=8), max_size=6))
    def test_what_is_left_has_the_fingerprint_of_a_text_without_these_letters(self, values):
        letters = Letters.of(texts(values))
        every = letters.points >= 0
        for keyed, count in ((letters.without_one(every), 1), (letters.without_two(every), 2)):
            rest = []
            for number, value in enumerate(values):
                for first in range(len(value)):
                    left = value[:first] + value[first + 1 :]
                    if count == 1:
                        rest.append((number, left))
                    else:
                        rest += [(number, left[:at] + left[at + 1 :]) for at in range(first, len(left))]
            keys = Letters.of(texts([text for _, text in rest])).whole.tolist()
            wanted = sorted(zip([number for number, _ in rest], keys, strict=True))
            self.assertEqual(sorted(zip(keyed.owner.tolist(), keyed.keys.tolist(), strict=True)), wanted)


class Names(unittest.TestCase):
    THEIRS = (
        "agnes trewin",
        "harbour museum",
        "museum of glass",
        "lantern coast museums",
        "pier gallery annex",
    )

    def test_each_way_to_name_the_same(self):
        self.assertEqual(
            names(["trewin agnes", "a trewin", "harb. mus.", "glass museum", "hrbr museum"], self.THEIRS),
            {
                "trewin agnes": ("order", "agnes trewin", True),
                "a trewin": ("shorter", "agnes trewin", True),
                "harb. mus.": ("shorter", "harbour museum", True),
                "glass museum": ("order", "museum of glass", True),
                "hrbr museum": ("shorter", "harbour museum", True),
            },
        )
        self.assertEqual(
            names(["lcm", "pier gallery"], self.THEIRS),
            {
                "lcm": ("acronym", "lantern coast museums", False),
                "pier gallery": ("part", "pier gallery annex", False),
            },
        )

    def test_the_short_name_may_stand_on_either_side(self):
        found = names(["agnes trewin"], ["a. trewin"])
        self.assertEqual(found, {"agnes trewin": ("shorter", "a. trewin", True)})
        found = names(["lantern coast museums"], ["lcm"])
        self.assertEqual(found, {"lantern coast museums": ("acronym", "lcm", False)})

    def test_what_could_mean_several_means_none(self):
        self.assertEqual(names(["a. trewin"], ["agnes trewin", "arthur trewin"]), {})
        self.assertEqual(names(["harbour"], ["harbour museum", "harbour hall"]), {})

    def test_numbers_are_never_short_for_others(self):
        self.assertEqual(names(["gallery 1", "room 4 east"], ["gallery 12", "room 45 east"]), {})

    def test_nothing_is_like_nothing(self):
        self.assertEqual(names(["", "...", "of the"], ["", "-", "harbour"]), {})
        self.assertEqual(slips([], VENUES), {})
        self.assertEqual(slips(VENUES, []), {})
        self.assertEqual(names([], VENUES), {})


if __name__ == "__main__":
    unittest.main()
