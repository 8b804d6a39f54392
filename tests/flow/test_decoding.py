"""Records from JSON, asked for by several threads at once."""

import subprocess
import sys
import unittest

import msgspec

from keen_trellis.flow.decoding import converted, decoded

# Types of which none was ever made, each asked for by all threads at once.
_AT_ONCE = """
import sys, threading
from concurrent.futures import ThreadPoolExecutor
import msgspec
from keen_trellis.flow.decoding import decoded
sys.setswitchinterval(1e-6)
for number in range(100):
    inner = msgspec.defstruct(f"Inner{number}", [(f"f{k}", "int | None", 0) for k in range(20)])
    kind = msgspec.defstruct(f"Outer{number}", [("one", inner), ("more", tuple[inner, ...], ())])
    gate = threading.Barrier(4)
    def work(_):
        gate.wait()
        return decoded(b'{"one": {"f0": 3}, "more": [{"f1": 2}]}', kind).one.f0
    with ThreadPoolExecutor(4) as pool:
        assert list(pool.map(work, range(4))) == [3] * 4
"""


class Record(msgspec.Struct):
    name: str
    rows: tuple[int, ...] = ()


class Decoding(unittest.TestCase):
    def test_json_and_plain_values(self):
        self.assertEqual(decoded(b'{"name": "Loans", "rows": [1]}', Record), Record("Loans", (1,)))
        self.assertEqual(converted({"name": "Loans"}, Record), Record("Loans"))
        self.assertEqual(decoded(msgspec.Raw(b"[1, 2]"), tuple[int, ...]), (1, 2))
        with self.assertRaises(msgspec.ValidationError):
            decoded(b'{"name": 3}', Record)
        with self.assertRaises(msgspec.DecodeError):
            decoded(b"{", Record)

    def test_several_threads_that_are_the_first(self):
        done = subprocess.run([sys.executable, "-c", _AT_ONCE], capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stderr), (0, ""))


if __name__ == "__main__":
    unittest.main()
