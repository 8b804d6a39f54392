"""Text to the terminal. What comes from data stays text there: never markup, and no control character that a
terminal would obey.
"""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from rich.console import Console

# Control characters, and those that turn the direction of the text about them, by what is shown instead.
_TURNING = (0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
_SHOWN = {
    **{number: chr(0x2400 + number) for number in range(32)},
    0x7F: "\u2421",
    **{number: f"<{number:02X}>" for number in range(0x80, 0xA0)},
    **{number: f"<U+{number:04X}>" for number in _TURNING},
}


def shown(text: str) -> str:
    """The text with control characters made visible."""
    return text.translate(_SHOWN)


def say(text: object = "", *, err: bool = False) -> None:
    """Print a line."""
    click.echo(shown(str(text)), err=err)


def say_members(members: Any) -> None:
    """Print one JSON object, in which such characters are written as JSON's own escapes."""
    escapes = {number: f"\\u{number:04x}" for number in _SHOWN}
    click.echo(json.dumps(members, ensure_ascii=False).translate(escapes))


def console() -> Console:
    """Where tables are printed: nothing in them is markup, an emoji's name, or a number to be coloured."""
    from rich.console import Console

    return Console(highlight=False, soft_wrap=True, markup=False, emoji=False)
