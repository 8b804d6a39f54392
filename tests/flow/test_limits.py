"""Flows that multiply, that are deep and that rejoin, and numbers in settings that are odd."""

import json
import time
import unittest
from itertools import pairwise

import msgspec
import xlsxwriter

from keen_trellis.core.errors import TrellisError
from keen_trellis.flow.steps import KINDS
from tests.test_cli_flows import FlowCase, output, step, text

_ODD = (
    *(0, -1, 1, 7, 2**31, 3_000_000_000, 2**63 - 1, 2**63, -(2**63), 10**30),
    1e30,
    -1.5,
    1.5,
    "1",
    None,
    True,
)


def numbers_in(info, where=()):
    """Where a type of settings has a number."""
    if isinstance(info, msgspec.inspect.IntType | msgspec.inspect.FloatType):
        yield where
    elif isinstance(info, msgspec.inspect.UnionType):
        for part in info.types:
            yield from numbers_in(part, where)
    elif isinstance(info, msgspec.inspect.StructType):
        for field in info.fields:
            yield from numbers_in(field.type, (*where, field.encode_name))
    elif isinstance(info, msgspec.inspect.VarTupleType | msgspec.inspect.ListType):
        yield from numbers_in(info.item_type, where)


class Multiplying(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue,crates\n" + "Pier,1\nMill,2\n" * 4)

    def refused(self, said, *steps):
        """A flow is refused with exit code 7, and soon: none of its sizes is found out by making it."""
        began = time.process_time()
        self.assertIn(said, self.run_flow(text("loans"), *steps, code=7).output)
        self.assertLess(time.process_time() - began, 60)

    def doubled(self, kind, count, **settings):
        """A step of two inputs on itself, again and again."""
        names = ["loans", *(f"s{number}" for number in range(count))]
        return [step(to, kind, [of, of], **settings) for of, to in pairwise(names)]

    def test_unions_of_a_rail_with_itself(self):
        for count in (30, 300):
            self.refused(
                "The union would have 67,108,864 rows; the limit is 50,000,000", *self.doubled("union", count)
            )

    def test_few_of_them_are_computed(self):
        self.run_flow(text("loans"), *self.doubled("union", 12), output("s11"))
        self.assertEqual(len(self.written()), 8 * 2**12 + 1)

    def test_fields_that_double(self):
        links = [{"left": "venue", "right": "venue"}]
        doubled = self.doubled("join", 16, type="left-semi", links=links)
        self.run_flow(text("loans"), *doubled)
        doubled = self.doubled("join", 16, type="left-outer", take="first", links=links, both_links=True)
        self.refused("The join would have 16,384 fields; the limit is 10,000", *doubled)

    def test_a_link_field_is_read_once_at_each_of_many_knots(self):
        links = [{"left": "venue", "right": "venue"}]
        for kind in ("inner", "left-outer"):
            knots = self.doubled("join", 30, links=links, type=kind, take="first", bring=[])
            self.run_flow(text("loans"), *knots, output("s29"))

    def test_fields_of_both_sides_are_read_once_at_each_of_many_knots(self):
        self.write("loans.csv", "venue,crates\nPier,1\n,2\nQuay,3\n")
        links = [{"left": "venue", "right": "venue"}]
        for settings in (
            {"type": "right-outer", "bring": []},
            {"type": "left-outer", "merge": [{"name": "crates"}], "bring": ["crates"]},
        ):
            with self.subTest(settings):
                knots = self.doubled("join", 24, links=links, take="first", **settings)
                self.run_flow(text("loans"), *knots, output("s23"))

    def test_pairs_that_multiply(self):
        links = [{"left": "venue", "right": "venue"}]
        keep = {"keep": ["venue"], "bring": []}
        self.refused(
            "rows; the limit is 50,000,000", *self.doubled("join", 9, type="inner", links=links, **keep)
        )

    def test_texts_that_double(self):
        names = ["venue", *(f"t{number}" for number in range(40))]
        pairs = list(pairwise(names))
        inputs = ["loans", *names[1:]]
        for of, settings in (
            ("compute", lambda one, to: {"field": to, "expression": f"{one} || {one}"}),
            ("compute", lambda one, to: {"field": to, "expression": f"REPLACE({one}, 'i', 'iiii')"}),
            ("combine", lambda one, to: {"of": [one, one], "into": to, "between": ", "}),
        ):
            made = [step(to, of, [inputs[n]], **settings(one, to)) for n, (one, to) in enumerate(pairs[:26])]
            self.refused("A text would have", *made, output(inputs[26]))
        grow = [{"how": "replace", "what": "i", "by": "i" * 99}] * 6
        self.refused("A text would have", step("m", "mend-text", ["loans"], fields=["venue"], actions=grow))

    def test_a_long_rail(self):
        names = ["loans", *(f"s{number}" for number in range(400))]
        sorts = [step(to, "sort", [of], keys=[{"of": "crates"}]) for of, to in pairwise(names)]
        self.run_flow(text("loans"), *sorts[:60], output("s59"))
        self.call("look", self.flow(text("loans"), *sorts))
        self.assertEqual(len(self.written()), 9)


class OddNumbers(FlowCase):
    def test_every_number_that_there_is_is_tried(self):
        found = {
            (kind.name, *where)
            for kind in KINDS.all()
            for where in numbers_in(msgspec.inspect.type_info(kind.settings_type))
        }
        layout = {("source", "layout", name) for name in ("header", "header_rows", "first", "last")}
        layout.add(("source", "dialect", "begins"))
        layout.add(("source", "sample", "parts"))  # also on a server, in tests/sources/test_samples.py
        links = [("join", "links"), ("join", "rungs", "links"), ("blend", "others", "links")]
        likeness = {(*where, "like", "at_least") for where in links}
        self.assertEqual(found, layout | likeness | {("mend-text", "actions", "number"), ("first", "count")})

    def test_they_are_used_or_refused(self):
        self.write("loans.csv", "venue,crates\nPier,1\nMill,2\n")
        with xlsxwriter.Workbook(self.folder / "loans.xlsx") as book:
            book.add_worksheet("Loans").write_row(0, 0, ["venue", "crates"])
        ways = ("part", "pad", "trim", "replace")
        for number in _ODD:
            for name in ("header", "header_rows", "first", "last"):
                source = step("loans", "source", reader="text", path="loans.csv", layout={name: number})
                self._runs_or_is_refused(source)
                source = step(
                    "loans", "source", reader="text", path="loans.csv", dialect={"begins": [number]}
                )
                self._runs_or_is_refused(source)
                settings = {"path": "loans.xlsx", "table": "Loans", "layout": {name: number}}
                self._runs_or_is_refused(step("loans", "source", reader="workbook", **settings))
            sample = {"by": "venue", "parts": number}
            self._runs_or_is_refused(step("loans", "source", reader="text", path="loans.csv", sample=sample))
            first = step("f", "first", ["loans"], count=number, by=[{"of": "crates"}], with_ties=True)
            self._runs_or_is_refused(text("loans"), first, output("f"))
            self._a_likeness_runs_or_is_refused(number)
            for how in ways:
                action = {"how": how, "what": "i", "number": number}
                mended = step("m", "mend-text", ["loans"], fields=["venue"], actions=[action])
                self._runs_or_is_refused(text("loans"), mended, output("m"))

    def _a_likeness_runs_or_is_refused(self, at_least):
        like = {"left": "venue", "right": "venue", "like": {"at_least": at_least}}
        equal = {"left": "venue", "right": "venue"}
        ladder = {"links": [equal], "rungs": [{"links": [like]}]}
        for settings in ({"links": [like]}, ladder):
            knot = step(
                "k", "join", ["loans", "loans"], type="left-outer", take="first", bring=[], **settings
            )
            self._runs_or_is_refused(text("loans"), knot, output("k"))
        blend = step("b", "blend", ["loans", "loans"], others=[{"links": [like], "summaries": []}])
        self._runs_or_is_refused(text("loans"), blend, output("b"))

    def _runs_or_is_refused(self, *steps):
        from click.testing import CliRunner

        from keen_trellis.cli import main

        result = CliRunner().invoke(main, ["run", str(self.flow(*steps)), "--replace"])
        with self.subTest(json.dumps(steps[-1])):
            self.assertIn(result.exit_code, (0, 4, 6, 7), result.output)
            self.assertTrue(
                result.exception is None or isinstance(result.exception, SystemExit | TrellisError)
            )

    def test_a_setting_that_an_action_does_not_use_is_refused(self):
        self.write("loans.csv", "venue\nPier\n")
        for action, said in (
            ({"how": "trim", "number": 3}, "does not use number"),
            ({"how": "pad", "what": "0", "number": 9, "by": "x"}, "does not use by"),
            ({"how": "part", "what": "i", "number": 3_000_000_000}, "up to 10,000"),
        ):
            mended = step("m", "mend-text", ["loans"], fields=["venue"], actions=[action])
            self.assertIn(said, self.run_flow(text("loans"), mended, code=7).output)


if __name__ == "__main__":
    unittest.main()
