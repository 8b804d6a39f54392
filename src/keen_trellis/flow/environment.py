"""Numbers that the environment may set."""

from __future__ import annotations

import os

from keen_trellis.core.errors import UsageError

# How long one statement of a database may take, in seconds.
QUERY_SECONDS = "KEEN_TRELLIS_QUERY_SECONDS"
_QUERY_SECONDS = 900


def whole_number(name: str, otherwise: int) -> int:
    """The positive whole number in an environment variable, or another where there is none. UsageError."""
    text = os.environ.get(name, "").strip()
    if not text:
        return otherwise
    if not (text.isascii() and text.isdecimal() and int(text[:18]) > 0 and len(text) <= 18):
        raise UsageError(f"{name} is “{text[:40]}”, no whole number above 0.", remedy="Set one, or none.")
    return int(text)


def query_seconds() -> int:
    """How long one statement of a database may take; UsageError if the environment says it wrongly."""
    return whole_number(QUERY_SECONDS, _QUERY_SECONDS)
