"""What is said of a mend on the bench."""

from __future__ import annotations

from keen_trellis.core.insight.reason import Mend, Way, rows_said


def mend_text(mend: Mend) -> str:
    """A mend as what a click or Enter does."""
    said = mend.said[:1].upper() + mend.said[1:]
    if mend.way.takes_away:
        return f"{said}, {rows_said(mend.gain)} fewer"
    if mend.way in (Way.ACCEPT, Way.FILL):
        return said
    gains = f"{said}, {'up to ' if mend.way is Way.REVIEW else 'gains '}{mend.gain:,}"
    if mend.merged:
        keys = "1 key" if mend.merged == 1 else f"{mend.merged:,} keys"
        return f"{gains}, but {keys} can no longer be distinguished"
    return gains
