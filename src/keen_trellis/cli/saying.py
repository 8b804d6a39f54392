"""Text to the terminal. What comes from data stays text there: never markup, and no control character that a
terminal would obey.
"""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import click

from keen_trellis.core.errors import TrellisError
from keen_trellis.flow.plain_text import VISIBLE, cut, visible

if TYPE_CHECKING:
    from rich.console import Console


def cell_shown(text: str) -> str:
    """A text as a cell of a printed table shows it; no more of it than could be read there."""
    return visible(cut(text))


def say(text: object = "", *, err: bool = False) -> None:
    """Print a line."""
    click.echo(visible(str(text)), err=err)


def option_said(error: TrellisError) -> str:
    """What lets an error through on the command line, as a sentence behind it; "" for nothing."""
    return f" ({error.option} accepts it.)" if error.option else ""


def say_members(members: Any) -> None:
    """Print one JSON object, in which such characters are written as JSON's own escapes."""
    escapes = {number: f"\\u{number:04x}" for number in VISIBLE}
    click.echo(json.dumps(members, ensure_ascii=False).translate(escapes))


def console() -> Console:
    """Where tables are printed: nothing in them is markup, an emoji's name, or a number to be coloured."""
    from rich.console import Console

    return Console(highlight=False, soft_wrap=True, markup=False, emoji=False)
