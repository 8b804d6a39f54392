"""Links as they are written in one line: a side of the left table, an operator, a side of the right."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.link import parsed
from keen_trellis.core.table import Field, find_field
from keen_trellis.flow.steps.join import LinkSettings

_OPERATOR = re.compile(r"<=|>=|<>|=|<|>")


def read_link(text: str, left: Sequence[Field], right: Sequence[Field]) -> LinkSettings:
    """The link that `text` writes. A side that is the name of a field is that field, any other an expression.

    Names may hold operators themselves: of several ways to read it, one with two names comes first. A name
    alone stands for both sides. UsageError if it can be read in no way.
    """
    splits = list(_splits(text)) or [(text.strip(), "=", text.strip())]
    names = {field.name for field in left}, {field.name for field in right}
    for one, sign, other in splits:
        if one in names[0] and other in names[1]:
            return LinkSettings(one, other, operator=sign)
    first: TrellisError | None = None
    for one, sign, other in splits:
        try:
            return LinkSettings(
                one,
                other,
                operator=sign,
                left_is_expression=_is_expression(one, left, "the left table"),
                right_is_expression=_is_expression(other, right, "the right table"),
            )
        except UsageError as error:
            first = first or error
    assert first is not None
    raise first


def _splits(text: str) -> Iterator[tuple[str, str, str]]:
    for found in _OPERATOR.finditer(text):
        one, other = text[: found.start()].strip(), text[found.end() :].strip()
        if one and other:
            yield one, found.group(), other


def _is_expression(text: str, fields: Sequence[Field], table: str) -> bool:
    if any(field.name == text for field in fields):
        return False
    # What looks like a name and is none is a slip, and gets the error that names its neighbours.
    if re.fullmatch(r"[\w .-]+", text) and not re.search(r"[()'\"]|\d\s*[-+*/]", text):
        try:
            parsed(text, fields)
        except UsageError:
            find_field(fields, text, table)
    else:
        parsed(text, fields)
    return True


def read_corrections(text: str) -> tuple[tuple[str, str], ...]:
    """Pairs "read this as that", one a line, a tab or an arrow between; UsageError for a line without."""
    found = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        wrong, sign, right = line.partition("\t") if "\t" in line else line.partition("→")
        if not sign or not wrong.strip() or not right.strip():
            raise UsageError(
                f"Line {number}, “{line.strip()}”, is not a pair.",
                remedy="Put a tab or → between its two parts.",
            )
        found[wrong.strip()] = right.strip()
    return tuple(found.items())


def read_score(text: str) -> float:
    """How alike texts must be, as somebody wrote it. UsageError for what is not from 1 to 100."""
    try:
        found = float(text)
    except ValueError:
        found = 0.0
    if not 1 <= found <= 100:
        raise UsageError(f"“{text.strip()}” is not from 1 to 100.", remedy="85 is a good one to begin with.")
    return found
