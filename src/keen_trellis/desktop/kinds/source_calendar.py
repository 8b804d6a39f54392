"""The sentence of a calendar: a row for each what, from which day to which."""

from __future__ import annotations

from functools import partial

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import CalendarSettings, SourceSettings

_WAYS = {
    "day": "with month, quarter, weekday and ISO week",
    "week": "from Monday to Sunday, as ISO 8601 counts them",
    "month": "with its quarter and how many days it has",
}


class SourceCalendar(SentencePart):
    """Calendar: a row for each [day] from [2026-01-01] to [2026-12-31]."""

    def span(self, step: Step, settings: SourceSettings) -> list[Item]:
        span = settings.calendar
        return [
            Word(f"{step.name}: a row for each"),
            Chip(span.by, partial(self._choose_way, step), "Row"),
            Word("from"),
            Chip(span.first or "which day?", partial(self._ask_day, step, "first"), "First day"),
            Word("to"),
            Chip(span.last or "which day?", partial(self._ask_day, step, "last"), "Last day"),
        ]

    def _choose_way(self, step: Step, anchor: QWidget) -> None:
        choices = [Choice(by, by, said) for by, said in _WAYS.items()]
        current = self._span(step).by
        self.choose(
            anchor, choices, lambda by: self._set(step, f"A row for each {by}", by=by), current=current
        )

    def _ask_day(self, step: Step, which: str, anchor: QWidget) -> None:
        def check(text: str) -> None:
            if not text.strip():
                raise UsageError("A calendar needs this day.", remedy="Write it like 2026-01-31.")
            msgspec.structs.replace(self._span(step), **{which: text.strip()}).check()

        self.ask(
            anchor,
            f"The {which} day, like 2026-01-31",
            getattr(self._span(step), which),
            lambda text: self._set(step, f"The {which} day is {text.strip()}", **{which: text.strip()}),
            check=check,
        )

    def _span(self, step: Step) -> CalendarSettings:
        settings: SourceSettings = self.settings(step)
        return settings.calendar

    def _set(self, step: Step, said: str, **changes: str) -> None:
        self.change(step, said, calendar=msgspec.structs.replace(self._span(step), **changes))
