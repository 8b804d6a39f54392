"""Names that nothing else has."""

from __future__ import annotations

from collections.abc import Container


def free_name(wanted: str, taken: Container[str], between: str = " ") -> str:
    """The wanted name, or the first of “name 2”, “name 3” and so on that is not taken."""
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted}{between}{number}", number + 1
    return name
