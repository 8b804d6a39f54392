"""Large tables of a real PostgreSQL server that are looked at by a sample, and not fetched."""

import json
import tempfile
import unittest
from itertools import count
from pathlib import Path

import msgspec
import pyarrow as pa
from click.testing import CliRunner

from keen_trellis.cli import main
from keen_trellis.core.errors import FlowFileError, SourceError
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import save
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import Sampling, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.handoff.places import session_at, target_at
from keen_trellis.handoff.proving import prove
from keen_trellis.handoff.running import HandOff
from keen_trellis.session.sampling import with_all_rows
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests import demo_data, postgres

_numbers = count()
_LOANS = [(n, f"LCM.{n % 400}", f"{n % 90}.5") for n in range(4000)]
_OBJECTS = [(n, f" lcm.{n}") for n in range(500)]


class Samples(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.library = Library(Cache(self.folder / "cache"))
        self.server = postgres.server()
        self.address = self.server.address()
        secrets.remember(self.address, postgres.PASSWORD)
        number = next(_numbers)
        key = "id bigint PRIMARY KEY, code text"
        self.loans = self.server.put(f"sampled loans {number}", _LOANS, f"{key}, worth numeric(12, 3)")
        self.objects = self.server.put(f"sampled objects {number}", _OBJECTS, key)

    def settings(self, table, parts=256, by="code"):
        return SourceSettings("database", self.address, table, sample=Sampling(by, parts))

    def flow(self, parts=256):
        flow, left = edits.add_source(Flow(), self.settings(self.loans, parts), "Loans")
        flow, right = edits.add_source(flow, self.settings(self.objects, parts), "Objects")
        link = LinkSettings("code", "code", ("case", "outer-spaces"))
        join = JoinSettings(links=(link,), type="full-outer")
        flow, knot = edits.add_join(flow, Input(left), Input(right), join)
        path = str(self.folder / "out.csv")
        return edits.add_output(flow, Input(knot), OutputSettings("text", path))[0], knot

    def test_samples_of_two_tables_have_the_same_values(self):
        flow, knot = self.flow()
        counts = Runner(KINDS, self.library).result(flow, knot).match.counts
        self.assertTrue(0 < counts.left_rows < 1000 and 0 < counts.right_rows < 100, counts)
        self.assertEqual(counts.left_unmatched, 0)
        # Of all objects a hundred have no loan; of those in the sample not all have one either.
        self.assertTrue(0 < counts.right_unmatched < 100, counts)

    def test_what_is_said_of_it_and_the_types_that_it_has(self):
        snapshot = self.library.get(self.settings(self.loans), Task())
        self.assertTrue(snapshot.is_sample)
        (remark,) = snapshot.remarks
        said = f"a sample: {snapshot.table.rows:,} of 4,000 rows, 256 of 4,096 parts by code"
        self.assertEqual(remark.text, said)
        # As declared: rows that are not in the sample may have more places.
        self.assertEqual(snapshot.table.field("worth").arrow_type, pa.decimal128(12, 3))
        whole = self.library.get(self.settings(self.loans, 4096), Task())
        self.assertEqual(whole.table.rows, 4000)
        self.assertFalse(
            self.library.get(SourceSettings("database", self.address, self.loans), Task()).is_sample
        )

    def test_what_cannot_be_sampled(self):
        with self.assertRaisesRegex(SourceError, "no field “nothing” to take a sample by"):
            self.library.get(self.settings(self.loans, by="nothing"), Task())
        for sample in (
            Sampling("code", 5000),
            Sampling("", 5),
            Sampling("code", 0),
            Sampling("code", -1),
            Sampling("code", 2**70),
        ):
            with self.assertRaisesRegex(FlowFileError, "takes 1 to 4,096 parts by a field"):
                self.library.get(msgspec.structs.replace(self.settings(self.loans), sample=sample), Task())
        query = msgspec.structs.replace(self.settings(""), query="SELECT 1 AS code")
        with self.assertRaisesRegex(SourceError, "it is read by a query"):
            self.library.get(query, Task())
        registry = str(demo_data.folder() / "registry.sqlite")
        settings = SourceSettings("sqlite", registry, "objects", sample=Sampling("accession", 5))
        with self.assertRaisesRegex(SourceError, "“sample.by” and “sample.parts” are set for it"):
            self.library.get(settings, Task())

    def test_outputs_of_a_sample_are_held_back(self):
        flow, _ = self.flow()
        path = self.folder / "flow.trellis"
        save(flow, path, KINDS)
        words = ["run", str(path), "--allow-host", "127.0.0.1", "--allow-write", str(self.folder)]
        found = CliRunner().invoke(main, words)
        self.assertEqual(found.exit_code, 3, found.output)
        self.assertIn("a sample:", found.output)
        self.assertFalse((self.folder / "out.csv").exists())
        CliRunner().invoke(main, [*words, "--despite-guards"])
        self.assertTrue((self.folder / "out.csv").exists())

    def test_a_hand_off_takes_all_rows_all_the_same(self):
        flow, knot = self.flow(64)
        handoff = HandOff(flow, Runner(KINDS, self.library), target_at(self.address), task=Task())
        with session_at(self.address, Task()) as there:
            ran, _ = handoff.run(there, Task())
        (there_,) = ran.knots
        self.assertEqual(there_.there.left_rows, 4000)
        whole = Runner(KINDS, self.library).result(with_all_rows(flow), knot).match.counts
        self.assertEqual(there_.there.pairs, whole.pairs)
        with session_at(self.address, Task()) as there:
            self.assertTrue(prove(handoff, there, 100, Task()).equal)

    def test_look(self):
        source = f"{self.address}#{self.loans}"
        found = CliRunner().invoke(main, ["look", source, "--sample", "code=256", "--json"])
        self.assertEqual(found.exit_code, 0, found.output)
        looked = json.loads(found.stdout)
        self.assertTrue(0 < looked["rows"] < 1000)
        self.assertIn("of 4,000 rows", looked["notes"][0]["text"])
        for words in ([self.address], [self.address, "--query", "SELECT 1"], ["some.trellis"]):
            found = CliRunner().invoke(main, ["look", *words, "--sample", "code=256"])
            self.assertEqual(found.exit_code, 2, found.output)
            self.assertIn("--sample is of a table", found.output)
        for wrong in ("code", "code=0", "=5", "code=x", "code=9999", "code=00000000111111"):
            self.assertEqual(CliRunner().invoke(main, ["look", source, "--sample", wrong]).exit_code, 2)


if __name__ == "__main__":
    unittest.main()
