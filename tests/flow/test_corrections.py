"""Lists of corrections: their file, who changes it at once, and links that use them."""

import csv
import subprocess
import sys
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import SourceError
from keen_trellis.flow import corrections
from keen_trellis.flow.corrections import (
    Correction,
    add,
    corrections_in,
    listed_pairs,
    remove,
    reread,
    with_list,
)
from keen_trellis.flow.file_format import dump, parse
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import flow_fingerprint
from keen_trellis.flow.steps import KINDS


class ListCase(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.path = self.folder / "makers.corrections.csv"

    def put(self, text: str, **how) -> None:
        self.path.write_text(text, how.get("encoding", "utf-8"))

    def pairs(self):
        return [(entry.read, entry.meant) for entry in corrections_in(self.path)]

    def refused(self, said: str):
        with self.assertRaisesRegex(SourceError, said):
            corrections_in(self.path)


class TheFile(ListCase):
    def test_it_is_made_with_who_said_so_and_when(self):
        add(self.path, corrections.said_now([("Olm, A.", "Anna Olm")]))
        (entry,) = corrections_in(self.path)
        self.assertEqual((entry.read, entry.meant), ("Olm, A.", "Anna Olm"))
        self.assertRegex(entry.on, r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ$")
        self.assertTrue(entry.by)
        with self.path.open(newline="") as file:
            self.assertEqual(next(csv.reader(file)), ["read", "meant", "by", "on"])

    def test_a_value_is_said_anew_in_its_place_and_columns_of_others_stay(self):
        self.put("meant;note;read\nAnna Olm;she signs so;Olm\nBo Lind;;Lind\n")
        add(self.path, [Correction("Olm", "Anna M. Olm", "Ada"), Correction("Bo", "Bo Lind")])
        self.assertEqual(
            self.path.read_text().splitlines(),
            ["meant;note;read", "Anna M. Olm;she signs so;Olm", "Bo Lind;;Lind", "Bo Lind;;Bo"],
        )
        self.assertEqual(remove(self.path, ["Lind", "nobody"]), 1)
        self.assertEqual(self.pairs(), [("Olm", "Anna M. Olm"), ("Bo", "Bo Lind")])

    def test_how_a_spreadsheet_saves_it(self):
        self.put("Read,Meant\r\n\r\n Pier ,Pier House\r\n", encoding="utf-8-sig")
        self.assertEqual(self.pairs(), [(" Pier ", "Pier House")])
        add(self.path, [Correction("Kai", "Quay")])
        self.assertTrue(self.path.read_bytes().startswith(b"\xef\xbb\xbf"))

    def test_what_is_no_list_is_refused(self):
        for text, said in (
            ("", "not a list of corrections"),
            ("from,to\na,b\n", "not a list of corrections"),
            ("read,meant\na,\n", "Row 2 has nothing under “meant”"),
            ("read,meant\na,b\nc,d\na,e\n", "It reads “a” as “b” in row 2, and as “e” in row 4"),
        ):
            self.put(text)
            self.refused(said)
        self.path.write_bytes("read,meant\nß,ss\n".encode("latin-1"))
        self.refused("not UTF-8")
        self.path.unlink()
        self.refused("no such file")
        self.path.mkdir()
        self.refused("not an ordinary file")

    def test_nothing_is_lost_where_it_cannot_be_written(self):
        self.put("read,meant\na,b\n")
        before = self.path.read_bytes()
        full = mock.patch.object(corrections, "whole_file", side_effect=OSError(28, "No space left"))
        with full, self.assertRaisesRegex(SourceError, "cannot be written: No space left"):
            add(self.path, [Correction("c", "d")])
        for entry in (Correction("", "x"), Correction("x", " "), Correction("x", "x")):
            with self.assertRaises(SourceError):
                add(self.path, [Correction("c", "d"), entry])
        self.put("read,meant\na,b\na,c\n")
        with self.assertRaisesRegex(SourceError, "It reads “a”"):
            add(self.path, [Correction("c", "d")])
        self.put("read,meant\na,b\n")
        self.assertEqual(self.path.read_bytes(), before)

    def test_two_who_add_at_once_lose_nothing(self):
        code = "from tests.flow.test_corrections import add_some; add_some(*__import__('sys').argv[1:])"
        started = [subprocess.Popen([sys.executable, "-c", code, self.path, str(n)]) for n in range(3)]
        self.assertEqual([process.wait() for process in started], [0] * 3)
        self.assertEqual(len(corrections_in(self.path)), 30)

    @given(
        st.dictionaries(
            st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1, max_size=6).filter(
                str.strip
            ),
            st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1, max_size=6).filter(
                str.strip
            ),
            max_size=6,
        )
    )
    def test_whatever_is_written_is_read_back(self, pairs):
        pairs = {one: other for one, other in pairs.items() if one != other}
        self.path.unlink(missing_ok=True)
        add(self.path, [Correction(*pair, "Ada, “the” keeper", "") for pair in pairs.items()])
        self.assertEqual(self.pairs(), list(pairs.items()))


def add_some(path: str, number: str) -> None:
    """Add to a list one by one, as another process does it."""
    for entry in range(10):
        add(path, [Correction(f"{number}-{entry}", "x")])


class InAFlow(ListCase):
    def setUp(self):
        super().setUp()
        self.put("read,meant\nKai,Quay\n")

    def test_the_flow_names_it_and_keeps_none_of_its_pairs(self):
        flow, list_id = with_list(Flow(), str(self.path))
        self.assertEqual((list_id, flow.correction_list(list_id).pairs), ("makers", (("Kai", "Quay"),)))
        self.assertEqual(with_list(flow, str(self.path)), (flow, list_id))
        text = dump(flow, self.folder, KINDS)
        self.assertIn(b'{"id": "makers", "path": "makers.corrections.csv"}', text)
        self.assertNotIn(b"Quay", text)
        self.assertEqual(parse(text, self.folder, KINDS), flow)

    def test_what_it_does_not_know_is_kept(self):
        text = b'{"format": "keen-trellis/1", "lists": [{"id": "m", "path": "x.csv", "since": 3}]}'
        flow = parse(text, self.folder, KINDS)
        self.assertIn(b'"since": 3', dump(flow, self.folder, KINDS))
        self.assertIn("no such file", flow.lists[0].error)

    def test_a_link_says_first_what_holds(self):
        flow, one = with_list(Flow(), str(self.path))
        other = self.folder / "more.corrections.csv"
        other.write_text("read,meant\nKai,Wharf\nPir,Pier\n")
        flow, two = with_list(flow, str(other))
        pairs = dict(listed_pairs(flow, [one, two], [("Pir", "Pierce")]))
        self.assertEqual(pairs, {"Pir": "Pierce", "Kai": "Quay"})
        with self.assertRaisesRegex(SourceError, "“gone” is not in this flow"):
            listed_pairs(flow, ["gone"])

    def test_another_content_is_another_flow(self):
        flow, list_id = with_list(Flow(), str(self.path))
        before = flow_fingerprint(flow, KINDS)
        add(self.path, [Correction("Pir", "Pier")])
        now = reread(flow)
        self.assertNotEqual(flow_fingerprint(now, KINDS), before)
        self.assertEqual(len(now.correction_list(list_id).pairs), 2)
        self.path.unlink()
        with self.assertRaisesRegex(SourceError, "“makers” cannot be used: There is no such file"):
            listed_pairs(reread(flow), [list_id])
