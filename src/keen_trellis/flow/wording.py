"""Words for tables and the questions that joins answer, in the user's own table names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from keen_trellis.core.blending import Keep, Stands
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import Preparation
from keen_trellis.core.preparations import in_words


def rows_called(name: str) -> tuple[str, str]:
    """What one row and several rows of the table `name` are called: Loans gives loan and loans.

    A name that is no plural gives "Registry row" and "Registry rows".
    """
    table = name.split(" with ", maxsplit=1)[0].strip()
    lower = table.lower()
    plural = len(lower) > 2 and lower.endswith("s") and not lower.endswith(("ss", "us", "is"))
    if not plural or not lower[-2].isalpha():
        return f"{table} row", f"{table} rows"
    plain = table if table[:2].isupper() else table[0].lower() + table[1:]
    if lower.endswith("ies"):
        return plain[:-3] + "y", plain
    if lower.endswith(("ches", "shes", "xes", "sses", "zes")):
        return plain[:-2], plain
    return plain[:-1], plain


def groups_said(count: int) -> str:
    """So many groups, in words."""
    return "1 group" if count == 1 else f"{count:,} groups"


def with_article(noun: str) -> str:
    """The noun with a or an before it."""
    return f"{'an' if noun[:1].lower() in 'aeiou' else 'a'} {noun}"


def counted(number: int, name: str) -> str:
    """A number with what it counts: 8,352 loans, 1 loan."""
    one, many = rows_called(name)
    return f"{number:,} {one if number == 1 else many}"


def open_said(cells: Mapping[str, int], what: str) -> str:
    """How many cells are `what`, and in which fields: 12 cells still open: title 6, maker 6."""
    count, names = sum(cells.values()), [f"{name} {number:,}" for name, number in cells.items() if number]
    return f"{count:,} {'cell' if count == 1 else 'cells'} {what}: {listed(names, 4)}"


def nothing_wrong(left: str, right: str) -> str:
    """That every left row has just one partner."""
    return f"every {rows_called(left)[0]} found exactly one {rows_called(right)[0]}"


def question(join_type: JoinType, left: str, right: str) -> str:
    """The question that a join of this type answers."""
    one_left, many_left = rows_called(left)
    one_right, many_right = rows_called(right)
    a_left, a_right = with_article(one_left), with_article(one_right)
    return {
        JoinType.LEFT_OUTER: f"every {one_left}, with its {one_right} where known",
        JoinType.INNER: f"only {many_left} with {a_right}",
        JoinType.LEFT_ANTI: f"the {many_left} without {a_right}",
        JoinType.LEFT_SEMI: f"the {many_left} that have {a_right}, each once",
        JoinType.FULL_OUTER: f"every {one_left} and every {one_right}, paired where they match",
        JoinType.FULL_ANTI: f"the {many_left} without {a_right}, and the {many_right} without {a_left}",
        JoinType.RIGHT_OUTER: f"every {one_right}, with its {one_left} where known",
        JoinType.RIGHT_ANTI: f"the {many_right} without {a_left}",
        JoinType.RIGHT_SEMI: f"the {many_right} that have {a_left}, each once",
        JoinType.CROSS: f"every {one_left} with every {one_right}",
    }[join_type]


def ignoring(preparation: Preparation) -> str:
    """The preparation as the sentence says it: ignoring case and outer spaces."""
    ignored = in_words(preparation.names)
    parts = [f"as {preparation.compare_as}"] if preparation.compare_as else []
    parts += [f"ignoring {ignored}"] if ignored else []
    if preparation.corrections:
        count = len(preparation.corrections)
        parts.append(f"with {count:,} {'correction' if count == 1 else 'corrections'}")
    return ", ".join(parts) or "exactly as written"


def listed(names: list[str], most: int = 3) -> str:
    """Names one after the other, the later ones only counted."""
    if len(names) <= most:
        return ", ".join(names)
    return f"{', '.join(names[:most])} and {len(names) - most} more"


_KEPT = {"first": "the first", "last": "the last", "least": "the least", "greatest": "the maximum"}
_FILLED_WITH = {"before": "the row before", "after": "the row after"}


def kept_said(keep: str) -> str:
    """Which of several rows stays: the last, the one with the maximum Valued on."""
    name, _, expression = keep.partition(":")
    return f"the one with {_KEPT[name]} {expression}" if expression else _KEPT.get(name, name)


def distinct_said(name: str, keys: Sequence[str], keep: str, *, blanks_stay: bool) -> str:
    """What a distinct step does, in a sentence."""
    one = rows_called(name)[0]
    same = " and ".join(keys) if keys else "everything"
    blanks = "; those with a blank there all stay" if blanks_stay else ""
    return f"Of {rows_called(name)[1]} with the same {same}, keep {kept_said(keep)} {one}{blanks}."


def fill_said(fields: Sequence[str], how: str, of: str) -> str:
    """One way to fill, in words."""
    names = listed(list(fields)) or "no field"
    if how == "leave-out":
        return f"leave out the rows in which {names} is empty"
    with_what = f"“{of}”" if how == "value" else of if how == "field" else f"that of {_FILLED_WITH[how]}"
    return f"fill {names} with {with_what}"


def kept_of_blend(keep: Keep, name: str) -> tuple[str, str]:
    """What a blend keeps of its main table, and what that means."""
    one, many = rows_called(name)
    return {
        Keep.EVERY: (f"every {one}", "none is added, none is lost"),
        Keep.FOUND: (f"the {many} that found something", "in at least one other table"),
        Keep.GROUPS: (f"one row for each group of {many}", "with the groups' measures only"),
        Keep.ALL_GROUPS: (f"one row for each group, of {many} or not", "also those that only others have"),
    }[keep]


def stands_said(stands: Stands, by: str, name: str) -> str:
    """Where a group's measure stands among the rows of the table called `name`."""
    one = rows_called(name)[0]
    if stands is Stands.SPREAD:
        return f"spread over the group by {by}" if by else "spread over the group in equal shares"
    return f"on every {one} of the group" if stands is Stands.EVERY else f"on the first {one} of the group"


def times_said(times: float) -> str:
    """How often something is counted, on average."""
    return f"{times:.1f} times" if times >= 1.05 else "more than once"
