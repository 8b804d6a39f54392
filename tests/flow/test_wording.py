import unittest

from keen_trellis.core.join_type import JoinType
from keen_trellis.flow.wording import counted, listed, question, rows_called


class Wording(unittest.TestCase):
    def test_rows_are_called_after_their_table(self):
        cases = {
            "Loans": ("loan", "loans"),
            "Objects": ("object", "objects"),
            "Registries": ("registry", "registries"),
            "Boxes": ("box", "boxes"),
            "Census": ("Census row", "Census rows"),
            "Glass": ("Glass row", "Glass rows"),
            "2026-01": ("2026-01 row", "2026-01 rows"),
            "Loans with Objects": ("loan", "loans"),
        }
        for name, expected in cases.items():
            self.assertEqual(rows_called(name), expected)

    def test_questions_speak_of_the_users_tables(self):
        self.assertEqual(
            question(JoinType.LEFT_OUTER, "Loans", "Objects"), "every loan, with its object where known"
        )
        self.assertEqual(question(JoinType.INNER, "Loans", "Objects"), "only loans with an object")
        texts = {question(kind, "Loans", "Objects") for kind in JoinType}
        self.assertEqual(len(texts), len(JoinType))

    def test_numbers_stand_with_what_they_count(self):
        self.assertEqual(counted(8352, "Loans"), "8,352 loans")
        self.assertEqual(counted(1, "Loans"), "1 loan")

    def test_long_lists_are_counted(self):
        self.assertEqual(listed(["a", "b", "c"]), "a, b, c")
        self.assertEqual(listed(["a", "b", "c", "d", "e"]), "a, b, c and 2 more")


if __name__ == "__main__":
    unittest.main()
