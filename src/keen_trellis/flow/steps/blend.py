"""The blend step: tables of other grain, each summarised to its link fields, around a main one."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.blending import Keep, Other, Placed, Stands, blend, blend_fields, check_blend
from keen_trellis.core.errors import UsageError
from keen_trellis.core.link import LinkField
from keen_trellis.core.measures import Function
from keen_trellis.core.summarising import Key, summary_fields
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, Traced
from keen_trellis.flow.graph import ROWS, Flow
from keen_trellis.flow.kinds import (
    BlendFigures,
    Context,
    Figures,
    InputRows,
    InputShape,
    Standing,
    StepKind,
    StepResult,
    called,
    shapes_of,
)
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.blend_fates import fates_in_blend
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.steps.summarise import MeasureSettings
from keen_trellis.flow.wording import kept_of_blend, rows_called, times_said

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget

UNUSED = "unused:"
# The part of a blend whose rows found nothing; no port: they are among the rows, or left out.
FOUND_NOTHING = "found_nothing"
_ADDED_UP = (Function.SUM, Function.COUNT)


def unused_port(number: int) -> str:
    """The port of the groups of other table number `number`, from 0, that stand on no row."""
    return f"{UNUSED}{number + 1}"


def unused_number(port: str) -> int | None:
    """Of which other table, from 0, a port holds the groups that stand on no row; None if it does not."""
    number = port.removeprefix(UNUSED)
    return int(number) - 1 if port.startswith(UNUSED) and number.isdigit() else None


class BlendMeasure(MeasureSettings, frozen=True, omit_defaults=True):
    """A measure and where it stands: on every row of its group, on the first, or spread over all.

    by: what it is spread by, a field or expression of the main table, "" for equal shares.
    """

    stands: str = Stands.EVERY.value
    by: ExpressionText = ""

    @property
    def placed(self) -> Placed:
        return Placed(self.measure, called(Stands, self.stands, "place of a measure"), self.by)


class OtherSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One of the other tables. links: the main table's side on the left.  where: what its rows fulfil."""

    links: tuple[LinkSettings, ...] = ()
    measures: tuple[BlendMeasure, ...] = ()
    where: ExpressionText = ""


class BlendSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """others: one entry for each input after the first.  keep: every, found, groups or all-groups.  own:
    measures of the main table, within its groups.
    """

    others: tuple[OtherSettings, ...] = ()
    keep: str = Keep.EVERY.value
    own: tuple[BlendMeasure, ...] = ()

    @property
    def of_main(self) -> list[Placed]:
        """The measures of the main table, as `core` knows them."""
        return [measure.placed for measure in self.own]

    @property
    def kept(self) -> Keep:
        return called(Keep, self.keep, "way to keep rows")


class BlendKind(StepKind[BlendSettings]):
    """A main input and any number of others; a port for the groups of each other that no row used."""

    name = "blend"
    settings_type = BlendSettings
    input_names = ("main", "other")
    more_inputs = True
    standing = Standing.KNOT
    first_only = True

    def ports(self, settings: BlendSettings) -> tuple[str, ...]:
        return (ROWS, *(unused_port(number) for number in range(len(settings.others))))

    def fields(self, settings: BlendSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        main, tables = inputs[0].fields, [entry.fields for entry in inputs[1:]]
        others = _others(settings, inputs)
        number = unused_number(port)
        if number is None:
            return blend_fields(main, tables, others, settings.kept, settings.of_main)
        keys = [Key(link.right) for link in others[number].links]
        return summary_fields(tables[number], keys, [placed.measure for placed in others[number].measures])

    def rows_called(
        self, step_name: str, port: str, settings: BlendSettings, inputs: Sequence[InputShape]
    ) -> str:
        number = unused_number(port)
        if number is None or number + 1 >= len(inputs):
            return step_name
        return f"{inputs[number + 1].name} with no {rows_called(inputs[0].name)[0]}"

    def check(self, settings: BlendSettings, inputs: Sequence[InputShape]) -> None:
        others = _others(settings, inputs)
        tables = [entry.fields for entry in inputs[1:]]
        check_blend(inputs[0].fields, tables, others, settings.kept, settings.of_main)
        self.fields(settings, inputs, ROWS)

    def with_more(self, settings: BlendSettings, more: BlendSettings) -> BlendSettings:
        return msgspec.structs.replace(settings, others=(*settings.others, *more.others))

    def links(self, settings: BlendSettings) -> tuple[tuple[LinkField, int], ...]:
        return tuple(
            (link.link, number) for number, other in enumerate(settings.others, 1) for link in other.links
        )

    def settled(self, settings: BlendSettings, flow: Flow, step: str) -> BlendSettings:
        return self.with_links(settings, lambda link, _: link.listed(flow))

    def with_links(
        self, settings: BlendSettings, change: Callable[[LinkSettings, int], LinkSettings]
    ) -> BlendSettings:
        others = (
            msgspec.structs.replace(other, links=tuple(change(link, number) for link in other.links))
            for number, other in enumerate(settings.others, 1)
        )
        return msgspec.structs.replace(settings, others=tuple(others))

    def part_toggled(
        self, settings: BlendSettings, part: str, inputs: Sequence[InputShape]
    ) -> tuple[BlendSettings, str] | None:
        other = {Keep.EVERY: Keep.FOUND, Keep.FOUND: Keep.EVERY}
        if part == FOUND_NOTHING and settings.kept in other:
            return self.keeping(settings, other[settings.kept], inputs)
        if unused_number(part) is None:
            return None
        if settings.kept is not Keep.GROUPS:
            raise UsageError(
                "Groups without a row stay only where each group is one row.", remedy="Choose what is kept."
            )
        return self.keeping(settings, Keep.ALL_GROUPS, inputs)

    def keeping(
        self, settings: BlendSettings, keep: Keep, inputs: Sequence[InputShape]
    ) -> tuple[BlendSettings, str]:
        """The same blend that keeps other rows, and what that edit is called."""
        main = inputs[0].name if inputs else "rows"
        return keeping(settings, keep), f"Keep {kept_of_blend(keep, main)[0]}"

    def doubts(
        self, settings: BlendSettings, figures: Figures, inputs: Sequence[InputShape]
    ) -> Iterator[tuple[str, str]]:
        for name in without_measure(settings, [entry.name for entry in inputs[1:]]):
            yield "no measure", f"Nothing is measured of {name}, so that no field of it comes along."
        times = repeated(settings, figures.blend) if figures.blend is not None else {}
        for name, often in times.items():
            said = f"Summing {name} would count each value {times_said(often)}: spread it, or show it once."
            yield "counted again", said

    def compute(self, settings: BlendSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        shapes = [InputShape(entry.name, entry.table.fields) for entry in inputs]
        tables = [entry.table for entry in inputs[1:]]
        others, own = _others(settings, shapes), settings.of_main
        made = blend(inputs[0].table, tables, others, settings.kept, context.task, own)
        unused = {unused_port(number): found.unused for number, found in enumerate(made.others)}
        return StepResult({ROWS: made.table, **unused}, blended=made)

    def sql(self, settings: BlendSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.blends import said_blend, said_unused

        shapes = shapes_of(inputs)
        made, others = self.fields(settings, shapes, port), _others(settings, shapes)
        number = unused_number(port)
        if number is not None:
            return said_unused(inputs, others, number, settings.kept, made, target)
        return said_blend(inputs, others, settings.kept, settings.of_main, made, target)

    def fates(
        self, settings: BlendSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        assert result.blended is not None
        others = _others(settings, [InputShape(entry.name, entry.table.fields) for entry in inputs])
        yield from fates_in_blend(others, settings.kept, inputs, result.blended, task)

    def sentence(self, settings: BlendSettings, inputs: Sequence[InputShape]) -> str:
        parts = []
        for entry, shape in zip(settings.others, inputs[1:], strict=False):
            links = " and ".join(f"{link.left} = {link.right}" for link in entry.links)
            names = ", ".join(measure.name for measure in entry.measures)
            where = f" where {entry.where}" if entry.where else ""
            parts.append(f"{names or 'nothing yet'} of {shape.name}{where}, by {links or 'nothing yet'}")
        if settings.own:
            parts.append(f"{', '.join(measure.name for measure in settings.own)} of its own rows")
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


def without_measure(settings: BlendSettings, names: Sequence[str]) -> list[str]:
    """Those of the other tables of which nothing is measured, so that no field of them comes along."""
    return [name for entry, name in zip(settings.others, names, strict=True) if not entry.measures]


def repeated(settings: BlendSettings, figures: BlendFigures) -> dict[str, float]:
    """The sums and counts that stand on several rows of their group, and how often on average: adding them up
    again counts each of them so many times.
    """
    if settings.kept not in (Keep.EVERY, Keep.FOUND):
        return {}
    tables = [settings.own, *(entry.measures for entry in settings.others)]
    return {
        measure.name: often
        for measures, often in zip(tables, (figures.own_times, *figures.times), strict=True)
        for measure in measures
        if measure.placed.stands is Stands.EVERY and measure.measure.function in _ADDED_UP and often > 1
    }


def keeping(settings: BlendSettings, keep: Keep) -> BlendSettings:
    """Keep other rows; where each group is one row, measures stand on it as they are."""
    if keep not in (Keep.EVERY, Keep.FOUND):
        names = [measure.name for measure in measures_of(settings)]
        settings = placing(settings, names, Stands.EVERY)
    return msgspec.structs.replace(settings, keep=keep.value)


def placing(settings: BlendSettings, names: Collection[str], stands: Stands, by: str = "") -> BlendSettings:
    """Let some measures stand on every row of their group, on the first, or be spread over all."""

    def placed(measure: BlendMeasure) -> BlendMeasure:
        if measure.name not in names:
            return measure
        return msgspec.structs.replace(measure, stands=stands.value, by=by)

    others = tuple(
        msgspec.structs.replace(entry, measures=tuple(placed(measure) for measure in entry.measures))
        for entry in settings.others
    )
    return msgspec.structs.replace(settings, others=others, own=tuple(map(placed, settings.own)))


def measures_of(settings: BlendSettings) -> list[BlendMeasure]:
    """All measures of a blend: those of the main table, then those of the others."""
    return [*settings.own, *(measure for entry in settings.others for measure in entry.measures)]
