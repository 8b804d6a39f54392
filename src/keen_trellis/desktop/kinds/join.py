"""The sentence of a join: what is compared and how, which rows are taken, which fields come along."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.kinds.accepted import AcceptedValues
from keen_trellis.desktop.kinds.join_fields import JoinFields
from keen_trellis.desktop.kinds.join_knot import JOIN_CUTTING
from keen_trellis.desktop.kinds.join_links import JoinLinks
from keen_trellis.desktop.kinds.join_repairs import JoinRepairs
from keen_trellis.desktop.kinds.join_rows import rows_of_join
from keen_trellis.desktop.kinds.join_rungs import JoinRungs
from keen_trellis.desktop.kinds.link_lists import LinkLists
from keen_trellis.desktop.kinds.stub import StubSentence
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.choices import (
    question_choices,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.instead import Instead
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinKind, JoinSettings
from keen_trellis.flow.wording import question, rows_called
from keen_trellis.handbook import Chapter
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_LINK_FIRST = object()  # a choice of the question list that is no join type


class JoinSentence(SentencePart):
    """Builds the sentence of a join, and carries out what its chips choose."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        super().__init__(session, pane)
        self._accepted = AcceptedValues(session, pane)
        self._stub = StubSentence(session, pane)
        self._links = JoinLinks(session, pane)
        self._lists = LinkLists(session, pane)
        self._rungs = JoinRungs(session, pane)
        self._fields = JoinFields(session, pane)
        self._repairs = JoinRepairs(session, pane)

    def ask_why(self, step: Step) -> None:
        self._accepted.ask_note(step.id)

    def error_items(self, step: Step, error: TrellisError) -> list[Item]:
        return [*super().error_items(step, error), *self._lists.repairs(step)]

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if self.session.selection.port != ROWS:
            return self._stub.items(step, outcome)
        settings: JoinSettings = KINDS.settings(step)
        if (
            outcome is None
            or outcome.step is None
            or outcome.step.inputs != step.inputs
            or len(outcome.inputs) != 2
        ):
            return [Word(f"{step.name}: reading its tables.")]
        left, right = outcome.inputs
        if settings.join_type is JoinType.CROSS and not settings.links:
            return self._cross_items(step, settings, outcome)
        items: list[Item] = [Word("Match"), *self._links.items(step, settings, outcome.inputs, outcome)]
        if not settings.links:
            items += [Word("or"), self._cross_chip(step, outcome)]
        items += self._rungs.items(step, settings, outcome)
        items += self._fields.take(step, settings, outcome)
        items += self._accepted.items(step.id, settings, (left.name, right.name))
        if outcome.error is not None:
            return [*items, *self._repairs.items(step, settings, outcome)]
        items += self._fields.items(step, settings, left, right)
        items += self._fields.merged(settings, outcome)
        items.append(Word("This answers:"))
        items.append(
            Chip(
                question(settings.join_type, left.name, right.name),
                lambda anchor: self.ask_question(step, anchor=anchor),
                "Question",
                strong=True,
            )
        )
        if outcome.result is not None and outcome.result.match is not None:
            rows = outcome.result.match.counts.rows_under(settings.join_type)
            items.append(
                Word(f"{rows:,} {'row' if rows == 1 else 'rows'}; keys 1 to 9 ask others, or see all")
            )
            items.append(
                Chip("side by side", lambda _: self.pane.types_wanted.emit(), "Join types side by side")
            )
        return items

    def ask_question(
        self, step: Step, *, title: str = "", instead: Sequence[Instead] = (), anchor: QWidget | None = None
    ) -> None:
        """Open the list of questions; their counts are filled in as soon as they are known.

        instead: for a knot that was just made: what could be made of the two rails in its place.
        """
        step_id = step.id
        outcome = self.session.outcome(step_id)
        current = editing.join_settings(self.session, step_id).join_type
        unlinked = not editing.join_settings(self.session, step_id).links

        def choices(outcome: Outcome | None) -> list[Choice]:
            found = [Choice(_LINK_FIRST, "join them, by link fields that are chosen now")]
            if not unlinked:
                found = question_choices(self.session, step_id, outcome)
            return [*found, *(entry.choice(outcome) for entry in instead)]

        take_back = self.taking_back()
        chooser = Chooser(choices(outcome), self.pane, title=title, current=current, numbered=True)
        chooser.follow(lambda: choices(self.session.outcome(step_id)))

        def reload(concerned: frozenset[str]) -> None:
            if step_id in concerned:
                chooser.reload()

        self.session.outcomes_changed.connect(reload)
        chooser.destroyed.connect(lambda: self.session.outcomes_changed.disconnect(reload))

        def chosen(kind: object) -> None:
            if isinstance(kind, Instead):
                take_back()
                kind.make()
            elif isinstance(kind, JoinType):
                editing.change_join_type(self.session, step_id, kind)

        self.pane.open_list(
            chooser,
            anchor or self.pane.view,
            chosen=chosen,
            dismissed=take_back if instead else None,
            at=None if anchor else QPoint(240, 4),
        )

    def _cross_chip(self, step: Step, outcome: Outcome) -> Chip:
        one, other = (rows_called(shape.name)[0] for shape in outcome.inputs)
        said = f"pair every {one} with every {other} on purpose"
        if len(outcome.tables) == 2:
            said = f"{said}: {math.prod(table.rows for table in outcome.tables):,} rows"

        def change(_: QWidget) -> None:
            editing.change_join(self.session, step.id, "Make it a cross join", type=JoinType.CROSS.value)

        return Chip(said, change, "Cross join", doing=True)

    def _cross_items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        left, right = outcome.inputs
        one, other = rows_called(left.name)[0], rows_called(right.name)[0]

        def back(_: QWidget) -> None:
            said = "Match by fields"
            editing.change_join(self.session, step.id, said, type=JoinType.LEFT_OUTER.value)

        items: list[Item] = [
            Word(f"Pair every {one} with every {other} (cross join)."),
            *self._fields.items(step, settings, left, right),
        ]
        if outcome.error is not None:
            items.append(Word(str(outcome.error), alarm=True))
        elif outcome.result is not None:
            items.append(Word(f"{outcome.result.rows.rows:,} rows."))
        return [*items, Chip("match by fields instead", back, "Link fields", doing=True)]


VIEW = KindView(JoinKind.name, JoinSentence, JOIN_CUTTING, shows=rows_of_join, chapter=Chapter.JOIN)
