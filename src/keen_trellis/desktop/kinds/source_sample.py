"""The sentence of a source that is a large table of a database: all of its rows, or a sample."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.core.table import Field
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import PARTS, Sampling, SourceSettings, parts_read
from keen_trellis.sources.readers import uses_of
from keen_trellis.sources.reading import SAMPLE

_PARTS = 64  # unless the user says otherwise
_ALL = ""


class SourceSample(SentencePart):
    """Read objects of the registry, [a sample by accession], [64 of 4,096 parts]."""

    def rows(self, step: Step, settings: SourceSettings, fields: Sequence[Field]) -> list[Item]:
        if not uses_of(settings) >= SAMPLE or settings.query:
            return []
        names = [entry.name for entry in fields]
        sample = settings.sample
        text = f"a sample by {sample.by}" if sample.parts else "all rows"
        found: list[Item] = [Word(","), Chip(text, partial(self._choose, step, names), "Which rows")]
        if sample.parts:
            parts = f"{sample.parts:,} of {PARTS:,} parts"
            found += [Word(","), Chip(parts, partial(self._ask_parts, step), "How large the sample is")]
        return found

    def _choose(self, step: Step, names: Sequence[str], anchor: QWidget) -> None:
        choices = [Choice(_ALL, "all rows", "read the whole table")]
        choices += [
            Choice(name, f"a sample by {name}", "the same values as samples of other tables by it have")
            for name in names
        ]
        sample = self._sample(step)

        def chosen(name: str) -> None:
            if name == _ALL:
                self._set(step, "Read all rows", Sampling())
            else:
                self._set(step, f"Look at a sample by {name}", Sampling(name, sample.parts or _PARTS))

        self.choose(anchor, choices, chosen, current=sample.by)

    def _ask_parts(self, step: Step, anchor: QWidget) -> None:
        sample = self._sample(step)

        def asked(text: str) -> None:
            parts = parts_read(text)
            self._set(step, f"A sample of {parts:,} parts", Sampling(sample.by, parts))

        title = f"How many of {PARTS:,} parts, cut by the values of {sample.by}"
        self.ask(anchor, title, str(sample.parts), asked, check=parts_read)

    def _sample(self, step: Step) -> Sampling:
        settings: SourceSettings = self.settings(step)
        return settings.sample

    def _set(self, step: Step, said: str, sample: Sampling) -> None:
        self.change(step, said, sample=sample)
