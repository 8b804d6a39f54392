"""The sentence of rows that are put next to each other by their place, and how the knot is drawn."""

from __future__ import annotations

import msgspec

from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.part import ReadAloud
from keen_trellis.desktop.trellis.knots import Cut, Cutting
from keen_trellis.desktop.trellis.shapes import MATCHED_PART, Part
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.steps.beside import BesideKind
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome


def cut_beside(step: Step, outcome: Outcome, plain: Cut) -> Cut:
    """The bar is whole: each row has the one next to it."""
    if outcome.figures is None:
        return plain
    count = outcome.figures.rows[ROWS]
    part = Part(MATCHED_PART, 0, 0, True, count, f"{rows_said(count)}, each with the one at its place")
    return msgspec.structs.replace(plain, detail=f"row by row · {rows_said(count)}", parts=(part,))


VIEW = KindView(BesideKind.name, ReadAloud, Cutting(cut_beside), chapter=Chapter.CHAIN)
