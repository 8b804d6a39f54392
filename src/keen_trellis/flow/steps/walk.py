"""The walk step: a table that points to itself, from each part to the whole at the top."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.table import Field
from keen_trellis.core.walking import Walk, walked, walked_fields
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, Figures, InputRows, InputShape, StepResult, shapes_of
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed, with_article

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget

CIRCLES, LOST, TWICE = "in a circle", "lost", "twice"


class WalkSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """part: the field that says which whole a row is part of.  whole: the one of whose values it is.

    level_field, path_field, top_field: the new ones, "" for none.  bring: fields of the top that come along.
    top_down: each whole before its parts.
    """

    part: str = ""
    whole: str = ""
    level_field: str = "level"
    path_field: str = "path"
    top_field: str = "top"
    bring: tuple[str, ...] = ()
    top_down: bool = False

    @property
    def caption(self) -> str:
        return f"{self.part} to the top" if self.part else "to the top"

    @property
    def walk(self) -> Walk:
        return Walk(
            self.part,
            self.whole,
            self.level_field,
            self.path_field,
            self.top_field,
            self.bring,
            self.top_down,
        )


class WalkKind(OneInputKind[WalkSettings]):
    """One input; the same rows, each with what is above it."""

    name = "walk"
    settings_type = WalkSettings

    def fields(self, settings: WalkSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return walked_fields(inputs[0].fields, settings.walk) if settings.part else inputs[0].fields

    def compute(self, settings: WalkSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        if not settings.part:
            return StepResult({ROWS: inputs[0].table})
        made = walked(inputs[0].table, settings.walk, context.task)
        told = {CIRCLES: len(made.circles), LOST: made.lost, TWICE: made.twice}
        return StepResult({ROWS: made.table}, told={what: count for what, count in told.items() if count})

    def sql(self, settings: WalkSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.rows import kept
        from keen_trellis.flow.in_sql.walks import said_walk

        if not settings.part:
            return kept(inputs[0])
        made = self.fields(settings, shapes_of(inputs), port)
        return said_walk(inputs[0], settings.walk, made, target)

    def doubts(
        self, settings: WalkSettings, figures: Figures, inputs: Sequence[InputShape]
    ) -> Iterator[tuple[str, str]]:
        yield from walk_doubts(settings, figures)

    def sentence(self, settings: WalkSettings, inputs: Sequence[InputShape]) -> str:
        name = inputs[0].name
        if not settings.part:
            return f"{name} is not walked yet."
        new = [f for f in (settings.level_field, settings.path_field, settings.top_field) if f]
        new += [settings.walk.brought(name) for name in settings.bring]
        order = ", each whole before its parts" if settings.top_down else ""
        return (
            f"In {name}, follow {settings.part} to {settings.whole} up to the top, "
            f"and add {listed(new, len(new)) or 'nothing'}{order}."
        )


def walk_doubts(settings: WalkSettings, figures: Figures) -> Iterator[tuple[str, str]]:
    """What is odd about the wholes that were walked to, each with a word that sums it up."""
    told = figures.told
    if count := told.get(CIRCLES, 0):
        said = "leads" if count == 1 else "lead"
        yield "circle", f"{rows_said(count)} {said} round in a circle by {settings.part}, and have no top."
    if count := told.get(LOST, 0):
        said = "points" if count == 1 else "point"
        yield "no whole", f"{rows_said(count)} {said} to {with_article(settings.whole)} that is not there."
    if count := told.get(TWICE, 0):
        said = "points" if count == 1 else "point"
        whole = with_article(settings.whole)
        yield (
            "twice",
            f"{rows_said(count)} {said} to {whole} that is there several times: the first is taken.",
        )
