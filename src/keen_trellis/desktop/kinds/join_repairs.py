"""What repairs a join whose fields are gone, or can never be equal."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.core.values import FieldType, comparable
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.session import editing, source_fields
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class JoinRepairs:
    """The chips behind a join that cannot be computed."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self._session, self._pane = session, pane

    def items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """What a join lacks whose fields are gone, with the repairs: the field was renamed, or do without
        it.
        """
        assert outcome.error is not None
        items: list[Item] = [
            Word(str(outcome.error), alarm=True),
            *self._retype_chips(step, settings, outcome),
        ]
        for side, (shape, named) in enumerate(zip(outcome.inputs, _fields_named(settings), strict=True)):
            known = [field.name for field in shape.fields]
            source = self._session.flow.find(step.inputs[side].step)
            for name in [name for name in named if name not in known][:1]:
                if source is not None and KINDS.begins_rail(source):
                    items.append(self._renamed_chip(source, shape, name, named))
                if name not in {link.left if side == 0 else link.right for link in settings.links}:
                    items.append(
                        Chip(
                            f"do without {name}",
                            partial(self._do_without, step, side, name),
                            "Without",
                            doing=True,
                        )
                    )
        return items

    def _retype_chips(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """For the first link whose types can never be equal: to read either side as the other is."""
        shapes = [{field.name: field for field in shape.fields} for shape in outcome.inputs]
        for link in settings.links:
            left, right = shapes[0].get(link.left), shapes[1].get(link.right)
            if left is None or right is None or comparable(left.type, right.type):
                continue
            sources = [self._session.flow.find(entry.step) for entry in step.inputs]
            return [
                Chip(
                    f"read {mine.name} as {other.type.value}",
                    partial(self._retype, source, mine.name, other.type),
                    "Retype",
                    doing=True,
                )
                for source, mine, other in ((sources[0], left, right), (sources[1], right, left))
                if source is not None and KINDS.begins_rail(source)
            ]
        return []

    def _retype(self, source: Step, name: str, kind: FieldType, _: QWidget) -> None:
        source_fields.read_as(self._session, source.id, name, kind)

    def _renamed_chip(self, source: Step, shape: InputShape, name: str, named: set[str]) -> Chip:
        def choose(anchor: QWidget) -> None:
            # Fields that nothing names yet first: the renamed one is among them as a rule.
            ordered = sorted(shape.fields, key=lambda field: field.name in named)
            choices = [Choice(field.name, field.name, field.type.value) for field in ordered]
            title = f"What is “{name}” of {source.name} called now?"
            chooser = Chooser(choices, self._pane, title=title)
            self._pane.open_list(
                chooser,
                anchor,
                chosen=lambda now: source_fields.call_as_before(self._session, source.id, now, name),
            )

        return Chip(f"{name} is called … now", choose, "Renamed", doing=True)

    def _do_without(self, step: Step, side: int, name: str, _: QWidget) -> None:
        which = "keep" if side == 0 else "bring"
        settings = editing.join_settings(self._session, step.id)
        kept = tuple(entry for entry in getattr(settings, which) or () if entry != name)
        editing.change_join(self._session, step.id, f"Do without {name}", **{which: kept})


def _fields_named(settings: JoinSettings) -> tuple[set[str], set[str]]:
    """The fields of the left and of the right that a join names."""
    left = {link.left for link in settings.links if not link.left_is_expression} | set(settings.keep or ())
    right = {link.right for link in settings.links if not link.right_is_expression} | set(
        settings.bring or ()
    )
    return left, right
