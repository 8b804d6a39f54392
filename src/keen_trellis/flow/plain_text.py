"""Text that comes from data, as it may be shown: what controls a screen is made visible, what is long is
cut.
"""

from __future__ import annotations

LONGEST_SHOWN = 1_000  # characters of one value
# Control characters, and those that turn the direction of the text about them, by what is shown instead.
_TURNING = (0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
VISIBLE = {
    **{number: chr(0x2400 + number) for number in range(32)},
    0x7F: "\u2421",
    **{number: f"<{number:02X}>" for number in range(0x80, 0xA0)},
    **{number: f"<U+{number:04X}>" for number in _TURNING},
    # Bytes of a name that is not UTF-8.
    **{number: f"<{number - 0xDC00:02X}>" for number in range(0xDC80, 0xDD00)},
}


def visible(text: str) -> str:
    """The text with control characters made visible."""
    return text.translate(VISIBLE)


def is_sayable(name: str) -> bool:
    """Whether the name of a file can stand in a flow: it is UTF-8, and without the character 0."""
    try:
        return b"\0" not in name.encode()
    except UnicodeEncodeError:
        return False


def cut(text: str, most: int = LONGEST_SHOWN) -> str:
    """The text, or its beginning where it is longer than `most` characters."""
    return text if len(text) <= most else f"{text[: most - 1]}…"
