"""The blend step: tables of other grain, each summarised to its link fields, around a main one."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.blending import Keep, Other, Placed, Stands, blend, blend_fields, check_blend
from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.summarising import Key, summary_fields
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called, encode_settings
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.steps.summarise import MeasureSettings

UNUSED = "unused:"


class BlendMeasure(MeasureSettings, frozen=True, omit_defaults=True):
    """A measure and where it stands: on every row of its group, on the first, or spread over all.

    by: what it is spread by, a field or expression of the main table, "" for equal shares.
    """

    stands: str = Stands.EVERY.value
    by: str = ""

    @property
    def placed(self) -> Placed:
        return Placed(self.measure, called(Stands, self.stands, "place of a measure"), self.by)


class OtherSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One of the other tables. links: the main table's side on the left.  where: what its rows fulfil."""

    links: tuple[LinkSettings, ...] = ()
    measures: tuple[BlendMeasure, ...] = ()
    where: str = ""


class BlendSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """others: one entry for each input after the first.  keep: every, found, groups or all-groups."""

    others: tuple[OtherSettings, ...] = ()
    keep: str = Keep.EVERY.value

    @property
    def kept(self) -> Keep:
        return called(Keep, self.keep, "way to keep rows")


class BlendKind:
    """A main input and any number of others; a port for the groups of each other that no row used."""

    name = "blend"
    settings_type: type[msgspec.Struct] = BlendSettings
    input_names: tuple[str, ...] = ("main", "other")
    path_settings: tuple[str, ...] = ()
    on_rail = False

    def ports(self, settings: BlendSettings) -> tuple[str, ...]:
        return (ROWS, *(f"{UNUSED}{number}" for number in range(1, len(settings.others) + 1)))

    def fields(self, settings: BlendSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        main, tables = inputs[0].fields, [entry.fields for entry in inputs[1:]]
        others = _others(settings, inputs)
        if not port.startswith(UNUSED):
            return blend_fields(main, tables, others, settings.kept)
        number = int(port.removeprefix(UNUSED)) - 1
        keys = [Key(link.right) for link in others[number].links]
        return summary_fields(tables[number], keys, [placed.measure for placed in others[number].measures])

    def problems(self, settings: BlendSettings, inputs: Sequence[InputShape]) -> list[TrellisError]:
        try:
            others = _others(settings, inputs)
            check_blend(inputs[0].fields, [entry.fields for entry in inputs[1:]], others, settings.kept)
            self.fields(settings, inputs, ROWS)
        except TrellisError as error:
            return [error]
        return []

    def fingerprint(self, settings: BlendSettings, inputs: Sequence[InputShape]) -> object:
        return encode_settings(settings)

    def compute(self, settings: BlendSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        shapes = [InputShape(entry.name, entry.table.fields) for entry in inputs]
        tables = [entry.table for entry in inputs[1:]]
        made = blend(inputs[0].table, tables, _others(settings, shapes), settings.kept, context.task)
        unused = {f"{UNUSED}{number}": found.unused for number, found in enumerate(made.others, 1)}
        return StepResult({ROWS: made.table, **unused}, blended=made)

    def sentence(self, settings: BlendSettings, inputs: Sequence[InputShape]) -> str:
        parts = []
        for entry, shape in zip(settings.others, inputs[1:], strict=False):
            links = " and ".join(f"{link.left} = {link.right}" for link in entry.links)
            names = ", ".join(measure.name for measure in entry.measures)
            where = f" where {entry.where}" if entry.where else ""
            parts.append(f"{names or 'nothing yet'} of {shape.name}{where}, by {links or 'nothing yet'}")
        return f"Blend {inputs[0].name} with {'; '.join(parts)}."


def _others(settings: BlendSettings, inputs: Sequence[InputShape]) -> list[Other]:
    if len(settings.others) != len(inputs) - 1:
        raise UsageError(
            f"The blend has {len(inputs) - 1} other tables, and settings for {len(settings.others)}.",
            remedy="Say of each other table how it is linked and what is measured.",
        )
    return [
        Other(
            shape.name,
            tuple(link.link for link in entry.links),
            tuple(measure.placed for measure in entry.measures),
            entry.where,
        )
        for entry, shape in zip(settings.others, inputs[1:], strict=True)
    ]
