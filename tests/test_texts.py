import re
import unittest

from tools.texts import all_texts

# Words that were hard to read for those who use the program, and what is said instead.
_INSTEAD = {
    r"stands nowhere|really absent": "not in",
    r"\bslip away\b": "typo",
    r"\bcommonest\b": "most frequent",
    r"to be said of": "notes",
    r"leaves it as it was": "Esc to cancel",
    r"\btold apart by\b": "compared by",
    r"\bdo not ask for\b": "remove",
    r"\bbegin a rail\b": "start a rail",
    r"\bEsc goes\b": "a button of the panel's head",
    r"\bany more\b": "no longer",
}


class Texts(unittest.TestCase):
    def test_all_are_found_with_their_modules(self):
        found = all_texts()
        self.assertIn(("There is nothing to undo.", "desktop/shell/here.py"), found)
        self.assertIn(("&Only rows like this", "desktop/shell/menus.py"), found)
        self.assertTrue(any("{" in text for text, _ in found))
        self.assertFalse([text for text, _ in found if text.startswith("QTableWidget")])

    def test_what_was_hard_to_read_is_gone(self):
        for pattern, instead in _INSTEAD.items():
            left = [entry for entry in all_texts() if re.search(pattern, entry[0], re.IGNORECASE)]
            self.assertEqual(left, [], f"say “{instead}”")


if __name__ == "__main__":
    unittest.main()
