"""What holds of a hand-off wherever it goes: generated flows, chains, the demo, and what differs."""

import itertools
import random

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.errors import SourceError, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import load
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.beside import BesideSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.handoff.places import session_at, target_at
from keen_trellis.handoff.proving import prove
from keen_trellis.handoff.running import HandOff, NotHandedOff
from tests import demo_data
from tests.flow.test_through_readers import CONTENTS, FULL, joins, on_a_rail, sources
from tests.flow.test_to_sql import is_long, odd_rows


class Place:
    """A place with tables, and flows of them. address: where it is.  every: one of so many of the generated
    flows is run, and all in a long run.
    """

    address = ""
    every = 1

    @classmethod
    def begin(cls):
        """Have the sources that flows read."""
        cls.sources = sources()
        cls.library = cls.sources.library
        cls.numbers = itertools.count()

    def table(self, rows):
        """The settings of a source for a table there."""
        raise NotImplementedError

    def here(self, rows):
        """The settings of a source for a file."""
        return self.sources.settings("a.csv", rows)

    def session(self, task):
        """A session there."""
        return session_at(self.address, task)

    def handoff(self, flow, **more):
        return HandOff(flow, Runner(KINDS, self.library), target_at(self.address), task=Task(), **more)

    def proven(self, flow, buckets=4096, task=None, **more):
        """The proof of a flow, of so many buckets."""
        task = task or Task()
        handoff = self.handoff(flow, **more)
        with self.session(task) as there:
            return prove(handoff, there, buckets, task)

    @staticmethod
    def joined(left, right, **more):
        flow, one = edits.add_source(Flow(), left, "Left")
        flow, other = edits.add_source(flow, right, "Right")
        return edits.add_step(flow, "join", "Knot", [Input(one), Input(other)], JoinSettings(**more))


def in_turn(cases, every):
    """Some of the cases in an ordinary run, all in a long one."""
    return [case for number, case in enumerate(cases) if is_long() or number % every == 0]


class Handed(Place):
    """The cases themselves."""

    def test_each_kind_and_join(self):
        tables = [self.table(rows) for rows in (*CONTENTS.values(), FULL, *map(odd_rows, range(3)))]
        files = [self.here(rows) for rows in (FULL, *map(odd_rows, range(3, 5)))]
        pairs = [
            (tables, tables),
            (tables, files),
            (files, tables),
        ]
        run = 0
        one = JoinSettings(links=(LinkSettings("k", "k"),), type="full-outer", take="one")
        cases = [*on_a_rail(), *joins(), ("join", one), ("beside", BesideSettings())]
        for number, (kind, settings) in enumerate(in_turn(cases, self.every)):
            chosen = random.Random(number)
            left, right = (chosen.choice(some) for some in pairs[number % len(pairs)])
            flow, one = edits.add_source(Flow(), left, "Rail 0")
            flow, other = edits.add_source(flow, right, "Rail 1")
            inputs = [Input(one), Input(other)][: len(KINDS.find(kind).input_names)]
            flow, _ = edits.add_step(flow, kind, "Made", inputs, settings)
            with self.subTest(kind=kind, settings=settings):
                try:
                    for buckets in (4096, 1024):
                        proof = self.proven(flow, buckets)
                        self.assertTrue(proof.equal, f"{proof.statement} {proof.differs}")
                    run += 1
                except NotHandedOff:
                    continue
                except TrellisError as error:
                    # What cannot be computed here is an error here, too.
                    with self.assertRaises(TrellisError, msg=str(error)):
                        runner = Runner(KINDS, self.library)
                        for step in flow.steps:
                            runner.result(flow, step.id).rows.take(
                                None, runner.result(flow, step.id).rows.names
                            )
        self.assertGreater(run, 60 // self.every)

    def test_a_chain_on_different_keys(self):
        rows = [(number % 97, f"LCM.{number % 61:03}", None, None) for number in range(2000)]
        others = [(number, f" lcm.{number:03}", None, None) for number in range(120)]
        flow, first = edits.add_source(Flow(), self.table(rows), "Loans")
        flow, second = edits.add_source(flow, self.table(others), "Objects")
        flow, third = edits.add_source(flow, self.table(others), "Venues")
        prepared = LinkSettings("t", "t", ("case", "outer-spaces"))
        flow, knot = edits.add_step(
            flow,
            "join",
            "By text",
            [Input(first), Input(second)],
            JoinSettings(links=(prepared,), type="left-outer"),
        )
        by_number = JoinSettings(links=(LinkSettings("k", "k"),), type="full-outer", take="last")
        flow, _ = edits.add_step(flow, "join", "By number", [Input(knot), Input(third)], by_number)
        proof = self.proven(flow, 512)
        self.assertTrue(proof.equal, proof.statement)
        taken = {entry.name: entry.rows for entry in proof.ran.sources}
        self.assertEqual(proof.restricted.remarks, [])
        # All partners of what was taken are in: none of the rows that were taken is without one.
        self.assertEqual([knot.there.left_unmatched for knot in proof.ran.knots], [0, 0])
        self.assertTrue(
            0 < taken["Loans"] < 1000 and 0 < taken["Objects"] < 60 and taken["Venues"] < 120, taken
        )

    def test_what_is_set_for_the_fields_of_a_source(self):
        settings = self.table(FULL)
        fields = (
            FieldSettings("t", rename="text"),
            FieldSettings("k", rename="t"),
            FieldSettings("d", left_out=True),
        )
        flow, one = edits.add_source(Flow(), msgspec.structs.replace(settings, fields=fields), "Loans")
        flow, _ = edits.insert_after(flow, Input(one), "sort", SortSettings((SortKeySettings("text"),)))
        self.assertTrue(self.proven(flow).equal)
        typed = msgspec.structs.replace(settings, fields=(FieldSettings("k", type="text"),))
        flow, _ = edits.add_source(Flow(), typed, "Loans")
        with self.assertRaisesRegex(SourceError, "“k” is read by a type or corrections"):
            self.proven(flow)

    def test_where_it_is_not_complete_is_said(self):
        rows = [(number % 7, f"x{number % 5}", None, None) for number in range(50)]
        flow, one = edits.add_source(Flow(), self.table(rows), "Loans")
        flow, other = edits.add_source(flow, self.table(rows), "Objects")
        join = JoinSettings(links=(LinkSettings("k", "k"),), type="inner")
        flow, knot = edits.add_step(flow, "join", "First", [Input(one), Input(other)], join)
        again = JoinSettings(links=(LinkSettings("t", "t"),), type="inner")
        flow, last = edits.add_step(flow, "join", "Second", [Input(knot), Input(other)], again)
        proof = self.proven(flow, 2048)
        self.assertTrue(proof.equal, proof.statement)
        self.assertIn("At Second rows were chosen by other values", proof.restricted.remarks[0])
        expression = JoinSettings(links=(LinkSettings("k + 1", "k", left_is_expression=True),), type="inner")
        flow, _ = edits.add_step(flow, "join", "Third", [Input(last), Input(other)], expression)
        self.assertIn("At Third no link", self.proven(flow, 2048).restricted.remarks[1])

    def test_the_demo(self):
        for path in demo_data.folder().glob("*.trellis"):
            try:
                proof = self.proven(load(path, KINDS))
            except NotHandedOff:
                continue
            with self.subTest(path.stem):
                self.assertTrue(proof.equal, proof.statement)

    def test_a_difference_is_found_with_the_step_where_it_begins(self):
        flow, one = edits.add_source(
            Flow(), self.table([(n, f"x{n}", None, None) for n in range(9)]), "Loans"
        )
        flow, made = edits.insert_after(
            flow, Input(one), "compute", ComputeSettings(field="n", expression="k + 1")
        )
        filled = FilterSettings(conditions=(ConditionSettings("n", "filled"),))
        flow, _ = edits.insert_after(flow, Input(made), "filter", filled)
        handoff = self.handoff(flow)
        part = next(part for part in handoff.query.parts if part.planned.step.id == made)
        select = part.select
        # As if the server computed it otherwise.
        for entry in list(select.expressions):
            if entry.alias_or_name == "n":
                entry.replace(exp.cast(exp.Literal.number(2), "BIGINT").as_("n", quoted=True))
        with self.session(Task()) as there:
            proof = prove(handoff, there, 4096, Task())
        self.assertFalse(proof.equal)
        self.assertEqual(proof.differs.step, made)
        self.assertIn("begin to differ at", proof.statement)
        self.assertEqual(len(proof.differs.only_there), 5)
        self.assertEqual(proof.differs.only_there[0][-1], "2")
