"""The guide and what is new, as they ship with the program, and where in the guide things are explained."""

from __future__ import annotations

import enum
from importlib.resources import files


class Chapter(enum.Enum):
    """The chapters of the guide, by their headings."""

    WINDOW = "The window"
    TABLES = "1. Look at the tables"
    JOIN = "2. Join"
    COUNTS = "3. Read the counts, and find out why"
    CHOOSE = "4. Choose what comes along, and fill the gaps"
    STEPS = "5. Steps on a rail"
    CHAIN = "6. Chain, branch, stack, reconcile"
    BLEND = "7. Blend"
    SHARE = "8. Share a filter"
    HOLD = "9. Say what must hold"
    REPORT = "10. Report, and refresh"
    TELL = "11. Tell others: the match report"
    RUNS = "12. Look back: the runs, and two versions"
    FOLLOW = "13. Ask after one row"
    AGAIN = "14. Use it again: run values"
    LARGE = "A large flow"
    WRONG = "When something is wrong"
    KEYS = "All keys"


GUIDE, NEWS = "guide.md", "news.md"


def document(name: str) -> str:
    """One of the documents, in Markdown."""
    return files(__name__).joinpath(name).read_text("utf-8")
