"""How fast tables are matched and blended, beside SQLite and beside the floor.

The floor is one Arrow `dictionary_encode` pass over the link fields of both sides: no engine that looks at
every key once can do much better. SQLite works in memory on the same rows.
"""

from __future__ import annotations

import sqlite3
import statistics
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rich.table import Table as Grid

from benchmarks import measures
from benchmarks.measures import alternated, peak_above, seconds
from keen_trellis.core.blending import Keep, Other, Placed, blend
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedTable, plan_fields
from keen_trellis.core.link import LinkField, Operator, Preparation
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.table import ArrowTable, Table

_HITS = 0.71
_PAGE = 60
_SEED = 17


@dataclass(frozen=True)
class Case:
    """Two tables and the links to match them by."""

    name: str
    left: ArrowTable
    right: ArrowTable
    links: tuple[LinkField, ...]
    aim: float | None = None  # in floors


def cases(rows: int) -> list[Case]:
    """Tables of `rows` and a tenth as many rows, about 71 % of whose keys find a partner."""
    chance = np.random.default_rng(_SEED)
    others = rows // 10
    distinct = int(others / _HITS)
    numbers = pa.array(chance.integers(0, distinct, rows))
    text = pa.array([f"LCM.{number:08d}" for number in range(distinct)], pa.large_string())
    messy = pa.array([f" lcm.{number:08d}" for number in range(distinct)], pa.large_string())
    sparse = pa.array(chance.choice(2**62, distinct, replace=False))
    days = pa.array(chance.integers(18_000, 20_000, distinct).astype(np.int32)).cast(pa.date32())

    def sides(**columns: pa.Array) -> tuple[ArrowTable, ArrowTable]:
        left = {name: column.take(numbers) for name, column in columns.items()}
        right = {name: column.slice(0, others) for name, column in columns.items()}
        value = pa.array(np.arange(rows))
        left_table = ArrowTable(pa.table({**left, "value": value}))
        return left_table, ArrowTable(pa.table({**right, "title": value.slice(0, others)}))

    def prepared(name: str, left: pa.Array, right: pa.Array, aim: float) -> Case:
        link = LinkField("key", "key", Preparation(case=True, outer_spaces=True))
        return Case(name, sides(key=left)[0], sides(key=right)[1], (link,), aim)

    accented = pa.array([f"ÄLCM.{number:08d}" for number in range(distinct)], pa.large_string())
    accented_too = pa.array([f" älcm.{number:08d}" for number in range(distinct)], pa.large_string())
    signs = np.frombuffer(_SIGNS, np.uint8)[chance.integers(0, len(_SIGNS), (distinct, 12))]
    tokens = pa.array(signs.view("S12").ravel().astype(str), pa.large_string())
    titles = titled(np.arange(distinct))
    shouted = pa.array([f" {title.upper()}" for title in titles.to_pylist()], pa.large_string())
    few = rows // 20
    return [
        Case("text key", *sides(key=text), (LinkField("key", "key"),), 0.25),
        prepared("text key, ignoring case and outer spaces", messy, text, 0.35),
        Case("text key of 12 signs of any kind", *sides(key=tokens), (LinkField("key", "key"),), 0.5),
        Case("other text", *sides(key=titles), (LinkField("key", "key"),), 0.5),
        prepared("other text, ignoring case and outer spaces", shouted, titles, 0.6),
        Case(
            "integer key, narrow", *sides(key=pa.array(np.arange(distinct))), (LinkField("key", "key"),), 0.3
        ),
        Case("integer key, sparse", *sides(key=sparse), (LinkField("key", "key"),), 1.4),
        Case(
            "text and date",
            *sides(key=text, day=days),
            (LinkField("key", "key"), LinkField("day", "day")),
            0.5,
        ),
        prepared("text key, not ASCII, ignoring case and outer spaces", accented_too, accented, 1.2),
        Case(
            f"n:m, {2 * rows:,} result rows",
            *sides(key=pa.array(np.arange(distinct) % max(few, 1) * 7_919)),
            (LinkField("key", "key"),),
        ),
    ]


_SIGNS = b"ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz23456789-"
_WORDS = (
    *("harbour", "lantern", "museum", "ketch", "pilot", "chart", "lamp"),
    *("Fresnel", "foghorn", "storm", "keeper's", "north", "quay"),
)


def titled(numbers: np.ndarray) -> pa.Array:
    """Names such as objects have, in which neither the length nor a sign's place tells anything."""
    text = pa.large_string()

    def word(words: Iterable[str], place: int) -> pa.Array:
        return pa.array(words, text).take(pa.array(numbers // len(_WORDS) ** place % len(_WORDS)))

    def joined(by: str, *parts: pa.Array | str) -> pa.Array:
        given = [pa.scalar(part, text) if isinstance(part, str) else part for part in (*parts, by)]
        return pc.binary_join_element_wise(*given)

    counted = (pa.array(made).cast(text) for made in (numbers % 9_973, numbers // 2_197))
    last = joined("", word(_WORDS, 2), ",")
    return joined(
        " ", word(map(str.title, _WORDS), 0), word(_WORDS, 1), "of the", last, joined("/", *counted)
    )


def matched(case: Case) -> Match:
    """What the window needs before it shows the counts and the pairs."""
    found = match(case.left, case.right, case.links)
    assert found.counts.left_rows == case.left.rows
    found.all_pairs()
    return found


def _floor(case: Case) -> None:
    for link in case.links:
        case.left.column(link.left).values.dictionary_encode()
        case.right.column(link.right).values.dictionary_encode()


def in_sqlite(case: Case, *, index: bool) -> tuple[sqlite3.Connection, str]:
    base = sqlite3.connect(":memory:", check_same_thread=False)
    for name, table in (("l", case.left), ("r", case.right)):
        columns = [table.column(field.name).values.to_pylist() for field in table.fields]
        texts = [
            [str(cell) if not isinstance(cell, int | str) else cell for cell in column] for column in columns
        ]
        base.execute(f"CREATE TABLE {name} ({', '.join(table.names)})")
        marks = ", ".join("?" * len(texts))
        base.executemany(f"INSERT INTO {name} VALUES ({marks})", zip(*texts, strict=True))

    def prepared(name: str, field: str, link: LinkField) -> str:
        return f"lower(trim({name}.{field}))" if link.preparation else f"{name}.{field}"

    if index:
        base.execute(f"CREATE INDEX key ON r ({', '.join(_key(link, link.right) for link in case.links)})")
        on = " AND ".join(f"{prepared('l', k.left, k)} = {prepared('r', k.right, k)}" for k in case.links)
        return base, f"{_ASKED} FROM l LEFT JOIN r ON {on}"
    # Without an index SQLite makes one for the query, but not on an expression: so it prepares first.
    keys = [(f"k{n}", link) for n, link in enumerate(case.links)]
    left = ", ".join(f"{_key(link, link.left)} AS {name}" for name, link in keys)
    right = ", ".join(f"{_key(link, link.right)} AS {name}" for name, link in keys)
    on = " AND ".join(f"l.{name} = r.{name}" for name, _ in keys)
    parts = (
        f"a AS MATERIALIZED (SELECT {left}, value FROM l), b AS MATERIALIZED (SELECT {right}, title FROM r)"
    )
    return base, f"WITH {parts} {_ASKED} FROM a AS l LEFT JOIN b AS r ON {on}"


_ASKED = "SELECT count(*), sum(l.value), sum(r.title)"


def _key(link: LinkField, field: str) -> str:
    return f"lower(trim({field}))" if link.preparation else field


def _answered(base: sqlite3.Connection, query: str) -> None:
    base.execute(query).fetchall()


def match_grid(made: list[Case]) -> Grid:
    grid = Grid(title="Match and pairs", title_justify="left")
    for column in (
        "case",
        "ours s",
        "floor s",
        "in floors",
        "aim",
        "SQLite s",
        "times as fast",
        "with index",
        "peak MB",
    ):
        grid.add_column(column, justify="left" if column == "case" else "right")
    for case in made:
        ours, floor, ratio = alternated(partial(matched, case), partial(_floor, case))
        against = []
        for index in (False, True):
            base, query = in_sqlite(case, index=index)
            against.append(seconds(partial(_answered, base, query)))
            base.close()
        peak = peak_above(partial(matched, case))
        grid.add_row(
            case.name,
            f"{ours:.3f}",
            f"{floor:.3f}",
            f"{ratio:.2f}",
            "" if case.aim is None else f"{case.aim:.2f}",
            f"{against[0]:.2f}",
            f"{against[0] / ours:.1f}",
            f"{against[1] / ours:.1f}",
            f"{peak / 2**20:.0f}",
        )
    return grid


def page_grid(case: Case) -> Grid:
    grid = Grid(title="Pages and types, text key", title_justify="left")
    for column in ("case", "ms", "aim ms"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    found = matched(case)

    def page(kind: JoinType, share: float) -> None:
        plan = plan_fields(case.left.fields, case.right.fields, case.links, kind, FieldChoice(), "Right")
        table = JoinedTable(case.left, case.right, found, kind, plan)
        start = int(table.rows * share)
        table.take(range(start, min(start + _PAGE, table.rows)), table.names)

    for name, kind, share, aim in (
        ("first page of the full outer join", JoinType.FULL_OUTER, 0.0, 20),
        ("a page from its middle", JoinType.FULL_OUTER, 0.5, 20),
        ("another join type, counts and first page", JoinType.INNER, 0.0, 5),
    ):
        taken = statistics.median(seconds(partial(page, kind, share)) for _ in range(measures.PAIRS))
        grid.add_row(name, f"{1000 * taken:.1f}", str(aim))
    return grid


# --- periods, chains and blends ---


def other_grid(rows: int) -> Grid:
    """Periods within a text key, a chain of joins, a blend."""
    grid = Grid(title="Periods, chains, blends", title_justify="left")
    for column in ("case", "ours s", "SQLite s", "times as fast", "aim", "peak MB"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    fifth = rows // 5
    for long in (False, True):
        left, right, links = periods(fifth, fifth // 20, long=long)
        name = f"{fifth:,} rows in {right.rows:,} periods, {'one of all time a key' if long else 'tiled'}"
        work: Callable[[], object] = partial(_listed, left, right, links)
        grid.add_row(name, f"{_median(work):.2f}", "", "", "", _peak(work))
    chained = 2 * fifth
    work = partial(chain, chain_tables(chained))
    grid.add_row(
        f"a chain of three joins on {chained:,} rows, one page",
        f"{_median(work):.2f}",
        "",
        "",
        "",
        _peak(work),
    )
    main, other, how = blend_tables(rows)
    base = blend_in_sqlite(main, other)
    work = partial(blend, main, [other], [how], Keep.EVERY)
    ours = _median(work)
    theirs = seconds(partial(_answered, base, BLEND_QUERY))
    base.close()
    name = f"a blend of {rows:,} rows to {main.rows:,} groups, five measures"
    grid.add_row(name, f"{ours:.2f}", f"{theirs:.2f}", f"{theirs / ours:.1f}", "4.0", _peak(work))
    return grid


def _median(work: Callable[[], object]) -> float:
    return statistics.median(seconds(work) for _ in range(measures.PAIRS))


def _peak(work: Callable[[], object]) -> str:
    return f"{peak_above(work) / 2**20:.0f}"


def _listed(left: Table, right: Table, links: tuple[LinkField, ...]) -> Match:
    found = match(left, right, links)
    assert found.counts.left_rows == left.rows
    found.all_pairs()
    return found


def periods(rows: int, many: int, *, long: bool) -> tuple[ArrowTable, ArrowTable, tuple[LinkField, ...]]:
    """Rows with a key and a day; for each key periods side by side, and if `long` one of all time."""
    chance = np.random.default_rng(_SEED)
    keys = max(many // 50, 1)
    each = many // keys
    names = pa.array([f"venue {number:05d}" for number in range(keys)], pa.large_string())
    left = {
        "key": names.take(pa.array(chance.integers(0, keys, rows))),
        "day": pa.array(chance.integers(0, each * 10, rows).astype(np.int32)).cast(pa.date32()),
    }
    number = np.arange(keys * each)
    start, end = number % each * 10, number % each * 10 + 9
    if long:
        start = np.where(number % each == 0, 0, start)
        end = np.where(number % each == 0, each * 10, end)
    right = {
        "key": names.take(pa.array(number // each)),
        "from": pa.array(start.astype(np.int32)).cast(pa.date32()),
        "to": pa.array(end.astype(np.int32)).cast(pa.date32()),
    }
    links = (
        LinkField("key", "key"),
        LinkField("day", "from", operator=Operator.AT_LEAST),
        LinkField("day", "to", operator=Operator.AT_MOST),
    )
    return ArrowTable(pa.table(left)), ArrowTable(pa.table(right)), links


def chain_tables(rows: int) -> list[ArrowTable]:
    """A table and three others, each of which is found by a field of the one before."""
    chance = np.random.default_rng(_SEED)
    made = [
        ArrowTable(
            pa.table(
                {"k0": pa.array(chance.integers(0, rows // 10, rows)), "value": pa.array(np.arange(rows))}
            )
        )
    ]
    for number, size in enumerate((rows // 10, rows // 20, rows // 40)):
        key = pa.array(np.arange(size))
        following = pa.array(chance.integers(0, size // 2 + 1, size))
        made.append(ArrowTable(pa.table({f"k{number}": key, f"k{number + 1}": following})))
    return made


def chain(tables: list[ArrowTable]) -> Table:
    """Three left outer joins, one after the other, and a page of the last."""
    found: Table = tables[0]
    for number, other in enumerate(tables[1:]):
        links = (LinkField(f"k{number}", f"k{number}"),)
        matched_rows = match(found, other, links)
        plan = plan_fields(found.fields, other.fields, links, JoinType.LEFT_OUTER, FieldChoice(), "Right")
        found = JoinedTable(found, other, matched_rows, JoinType.LEFT_OUTER, plan)
    found.take(range(found.rows // 2, found.rows // 2 + _PAGE), found.names)
    return found


def blend_tables(rows: int) -> tuple[ArrowTable, ArrowTable, Other]:
    """A main table of one row a group, and the other table of `rows` in as many groups as fifty rows make."""
    chance = np.random.default_rng(_SEED)
    groups = max(rows // 50, 1)
    names = pa.array([f"LCM.{number:08d}" for number in range(groups)], pa.large_string())
    cents = pa.array(chance.integers(0, 10**6, rows)).cast(pa.decimal128(19, 0))
    other = pa.table(
        {
            "key": names.take(pa.array(chance.integers(0, groups, rows))),
            "crates": pa.array(chance.integers(0, 50, rows)),
            "cost": pa.Array.from_buffers(pa.decimal128(19, 2), rows, cents.buffers()),
        }
    )
    asked = (
        (Function.SUM, "cost"),
        (Function.SUM, "crates"),
        (Function.COUNT, ""),
        (Function.LEAST, "cost"),
        (Function.GREATEST, "crates"),
    )
    measures = tuple(Placed(Measure(function, of, f"m{n}")) for n, (function, of) in enumerate(asked))
    return (
        ArrowTable(pa.table({"key": names})),
        ArrowTable(other),
        Other("Other", (LinkField("key", "key"),), measures),
    )


BLEND_QUERY = (
    "SELECT count(*), sum(a), sum(b), sum(c), sum(d), sum(e) FROM m LEFT JOIN (SELECT key, sum(cost) a, "
    "sum(crates) b, count(*) c, min(cost) d, max(crates) e FROM o GROUP BY key) USING (key)"
)


def blend_in_sqlite(main: Table, other: Table) -> sqlite3.Connection:
    """Both tables in memory, decimals as their cents."""
    base = sqlite3.connect(":memory:", check_same_thread=False)
    base.execute("CREATE TABLE m (key)")
    base.executemany("INSERT INTO m VALUES (?)", ((key,) for key in main.column("key").values.to_pylist()))
    base.execute("CREATE TABLE o (key, crates, cost)")
    cost = other.column("cost").values
    cents = pa.Array.from_buffers(pa.decimal128(19, 0), len(cost), cost.buffers()).cast(pa.int64())
    columns = [other.column(name).values.to_pylist() for name in ("key", "crates")]
    base.executemany("INSERT INTO o VALUES (?, ?, ?)", zip(*columns, cents.to_pylist(), strict=True))
    return base
