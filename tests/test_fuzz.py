"""Flows that nobody would write: settings filled by their types with odd values, and flows with wrong bytes.
Each runs, or is refused with an error of ours, in time and in bounded memory. With --long, thousands of them.
"""

import random
import signal
import unittest
from pathlib import Path

import msgspec
from hypothesis import settings

from keen_trellis.flow.run_log import log_path
from keen_trellis.flow.steps import KINDS
from tests.sources.damage import damaged
from tests.test_cli_flows import FlowCase, output, step, text

_SECONDS = 10
_MOST_MEMORY = 2 * 2**30
_CODES = {0, 2, 3, 4, 5, 6, 7}
_NAMES = ("venue", "crates", "day", "hall", "nothing", "")
_WORDS = (
    *("Pier", "1", "2026-01-02", '"venue" || 1', "venue = 'Pier'", "crates / 0", "CAST(venue AS DATE)"),
    *("least:crates", "greatest:", "every", "first", "one", "pair-off", "inner", "full-anti", "cross"),
    *("=", "<>", "text", "number", "date", "case", "spaces", "day", "month", "count", "sum", "rows=1.."),
)
_TEXTS = (
    *("x" * 5_000, "\0", "\ud7ff", "é\u0301", "[/x]", "<b>", "\x1b[31m", "A:B", "../../x", "none"),
    *(",", '"', "%", "(" * 300, "a:b", "1.5", "-"),
)
# What a member of this name could well be, so that some of what is made by chance gets far.
_LIKELY = {
    "type": (
        "inner",
        "left-outer",
        "right-outer",
        "full-outer",
        "left-anti",
        "full-anti",
        "left-semi",
        "text",
    ),
    "operator": ("=", "<>", "<", "<=", ">", ">="),
    "left": ("venue",),
    "right": ("venue", "hall"),
    "take": ("every", "first", "last", "least:hall", "pair-off"),
    "reader": ("text",),
    "writer": ("text", "xlsx"),
    "query": ("",),
    "of": ("venue", "crates", "day"),
    "function": ("sum", "count", "least", "greatest", "average", "first"),
    "expression": ("crates + 1", "venue", "UPPER(venue)", "crates > 1"),
    "ignore": (["case"], [], ["outer-spaces", "zeros"]),
    "compare_as": ("", "text"),
    "rows": ("main", "found", "group"),
    "guards": ([], ["rows=1.."], ["rows=last:2"]),
}
_NUMBERS = (0, 1, -1, 2, 7, 100, 2**31, 2**63, -(2**63), 10**30, 1.5, -0.0, 1e308)
_WRONG = (None, True, [], {}, "x", 3, [[]], {"of": 1})


class Filling:
    """Values of a type of settings, mostly such as they could be."""

    def __init__(self, chance):
        self._chance = chance

    def value(self, info, depth=0):
        chance = self._chance
        if chance.random() < 0.03 or depth > 5:
            return chance.choice(_WRONG)
        if isinstance(info, msgspec.inspect.StrType):
            return chance.choice(chance.choices((_NAMES, _WORDS, _TEXTS), (6, 3, 1))[0])
        if isinstance(info, msgspec.inspect.BoolType):
            return chance.random() < 0.5
        if isinstance(info, msgspec.inspect.IntType | msgspec.inspect.FloatType):
            return chance.choice(_NUMBERS)
        if isinstance(info, msgspec.inspect.UnionType):
            return self.value(chance.choice(info.types), depth)
        if isinstance(info, msgspec.inspect.LiteralType):
            return chance.choice(info.values)
        if isinstance(info, msgspec.inspect.StructType):
            return self.record(info, depth)
        if isinstance(info, msgspec.inspect.TupleType):
            return [self.value(part, depth + 1) for part in info.item_types]
        if isinstance(info, msgspec.inspect.VarTupleType | msgspec.inspect.ListType):
            return [self.value(info.item_type, depth + 1) for _ in range(chance.choice((0, 1, 1, 2, 3)))]
        if isinstance(info, msgspec.inspect.DictType):
            names = chance.sample(_NAMES, chance.choice((0, 1, 2)))
            return {name: self.value(info.value_type, depth + 1) for name in names}
        return None

    def member(self, field, depth):
        """What a member of a record is set to."""
        likely = _LIKELY.get(field.encode_name)
        if likely is not None and self._chance.random() < 0.85:
            return self._chance.choice(likely)
        return self.value(field.type, depth + 1)

    def record(self, info, depth=0):
        """A record: what must be there, and half of the rest."""
        return {
            field.encode_name: self.member(field, depth)
            for field in info.fields
            if field.required or self._chance.random() < 0.5
        }


def _in_memory(which: str) -> int:
    """The bytes of this process in memory: now (VmRSS), or at most (VmHWM)."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return int(next(line for line in lines if line.startswith(f"{which}:")).split()[1]) * 1024


class Fuzz(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue,crates,day\nPier,1,2026-01-02\nMill,2,\n,3,2026-02-03\nPier,,\n")
        self.write("halls.csv", "venue,hall\nPier,North\nQuay,South\n")
        before = signal.signal(signal.SIGALRM, self._too_long)
        self.addCleanup(signal.signal, signal.SIGALRM, before)
        self.addCleanup(signal.alarm, 0)
        Path("/proc/self/clear_refs").write_text("5")  # other tests of this process may have taken more
        self.before = _in_memory("VmRSS")

    def _too_long(self, *_):
        raise TimeoutError(f"not done after {_SECONDS} s")

    def check(self, case, *words):
        """A command ends by itself, soon, with a code of ours and no traceback."""
        from click.testing import CliRunner

        from keen_trellis.cli import main

        signal.alarm(_SECONDS)
        result = CliRunner().invoke(main, [str(word) for word in words])
        signal.alarm(0)
        if result.exit_code not in _CODES or not isinstance(result.exception, SystemExit | None):
            raise AssertionError(f"case {case}: {words}, code {result.exit_code}") from result.exception
        self.assertLess(_in_memory("VmHWM") - self.before, _MOST_MEMORY, f"case {case}")
        return result.exit_code

    def target(self, filled):
        return "x.xlsx" if filled.get("writer") == "xlsx" else "x.csv"

    def test_settings_filled_by_their_types(self):
        kinds = sorted(KINDS.all(), key=lambda kind: kind.name)
        ends = {}
        for case in range(3 * settings.default.max_examples):
            chance = random.Random(case)
            kind = kinds[case % len(kinds)]
            filled = Filling(chance).record(msgspec.inspect.type_info(kind.settings_type))
            if kind.name == "source":
                made = [step("x", "source", **{"reader": "text", **filled, "path": "loans.csv"}), output("x")]
            elif kind.name == "output":
                made = [
                    text("loans"),
                    step("x", "output", ["loans"], **{**filled, "path": self.target(filled)}),
                ]
            else:
                rails = ["loans", "halls"][: max(len(kind.input_names), 1)]
                made = [text("loans"), text("halls"), step("x", kind.name, rails, **filled), output("x")]
            code = self.check(case, "run", self.flow(*made), "--replace", "--to", self.folder / "to")
            ends.setdefault(kind.name, set()).add(code)
            if code == 0 and case % 3 == 0:
                self.check(case, "report", self.folder / "a.trellis", "--json")
            if code == 0 and case % 3 == 1:
                self.check(case, "follow", self.folder / "a.trellis", "Pier", "--json")
        # Some of what is made by chance works, or nothing would be tried.
        self.assertIn(0, set().union(*ends.values()))

    def test_flows_with_wrong_bytes(self):
        links = [{"left": "venue", "right": "venue", "ignore": ["case"]}]
        whole = self.flow(
            *(text("loans"), text("halls")),
            step("both", "join", ["loans", "halls"], type="left-outer", links=links),
            step("few", "filter", ["both"], conditions=[{"of": "crates", "is": ">", "value": "1"}]),
            output("few"),
        ).read_bytes()
        for case in range(2 * settings.default.max_examples):
            path = self.folder / "b.trellis"
            path.write_bytes(damaged(whole, random.Random(case)))
            running = ("run", path, "--replace", "--to", self.folder / "to")
            for command in (("look", path), running, ("compare", self.folder / "a.trellis", path)):
                self.check(case, *command)

    def test_logs_with_wrong_bytes(self):
        flow = self.flow(text("loans"), step("few", "filter", ["loans"], conditions=[]), output("few"))
        running = ("run", flow, "--replace", "--to", self.folder / "to")
        for _ in range(3):
            self.assertEqual(self.check("whole", *running), 0)
        log = log_path(flow)
        whole = log.read_bytes()
        for case in range(settings.default.max_examples):
            log.write_bytes(damaged(whole, random.Random(case)))
            for command in (("runs", flow), ("runs", flow, "--json"), running):
                self.check(case, *command)


if __name__ == "__main__":
    unittest.main()
