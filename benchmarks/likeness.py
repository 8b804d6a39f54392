"""Links by likeness: how long they take, and how many of what is planted they find, rightly."""

from __future__ import annotations

import random
import time
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from rich.table import Table as Grid

from benchmarks.real_lists import lists
from keen_trellis.core.link import Likeness, LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable

_FIRST = [
    "Ada",
    "Ben",
    "Cy",
    "Dora",
    "Eli",
    "Finn",
    "Gwen",
    "Hal",
    "Ida",
    "Jon",
    "Kit",
    "Lea",
    "Max",
    "Nora",
    "Oda",
    "Pia",
    "Quin",
    "Rex",
    "Sue",
    "Tom",
    "Una",
    "Vic",
    "Wim",
    "Yva",
    "Zed",
    "Mabel",
    "Clara",
    "Hugo",
    "Oskar",
    "Selma",
    "Thea",
    "Viggo",
]
_PARTS = [
    "al",
    "ber",
    "cor",
    "dun",
    "el",
    "far",
    "gan",
    "hol",
    "in",
    "jor",
    "kel",
    "lin",
    "mor",
    "nol",
    "or",
    "pen",
    "quil",
    "ros",
    "sten",
    "tor",
    "un",
    "vel",
    "win",
    "yar",
    "zan",
    "bram",
]
_KEPT = 4  # of five values of a real list the other side has so many
_QUICK = 4_000  # values of the lists that are looked at in the quick form
LIKENESS = Likeness(at_least=85, best=True)


@dataclass(frozen=True)
class Case:
    """meant: for each left row the right row that it means, -1 for none."""

    name: str
    left: ArrowTable
    right: ArrowTable
    meant: np.ndarray


def planted(rows: int) -> Case:
    """Names with one or two slips, their words swapped, or initials; one in ten is not on the other side."""
    rng = random.Random(1)

    def name() -> str:
        family = "".join(rng.choice(_PARTS) for _ in range(rng.randint(2, 4))).capitalize()
        second = "".join(rng.choice(_PARTS) for _ in range(2)).capitalize() if rng.random() < 0.4 else ""
        return f"{rng.choice(_FIRST)} {family} {second}".strip()

    theirs = list(dict.fromkeys(name() for _ in range(max(rows // 10, 20))))
    mine, meant = [], []
    for _ in range(rows):
        at = rng.randrange(len(theirs))
        text, kind = theirs[at], rng.random()
        if kind < 0.7:
            for _ in range(1 if kind < 0.5 else 2):
                text = slip(text, rng)
        elif kind < 0.8:
            first, *rest = text.split()
            text = f"{' '.join(rest)}, {first}"
        elif kind < 0.85:
            first, *rest = text.split()
            text = f"{first[0]}. {' '.join(rest)}"
        elif kind < 0.95:
            text, at = name(), -1
        mine.append(text)
        meant.append(at)
    return Case("made-up names", _table(mine), _table(theirs), np.array(meant))


def slip(text: str, rng: random.Random) -> str:
    """A text with a character missing, too many, another one, or two swapped."""
    at = rng.randrange(1, max(len(text) - 1, 2))
    return rng.choice(
        (
            text[:at] + text[at + 1 :],
            text[:at] + rng.choice("abcdefgh") + text[at:],
            text[:at] + rng.choice("xyzuvw") + text[at + 1 :],
            text[:at] + text[at + 1 : at + 2] + text[at : at + 1] + text[at + 2 :],
        )
    )


def of_list(name: str, values: list[str], seed: int = 0) -> Case:
    """Each value of a list with a slip; a fifth of the values is not on the other side."""
    rng = random.Random(seed)
    mixed = rng.sample(values, len(values))
    theirs = mixed[: len(mixed) * _KEPT // (_KEPT + 1)]
    meant = [at if at < len(theirs) else -1 for at in range(len(mixed))]
    return Case(name, _table([slip(text, rng) for text in mixed]), _table(theirs), np.array(meant))


@dataclass(frozen=True)
class Judged:
    """seconds: of the match.  right: of the rows that found something, the share for which what they mean is
    among it.  found: of the rows that mean something, the same.  alone: of what is right, the share that is
    found by itself.
    """

    seconds: float
    right: float
    found: float
    alone: float


def judged(case: Case) -> Judged:
    """Match a case, and see what is right."""
    began = time.perf_counter()
    made = match(case.left, case.right, [LinkField("value", "value", likeness=LIKENESS)])
    left, right = made.all_pairs()
    seconds = time.perf_counter() - began
    hit = np.zeros(case.left.rows, dtype=bool)
    hit[left[case.meant[left] == right]] = True
    some = made.partners_of_left > 0
    wanted = case.meant >= 0
    return Judged(
        seconds,
        hit.sum() / max(some.sum(), 1),
        hit[wanted].sum() / max(wanted.sum(), 1),
        (made.partners_of_left[hit] == 1).sum() / max(hit.sum(), 1),
    )


def likeness_grid(rows: int, *, quick: bool) -> Grid:
    """What is measured: planted names, and real lists whose values have a slip each."""
    grid = Grid(title="Links by likeness of 85, the best", title_justify="left")
    for column in ("case", "rows", "other side", "s", "right", "found", "alone"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    cases = [planted(rows)]
    cases += [of_list(name, values) for name, values in lists() if not (quick and len(values) > _QUICK)]
    for case in cases:
        told = judged(case)
        shares = (f"{share:.3f}" for share in (told.right, told.found, told.alone))
        grid.add_row(case.name, f"{case.left.rows:,}", f"{case.right.rows:,}", f"{told.seconds:.1f}", *shares)
    return grid


def _table(values: list[str]) -> ArrowTable:
    return ArrowTable(pa.table({"value": pa.array(values, pa.large_string())}))
