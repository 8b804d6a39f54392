"""How quickly reasons are found, and how right what they propose is, on values that are spoilt on purpose."""

from __future__ import annotations

import random
import string
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from rich.table import Table as Grid

from benchmarks.measures import peak_above, seconds
from keen_trellis.core.insight.names import other_names
from keen_trellis.core.insight.partners import Partners, misspelt
from keen_trellis.core.insight.profile import profile
from keen_trellis.core.insight.proposals import propose
from keen_trellis.core.insight.reasons import Asked, explain
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task

_SEED = 41
_ROWS = 1_000_000
_FIELDS = 40
_SYLLABLES = """
    an ar bal ber bour bris car coa cor dal den dor dun ebb ed el fal far fen fleet ford gal gar
    gate glen ham har hav hill hol ing ken kes lan lea ley lin low mar mel mer mill mor nor oak or
    os pen pier por quay ram ras red ren ros sal sed sel shel skel sten stow tal tarn thor thru tid
    tol tor tre ul var ves wald wel wick wold yar
""".split()  # noqa: SIM905
_KINDS = ("museum", "gallery", "hall", "house", "library", "archive", "centre")


@dataclass(frozen=True)
class Planted:
    """Values of two sides. partner: for each left value the right one that it means, None if it means
    none.
    """

    mine: list[str]
    theirs: list[str]
    partner: dict[str, str | None]


def _names(count: int, rng: random.Random) -> list[str]:
    """Different names of two to four words."""
    found: dict[str, None] = {}
    while len(found) < count:
        words = ["".join(rng.choices(_SYLLABLES, k=rng.randint(2, 3))) for _ in range(rng.randint(1, 3))]
        found[" ".join([*words, rng.choice(_KINDS)])] = None
    return list(found)


def _slip(text: str, rng: random.Random) -> str:
    """One slip of the keyboard."""
    at, letter = rng.randrange(len(text)), rng.choice(string.ascii_lowercase)
    return rng.choice(
        (
            text[:at] + text[at + 1 :],
            text[:at] + letter + text[at:],
            text[:at] + letter + text[at + 1 :],
            text[:at] + text[at : at + 2][::-1] + text[at + 2 :],
        )
    )


def _renamed(text: str, rng: random.Random) -> str:
    """Another name for the same: words in another order, or one of them shortened."""
    words = text.split()
    if rng.random() < 0.4:
        rng.shuffle(words)
        return " ".join(words)
    at = rng.randrange(len(words))
    word = words[at]
    short = word[0] + "".join(letter for letter in word[1:] if letter not in "aeiou")
    words[at] = rng.choice((f"{word[0]}.", f"{word[:3]}.", short))
    return " ".join(words)


def planted(values: int, *, slips: bool) -> Planted:
    """Half of `values` names, half running codes on the right; on the left names that are spoilt, some of
    them with two slips, names that the right has not, and codes between the right ones.
    """
    rng = random.Random(_SEED)
    names = _names(values * 3 // 4, rng)
    known, unknown = names[: values // 2], names[values // 2 :]
    theirs = [*known, *(f"lcm{number:07d}" for number in range(0, values, 2))]
    taken = set(theirs)
    partner: dict[str, str | None] = {}
    for number, name in enumerate(known[: values // 5]):
        spoilt = _slip(name, rng) if slips else _renamed(name, rng)
        if slips and number % 8 == 0:
            spoilt = _slip(spoilt, rng)
        if spoilt not in taken:
            partner[spoilt] = name
    partner.update(dict.fromkeys(unknown, None))
    partner.update(dict.fromkeys((f"lcm{number:07d}" for number in range(1, values // 2, 2)), None))
    return Planted(list(partner), theirs, partner)


def judged(case: Planted, found: Partners) -> tuple[float, float, int]:
    """Of what is accepted by default the share that is right, the share found of what was planted, and how
    much is accepted.
    """
    pairs = [
        (case.partner[case.mine[one]], case.theirs[other], likely)
        for one, other, likely in zip(found.mine, found.theirs, found.likely, strict=True)
    ]
    accepted = [meant == other for meant, other, likely in pairs if likely]
    hits = sum(meant == other for meant, other, _ in pairs)
    wanted = sum(meant is not None for meant in case.partner.values())
    return sum(accepted) / max(len(accepted), 1), hits / max(wanted, 1), len(accepted)


def _texts(values: list[str]) -> pa.Array:
    return pa.array(values, pa.large_string())


def slips_of(case: Planted) -> Partners:
    """Misspellings of a planted set."""
    return misspelt(_texts(case.mine), _texts(case.theirs), Task())


def names_of(case: Planted) -> Partners:
    """Other names of a planted set."""
    found = [entry for _, entry in other_names(_texts(case.mine), _texts(case.theirs), Task())]
    return Partners(
        *(np.concatenate(part) for part in zip(*((f.mine, f.theirs, f.likely) for f in found), strict=True))
    )


def insight_grid(values: int = 200_000, rows: int = _ROWS) -> Grid:
    """What is measured: how right, how complete, how quick."""
    grid = Grid(title="Reasons and link proposals", title_justify="left")
    for column in ("case", "s", "aim s", "right of accepted", "aim", "found of planted", "aim", "peak MB"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    for name, slips, ask in (("misspellings", True, slips_of), ("other names", False, names_of)):
        case, found = planted(values, slips=slips), [Partners.none()]

        def work(case: Planted = case, found: list[Partners] = found, ask=ask) -> None:  # type: ignore[no-untyped-def]
            found[0] = ask(case)

        taken = seconds(work)
        right, share, _ = judged(case, found[0])
        title = f"{name}: {len(case.mine):,} values among {len(case.theirs):,}"
        grid.add_row(title, f"{taken:.2f}", "", f"{right:.4f}", "0.98", f"{share:.3f}", "0.9", "")
    left, right_table = unmatched_tables(rows)
    links = (LinkField("key", "key"),)
    outcome = match(left, right_table, links)
    asked = Asked(left, right_table, links)
    taken = seconds(lambda: explain(asked, outcome))
    peak = peak_above(lambda: explain(asked, outcome)) / 1e6
    title = f"reasons: {rows:,} x {rows // 10:,} rows, {rows // 20:,} values unmatched"
    grid.add_row(title, f"{taken:.2f}", "3", "", "", "", "", f"{peak:.0f}")
    wide = [wide_table(rows, seed) for seed in (1, 2)]
    title = f"proposals: {rows:,} rows x {_FIELDS} fields a side"
    taken = seconds(lambda: propose(wide[0], wide[1]))
    grid.add_row(title, f"{taken:.2f}", "2", "", "", "", "", "")
    for table in wide:
        profile(table, Task())
    taken = seconds(lambda: propose(wide[0], wide[1]))
    grid.add_row(f"{title}, profiled at reading", f"{taken:.2f}", "2", "", "", "", "", "")
    return grid


def unmatched_tables(rows: int) -> tuple[ArrowTable, ArrowTable]:
    """`rows` left and a tenth as many right rows by a text key; a twentieth as many left values find none."""
    case = planted(rows // 10, slips=True)
    rng = np.random.default_rng(_SEED)
    lost = _texts(case.mine).take(pa.array(rng.permutation(len(case.mine))[: rows // 20]))
    known = _texts(case.theirs)
    keys = pa.concat_arrays(
        [known.take(pa.array(rng.integers(0, len(known), rows * 17 // 20))), lost, lost, lost]
    )[:rows]
    keys = keys.take(pa.array(rng.permutation(len(keys))))
    left = ArrowTable(pa.table({"key": keys, "n": pa.array(rng.integers(0, 50, len(keys)))}))
    return left, ArrowTable(pa.table({"key": known, "m": pa.array(np.arange(len(known)))}))


def wide_table(rows: int, seed: int) -> ArrowTable:
    """A table of as many fields as a wide export has: codes, names, numbers, dates and words."""
    rng = np.random.default_rng(seed)
    words = _texts(_names(500, random.Random(seed)))
    columns: dict[str, pa.Array] = {}
    for number in range(_FIELDS):
        kind = number % 5
        if kind == 0:
            codes = rng.integers(0, rows * (number + 1), rows).astype(str)
            columns[f"code {number}"] = pa.array(codes, pa.large_string())
        elif kind == 1:
            columns[f"name {number}"] = words.take(pa.array(rng.integers(0, len(words), rows)))
        elif kind == 2:
            columns[f"count {number}"] = pa.array(rng.integers(0, 1000, rows))
        elif kind == 3:
            columns[f"day {number}"] = pa.array(rng.integers(18_000, 20_000, rows).astype(np.int32)).cast(
                pa.date32()
            )
        else:
            columns[f"value {number}"] = pa.array(rng.random(rows))
    return ArrowTable(pa.table(columns))
