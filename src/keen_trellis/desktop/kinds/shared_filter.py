"""The sentence of the tie of a shared filter to a rail."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import SharedFilter, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.shared_filters import filter_said
from keen_trellis.flow.steps.shared_filter import SharedFilterKind, TieSettings
from keen_trellis.handbook import Chapter
from keen_trellis.session.filters import reaches
from keen_trellis.session.selection import Selection


class TieSentence(RailSentence):
    """Keep the rows of Loans in which [Region] is North: the shared filter [Region]."""

    def clauses(self, step: Step, settings: TieSettings, shape: InputShape) -> Sequence[Item]:
        shared = self.session.flow.shared_filter(settings.filter)
        if shared is None:
            return [Word(f"{step.name} was tied to a shared filter that is gone.", alarm=True)]
        said = filter_said(SharedFilter(shared.id, "", shared.is_, shared.values)).strip()

        def choose(anchor: QWidget) -> None:
            source = next((r.source for r in reaches(self.session, shared) if r.tie == step.id), "")
            self.pane.tie_wanted.emit(shared.id, source, step.id, anchor)

        def go(_: QWidget) -> None:
            self.session.select(Selection(slat=shared.id))

        return [
            Word(f"Keep the rows of {shape.name} in which"),
            Chip(settings.of, choose, "Field"),
            Word(f"{said}, as the filter shared by several rails says:"),
            Chip(shared.name, go, "Shared filter", doing=True),
            Word("."),
        ]


VIEW = KindView(SharedFilterKind.name, TieSentence, chapter=Chapter.SHARE)
