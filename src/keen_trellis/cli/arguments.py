"""What the words of a command name: tables, links, and the settings of a join."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
import msgspec

from keen_trellis.core.preparations import PREPARATIONS

# How two tables are linked, asked in the same words by every command that matches them.
_LINKING = (
    click.argument("left"),
    click.argument("right"),
    click.option(
        "--link",
        "links",
        multiple=True,
        help="LEFT=RIGHT, or with <> < <= > >=. A side is a field's name or an expression; all must hold.",
    ),
    click.option("--any", "any_of", is_flag=True, help="One of the links is enough."),
    click.option("--ignore", default="", help=f"What links ignore, with commas: {', '.join(PREPARATIONS)}."),
    click.option("--compare-as", default="", help="Compare as text, number or date."),
    click.option("--blank-matches-blank", is_flag=True, help="A blank link field matches a blank one."),
    click.option(
        "--correct", type=click.Path(path_type=Path), help="A table of two columns: read this as that."
    ),
    click.option(
        "--take",
        default="every",
        show_default=True,
        help="Which matches: every, first, last, one, pair-off, least:EXPRESSION, greatest:EXPRESSION.",
    ),
    click.option("--like", help="The last link's texts need only be so much alike, 1 to 100."),
    click.option("--near", help="The last link's numbers, or dates in days, may be so far apart; or any."),
    click.option("--best", is_flag=True, help="With those: only what is most alike, or nearest."),
)


def linked(command: Any) -> Any:
    """Give a command the arguments and options of a match."""
    for option in reversed(_LINKING):
        command = option(command)
    return command


class Tables(msgspec.Struct, frozen=True):
    """The tables that a command names, as rails of a flow."""

    library: Any
    sides: Sequence[Any]
    flow: Any
    inputs: Sequence[Any]
    runner: Any
    shapes: Sequence[Any]

    @staticmethod
    def of(texts: Sequence[str]) -> Tables:
        from keen_trellis.flow import edits
        from keen_trellis.flow.graph import Flow, Input
        from keen_trellis.flow.runner import Runner
        from keen_trellis.flow.steps import KINDS
        from keen_trellis.sources.library import Library, resolve

        library, flow, inputs = Library(), Flow(), []
        sides = [resolve(text, library) for text in texts]
        for side in sides:
            flow, step = edits.add_source(flow, side.settings, side.name)
            inputs.append(Input(step))
        runner = Runner(KINDS, library)
        return Tables(library, sides, flow, inputs, runner, [runner.shape(flow, entry) for entry in inputs])

    def filtered(self, conditions: Sequence[Sequence[str]]) -> tuple[Any, list[Any]]:
        """The flow, and its rails with a filter each on those that have conditions."""
        flow, inputs = self.flow, list(self.inputs)
        if not any(conditions):
            return flow, inputs
        from keen_trellis.core.filtering import Comparison
        from keen_trellis.flow import edits
        from keen_trellis.flow.graph import Input
        from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings

        for place, texts in enumerate(conditions):
            if texts:
                told = tuple(ConditionSettings(text, Comparison.TRUE.value) for text in texts)
                settings = FilterSettings(conditions=told)
                flow, step = edits.insert_after(flow, inputs[place], FilterKind.name, settings)
                inputs[place] = Input(step)
        return flow, inputs

    def files(self, *others: Path | None) -> list[Path]:
        """All files that are read, the others that are handed in among them: none may be written to."""
        found = [path for side in self.sides for path in self.library.files(side.settings)]
        return [*found, *(other for other in others if other is not None)]

    @property
    def remarks(self) -> list[str]:
        """The notes on each of the tables."""
        from keen_trellis.core.task import Task

        found = [(side.name, self.library.get(side.settings, Task()).remarks) for side in self.sides]
        return [f"{name}: {remark}" for name, remarks in found for remark in remarks]

    @property
    def tables(self) -> list[Any]:
        return [self.runner.result(self.flow, entry.step).rows for entry in self.inputs]


def check_type(name: str, links: Sequence[str]) -> None:
    from keen_trellis.core.join_type import JoinType

    known = [kind.value for kind in JoinType]
    if name not in known:
        raise click.UsageError(f"There is no join type “{name}”. The types are: {', '.join(known)}.")
    if not links and name != JoinType.CROSS.value:
        raise click.UsageError("Say with --link what must be equal. (Only --type cross has no link.)")


def join_settings(wanted: dict[str, Any], shapes: Sequence[Any], library: Any) -> Any:
    """The settings of the join that the options of `match` ask for."""
    import msgspec

    from keen_trellis.flow.link_text import read_link
    from keen_trellis.flow.steps.join import JoinSettings

    corrections = corrections_of(wanted["correct"], library) if wanted["correct"] else ()
    prepared = {
        "ignore": listed(wanted["ignore"]),
        "compare_as": wanted["compare_as"],
        "blank_matches_blank": wanted["blank_matches_blank"],
        "correct": corrections,
    }
    links = [
        msgspec.structs.replace(read_link(text, shapes[0].fields, shapes[1].fields), **prepared)
        for text in wanted["links"]
    ]
    like = _like(wanted)
    if like is not None:
        links[-1:] = [msgspec.structs.replace(link, like=like) for link in links[-1:]]
    return JoinSettings(
        links=tuple(links),
        any_of=wanted["any_of"],
        take=wanted["take"],
        type=wanted["type_name"],
        keep=listed(wanted["keep"]) if wanted["keep"] is not None else None,
        bring=listed(wanted["bring"]) if wanted["bring"] is not None else None,
        partner_found=wanted["partner_found"],
        side=wanted["side"],
    )


def _like(wanted: dict[str, Any]) -> Any:
    """How alike or near the values of the last link are, None for equal. UsageError for what is neither."""
    from keen_trellis.core.errors import UsageError
    from keen_trellis.flow.link_text import read_score
    from keen_trellis.flow.steps.join import LikeSettings

    alike, near, best = (wanted[name] for name in ("like", "near", "best"))
    if alike is None and near is None:
        if best:
            raise UsageError("--best says which of those that are alike.", remedy="Give --like or --near.")
        return None
    if alike is not None and near is not None:
        raise UsageError("A link is of texts or of numbers.", remedy="Give --like or --near.")
    if near is not None:
        return LikeSettings(within=near, best=best)
    return LikeSettings(at_least=read_score(alike), best=best)


def listed(text: str) -> tuple[str, ...]:
    """What stands between commas."""
    return tuple(part.strip() for part in text.split(",") if part.strip())


def corrections_of(path: Path, library: Any) -> tuple[tuple[str, str], ...]:
    """The pairs "read this as that" of a list of corrections, or of a table with two columns."""
    from keen_trellis.core.errors import SourceError
    from keen_trellis.core.task import Task
    from keen_trellis.core.values import as_text
    from keen_trellis.flow.corrections import MEANT, READ, corrections_in
    from keen_trellis.sources.library import resolve

    table = library.get(resolve(str(path), library).settings, Task()).table
    if {READ, MEANT} <= {name.casefold() for name in table.names}:
        return tuple((entry.read, entry.meant) for entry in corrections_in(path))
    if len(table.fields) != 2:
        raise SourceError(
            f"A table of corrections has two columns; this one has {len(table.fields)}.",
            where=str(path),
            remedy=f"Or it is a list of corrections, with the columns {READ} and {MEANT}.",
        )
    wrong, right = (as_text(cells.values).to_pylist() for cells in table.take(None, table.names))
    return tuple((one, other) for one, other in zip(wrong, right, strict=True) if one and other)
