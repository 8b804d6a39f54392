"""Blends as the command line writes them: one line for each link, measure, condition and spread."""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec

from keen_trellis.core.blending import Stands
from keen_trellis.core.errors import UsageError
from keen_trellis.core.measures import Function
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.link_text import read_link
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings, measures_of, placing

_MEASURE = re.compile(r"(?s)\s*([\w-]+)\s*\((.*)\)\s*(?:\bas\b\s*(.+))?", re.IGNORECASE)
_SPREAD = re.compile(r"(?s)(.+?)(?:\s+by\s+(.+)|\s+(on first))?", re.IGNORECASE)


def read_blend(
    shapes: Sequence[InputShape],
    *,
    links: Sequence[str],
    measures: Sequence[str],
    conditions: Sequence[str] = (),
    spreads: Sequence[str] = (),
    keep: str = "every",
    ignore: Sequence[str] = (),
) -> BlendSettings:
    """The blend that these lines write; the first shape is the main table's. UsageError if a line cannot be
    read.
    """
    main, others = shapes[0], shapes[1:]
    made = {shape.name: OtherSettings() for shape in others}
    fields = {shape.name: shape.fields for shape in others}
    for text in links:
        name, line = _of_table(text, list(made))
        link = msgspec.structs.replace(read_link(line, main.fields, fields[name]), ignore=tuple(ignore))
        made[name] = msgspec.structs.replace(made[name], links=(*made[name].links, link))
    own: list[BlendMeasure] = []
    for text in measures:
        of_main = _named(text, [main.name]) if main.name not in made else None
        if of_main is not None:
            own.append(_measure(of_main[1]))
            continue
        name, line = _of_table(text, list(made))
        made[name] = msgspec.structs.replace(made[name], measures=(*made[name].measures, _measure(line)))
    for text in conditions:
        name, line = _of_table(text, list(made))
        both = f"({made[name].where}) AND ({line})" if made[name].where else line
        made[name] = msgspec.structs.replace(made[name], where=both)
    settings = BlendSettings(others=tuple(made.values()), keep=keep, own=tuple(own))
    for text in spreads:
        settings = _spread(text, settings)
    return settings


def conditions_of_main(
    shapes: Sequence[InputShape], conditions: Sequence[str]
) -> tuple[list[str], list[str]]:
    """The conditions that speak of the main table, and the lines that speak of others."""
    name = shapes[0].name
    others = [shape.name for shape in shapes[1:]]
    told = [(text, None if name in others else _named(text, [name])) for text in conditions]
    return [named[1] for _, named in told if named], [text for text, named in told if not named]


def conditions_of_each(shapes: Sequence[InputShape], conditions: Sequence[str]) -> list[list[str]]:
    """The conditions that speak of each table; UsageError for one that speaks of none, or of two at once."""
    names = [shape.name for shape in shapes]
    found: list[list[str]] = [[] for _ in names]
    for text in conditions:
        name, condition = _of_table(text, names)
        if names.count(name) > 1:
            raise UsageError(
                f"Two tables are called {name}, so that “{text}” refers to both.",
                remedy="Give one of them another name, as in Lent=FILE.",
            )
        found[names.index(name)].append(condition)
    return found


def _of_table(text: str, names: Sequence[str]) -> tuple[str, str]:
    """The table that a line speaks of, and the rest of it; with one other table it need not be named."""
    named = _named(text, names)
    if named:
        return named
    if len(names) == 1:
        return names[0], text.strip()
    raise UsageError(
        f"“{text}” does not name its table.",
        remedy=f"Begin it with a name and a colon, as in “{names[0]}: ...”.",
    )


def _named(text: str, names: Sequence[str]) -> tuple[str, str] | None:
    """The table that a line begins with, and the rest of it; None if it begins with none."""
    for name in sorted(names, key=len, reverse=True):
        if text.strip().startswith(f"{name}:"):
            return name, text.strip()[len(name) + 1 :].strip()
    return None


def _measure(text: str) -> BlendMeasure:
    found = _MEASURE.fullmatch(text)
    known = [function.value for function in Function]
    if found is None or found[1].lower() not in known:
        raise UsageError(
            f"“{text}” is not a measure.",
            remedy=f"Write it like “sum(cost) as total”, with {', '.join(known)}.",
        )
    function, of, name = found[1].lower(), found[2].strip(), (found[3] or "").strip()
    of = "" if of == "*" else of
    return BlendMeasure(name or f"{function} of {of or 'rows'}", function, of)


def _spread(text: str, settings: BlendSettings) -> BlendSettings:
    found = _SPREAD.fullmatch(text.strip())
    assert found is not None
    name, names = found[1].strip(), [measure.name for measure in measures_of(settings)]
    if name not in names:
        raise UsageError(
            f"There is no measure “{name}” to be spread.", remedy=f"There are: {', '.join(names)}."
        )
    stands = Stands.FIRST if found[3] else Stands.SPREAD
    return placing(settings, [name], stands, (found[2] or "").strip())
