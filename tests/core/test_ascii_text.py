"""What is done to text on its bytes is what is done to it by characters."""

import unittest
from unittest import mock

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import ascii_text

TEXT = st.text(st.sampled_from(" \t\n\0aAzZ@[`{09\x7f-.ÄßÉ日"), max_size=6)


@st.composite
def columns(draw):
    """A column of text with blanks, which may be a part of a longer one."""
    whole = pa.array(draw(st.lists(st.none() | TEXT, max_size=12)), pa.large_string())
    first = draw(st.integers(0, len(whole)))
    return whole.slice(first, draw(st.integers(0, len(whole) - first)))


class OnBytes(unittest.TestCase):
    def setUp(self):
        self.enterContext(mock.patch.object(ascii_text, "_BYTES", 3))

    @given(columns())
    def test_whether_it_is_ascii(self, values):
        texts = [text for text in values.to_pylist() if text is not None]
        self.assertEqual(ascii_text.is_ascii(values), all(text.isascii() for text in texts))

    def test_bytes_behind_a_blank_do_not_count(self):
        held = pa.array(["É", "a", " B "], pa.large_string())
        buffers = [pa.py_buffer(b"\x02"), *held.buffers()[1:]]
        values = pa.Array.from_buffers(held.type, 3, buffers)
        self.assertEqual(values.to_pylist(), [None, "a", None])
        self.assertTrue(ascii_text.is_ascii(values))


if __name__ == "__main__":
    unittest.main()
