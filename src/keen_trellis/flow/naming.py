"""Names that nothing else has."""

from __future__ import annotations

import re
from collections.abc import Container


def free_name(wanted: str, taken: Container[str], between: str = " ") -> str:
    """The wanted name, or the first of “name 2”, “name 3” and so on that is not taken."""
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted}{between}{number}", number + 1
    return name


def free_id(name: str, taken: Container[str], otherwise: str) -> str:
    """An id that a reader of the file knows the name by, `otherwise` where nothing of the name can stand."""
    return free_name(re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or otherwise, taken, "-")
