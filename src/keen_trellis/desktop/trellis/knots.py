"""What the bar of a knot is cut into, and the stubs that leave it: for joins, blends and unions."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.trellis.shapes import Part
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.session.outcome import Outcome

SMALLEST_PART = 6
_GAP = 2.0


class Cut(msgspec.Struct, frozen=True):
    """A knot's words, and its parts with their rows from top to bottom, not yet of any size.

    stubs: by part, the words at the end of the stub and their short form.  inputs: by part, the number of the
    input whose hue it has; what has none is ink.  counted, counted_short: the rows behind it, and what they
    are compared with those before; alarm: whether that is cause for alarm.
    """

    caption: str
    detail: str
    short_caption: str = ""
    short: str = ""
    parts: tuple[Part, ...] = ()
    stubs: Mapping[str, tuple[str, str]] = ()  # type: ignore[assignment]
    inputs: Mapping[str, int] = ()  # type: ignore[assignment]
    counted: str = ""
    counted_short: str = ""
    alarm: bool = False


class Cutting(msgspec.Struct, frozen=True):
    """What the trellis knows of a kind of knot.

    cut: how the bar of a step is cut that came to this, from how it is without its result.  upwards: the
    port whose stub ends above the knot's rail.  said: by port, a word behind the count of a rail that carries
    it on.
    """

    cut: Callable[[Step, Outcome, Cut], Cut]
    upwards: str = ""
    said: Mapping[str, str] = ()  # type: ignore[assignment]


PLAIN = Cutting(lambda _step, _outcome, plain: plain)


def cut(step: Step, outcome: Outcome | None, cutting: Cutting) -> Cut:
    """How a knot is shown that came to this."""
    error = outcome.error if outcome is not None else None
    plain = Cut(step.name, "cannot be computed" if error is not None else "working it out")
    if outcome is not None and outcome.figures is not None:
        count = outcome.figures.rows[ROWS]
        rows = rows_said(count)
        plain = msgspec.structs.replace(
            plain, detail=f"{step.kind} · {rows}", counted=rows, counted_short=rows, alarm=not count
        )
    if step.skipped:
        return msgspec.structs.replace(plain, detail="skipped for now")
    if outcome is None or outcome.step is None or len(outcome.inputs) != len(step.inputs):
        return plain
    try:
        return cutting.cut(step, outcome, plain)
    except TrellisError:  # settings that cannot be read: the step says so itself
        return plain


def sized(parts: Sequence[Part], top: float, height: float) -> tuple[Part, ...]:
    """The parts from `top` down, in proportion, none that is not empty too small to click."""
    if not parts:
        return ()
    room = height - _GAP * (len(parts) - 1)
    least = min(SMALLEST_PART + 4.0, room / len(parts))
    total = sum(part.rows for part in parts)
    sizes = [room * part.rows / total if total else 0.0 for part in parts]
    small = [size < (least if part.rows else SMALLEST_PART) for size, part in zip(sizes, parts, strict=True)]
    sizes = [
        (least if part.rows else SMALLEST_PART / 2) if is_small else size
        for size, part, is_small in zip(sizes, parts, small, strict=True)
    ]
    left = room - sum(size for size, is_small in zip(sizes, small, strict=True) if is_small)
    weight = sum(part.rows for part, is_small in zip(parts, small, strict=True) if not is_small)
    placed, y = [], top
    for part, size, is_small in zip(parts, sizes, small, strict=True):
        tall = size if is_small else left * part.rows / weight
        placed.append(msgspec.structs.replace(part, top=y, bottom=y + tall))
        y += tall + _GAP
    return tuple(placed)
