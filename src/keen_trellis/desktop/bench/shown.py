"""What the bench shows of a step, as the views of the kinds of step say it."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.bench.content import Content
from keen_trellis.flow.graph import Step
from keen_trellis.flow.mending import Explained
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class Shown(msgspec.Struct, frozen=True):
    """same: all that the rows and their order follow from; while it is equal, they are not laid out anew.

    join_type: of a join.  reasons: why rows did not match, once that is known.
    """

    same: object
    content: Callable[[], Content]
    join_type: JoinType | None = None
    reasons: Explained | None = None


# None while a step has come to nothing but rows, which are then shown as a table.
Shows = Callable[[Session, Explanations, Step, Outcome], Shown | None]
