"""The command line: the same core without a window."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from keen_trellis import __version__
from keen_trellis.core.errors import Cancelled, TrellisError
from keen_trellis.core.preparations import PREPARATIONS


class _Command(click.Group):
    """Errors of ours become one line on standard error and the exit code of their kind."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except TrellisError as error:
            click.echo(f"keen-trellis: {error}", err=True)
            ctx.exit(error.exit_code)
        except (Cancelled, KeyboardInterrupt):
            click.echo("keen-trellis: stopped; nothing was left half written.", err=True)
            ctx.exit(1)
        except MemoryError:
            click.echo(
                "keen-trellis: this machine's memory is not enough for it. Use fewer fields or rows.",
                err=True,
            )
            ctx.exit(7)


@click.group(cls=_Command, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="keen-trellis")
def main() -> None:
    """Joins between sheets and tables, with matched and unmatched rows in plain sight."""


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
)


def _linked(command: Any) -> Any:
    """Give a command the arguments and options of a match."""
    for option in reversed(_LINKING):
        command = option(command)
    return command


@main.command()
@_linked
@click.option("--type", "type_name", default="left-outer", show_default=True, help="The join type.")
@click.option("--bring", help="The right table's fields that come along, with commas; all if not given.")
@click.option("--partner-found", is_flag=True, help="Add a field that says whether a row has a partner.")
@click.option(
    "--write", "target", type=click.Path(path_type=Path), help="Write the result: .xlsx, .csv, .tsv."
)
@click.option("--replace", is_flag=True, help="Replace the file if it exists.")
@click.option("--keep-formulas", is_flag=True, help="Write text that begins like a formula as it is.")
@click.option(
    "--guard", "guards", multiple=True, help="What must hold, such as all-left-match; see the README."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def match(
    left: str, right: str, target: Path | None, guards: Sequence[str], as_json: bool, **wanted: Any
) -> None:
    """Match LEFT with RIGHT and count. Each is [NAME=]SOURCE[#TABLE]: a file, a folder, a quoted pattern of
    files or a database's address; TABLE is a sheet, a table, a named range, or SHEET!A3:F40."""
    import msgspec

    from keen_trellis.core.insight.guards import check_text
    from keen_trellis.core.task import Task
    from keen_trellis.flow import edits
    from keen_trellis.flow.guarding import checked
    from keen_trellis.flow.report import as_members, guard_members
    from keen_trellis.outputs import settings_for, write

    _check_type(wanted["type_name"], wanted["links"])
    output = settings_for(target, harmless=not wanted["keep_formulas"]) if target else None

    started = time.perf_counter()
    asked = _Asked.of((left, right))
    settings = _join_settings(wanted, asked.shapes, asked.library)
    read = time.perf_counter() - started
    settings = msgspec.structs.replace(settings, guards=tuple(check_text(guard) for guard in guards))
    flow, knot = edits.add_join(asked.flow, asked.inputs[0], asked.inputs[1], settings)
    started = time.perf_counter()
    result = asked.runner.result(flow, knot)
    assert result.match is not None
    counts = result.match.counts
    seconds = {"read": round(read, 4), "match": round(time.perf_counter() - started, 4)}
    checks = list(checked(asked.runner, flow, flow.step(knot), Task()))
    holds = all(entry.holds for entry in checks)
    if output is not None and holds:
        write(result.rows, output, sources=asked.paths, replace=wanted["replace"], task=Task())
    if as_json:
        members = {**as_members(counts, settings.join_type), "seconds": seconds}
        click.echo(json.dumps({**members, "guards": guard_members(checks)}, ensure_ascii=False))
        _end_by_guards(checks)
        return
    _print_knot([shape.name for shape in asked.shapes], counts, settings.join_type)
    remarks = [(side.name, asked.library.get(side.settings, Task()).remarks) for side in asked.sides]
    for name, said in remarks:
        for remark in said:
            click.echo(f"{name}: {remark}")
    click.echo(f"Read in {seconds['read']:.2f} s, matched in {seconds['match']:.2f} s.")
    _print_guards(checks)
    if output is not None and holds:
        click.echo(f"Wrote {result.rows.rows:,} rows to {output.path}.")


def _print_guards(checks: Sequence[Any]) -> None:
    """Each guard and whether it holds; broken ones on standard error as well end the command."""
    for entry in checks:
        click.echo(f"Guard {'holds' if entry.holds else 'BROKEN'}: {entry.statement} ({entry.verdict.said}).")
    _end_by_guards(checks)


def _end_by_guards(checks: Sequence[Any]) -> None:
    """Raise GuardError if one of the guards does not hold."""
    from keen_trellis.core.errors import GuardError

    broken = [entry for entry in checks if not entry.holds]
    if broken:
        said = "; ".join(f"{entry.statement}: {entry.verdict.said}" for entry in broken)
        count = "A guard does not hold" if len(broken) == 1 else f"{len(broken)} guards do not hold"
        raise GuardError(f"{count}: {said}.", where=broken[0].name)


@dataclass(frozen=True)
class _Asked:
    """The tables that a command names, as rails of a flow."""

    library: Any
    sides: Sequence[Any]
    flow: Any
    inputs: Sequence[Any]
    runner: Any
    shapes: Sequence[Any]

    @staticmethod
    def of(texts: Sequence[str]) -> _Asked:
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
        return _Asked(library, sides, flow, inputs, runner, [runner.shape(flow, entry) for entry in inputs])

    @property
    def paths(self) -> list[str]:
        return [side.settings.path for side in self.sides]

    @property
    def tables(self) -> list[Any]:
        return [self.runner.result(self.flow, entry.step).rows for entry in self.inputs]


@main.command()
@_linked
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def explain(left: str, right: str, as_json: bool, **wanted: Any) -> None:
    """Say why rows of LEFT and RIGHT have no partner, and what would mend it."""
    from keen_trellis.core.insight.reasons import Asked, of_other_types
    from keen_trellis.core.insight.reasons import explain as reasons_of
    from keen_trellis.core.link import Take
    from keen_trellis.core.matching import match as matched
    from keen_trellis.flow.report import reason_lines, reason_members

    _check_type("left-outer", wanted["links"])
    asked = _Asked.of((left, right))
    settings = _join_settings(
        {**wanted, "type_name": "left-outer", "bring": None, "partner_found": False},
        asked.shapes,
        asked.library,
    )
    links, take, tables = settings.link_fields, Take.named(settings.take), asked.tables
    any_of = settings.any_of and len(links) > 1
    question = Asked(tables[0], tables[1], links, any_of, take)
    found = of_other_types(question)
    if not found:
        found = reasons_of(question, matched(tables[0], tables[1], links, any_of=any_of, take=take))
    if as_json:
        click.echo(json.dumps({"reasons": [reason_members(entry) for entry in found]}, ensure_ascii=False))
        return
    names = {"left": asked.shapes[0].name, "right": asked.shapes[1].name}
    for line in reason_lines(found, names):
        click.echo(line)


@main.command()
@click.argument("left")
@click.argument("right")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def propose(left: str, right: str, as_json: bool) -> None:
    """Propose link fields between LEFT and RIGHT, best first, each with its evidence."""
    from keen_trellis.core.insight.proposal import why_none
    from keen_trellis.core.task import Task
    from keen_trellis.flow.known_links import ConfirmedLinks
    from keen_trellis.flow.proposing import proposals as proposals_of

    asked = _Asked.of((left, right))
    found = proposals_of(asked.runner, asked.flow, asked.inputs, ConfirmedLinks(), Task())
    names = [shape.name for shape in asked.shapes]
    if as_json:
        proposals = [
            {
                "links": [
                    {
                        "left": link.left,
                        "operator": link.operator.value,
                        "right": link.right,
                        "ignore": link.preparation.names,
                    }
                    for link in p.links
                ],
                "left_found": p.found,
                "right_unique": p.unique,
                "evidence": p.evidence(*names),
            }
            for p in found
        ]
        click.echo(json.dumps({"proposals": proposals}, ensure_ascii=False))
        return
    for entry in found:
        links = " and ".join(f"{link.left} {link.operator.value} {link.right}" for link in entry.links)
        click.echo(f"{links}: {entry.evidence(*names)}")
    if not found:
        click.echo(why_none(*names))


def _check_type(name: str, links: Sequence[str]) -> None:
    from keen_trellis.core.join_type import JoinType

    known = [kind.value for kind in JoinType]
    if name not in known:
        raise click.UsageError(f"There is no join type “{name}”. The types are: {', '.join(known)}.")
    if not links and name != JoinType.CROSS.value:
        raise click.UsageError("Say with --link what must be equal. (Only --type cross has no link.)")


def _join_settings(wanted: dict[str, Any], shapes: Sequence[Any], library: Any) -> Any:
    """The settings of the join that the options of `match` ask for."""
    import msgspec

    from keen_trellis.flow.link_text import read_link
    from keen_trellis.flow.steps.join import JoinSettings

    corrections = _corrections(wanted["correct"], library) if wanted["correct"] else ()
    prepared = {
        "ignore": _listed(wanted["ignore"]),
        "compare_as": wanted["compare_as"],
        "blank_matches_blank": wanted["blank_matches_blank"],
        "correct": corrections,
    }
    links = [read_link(text, shapes[0].fields, shapes[1].fields) for text in wanted["links"]]
    return JoinSettings(
        links=tuple(msgspec.structs.replace(link, **prepared) for link in links),
        any_of=wanted["any_of"],
        take=wanted["take"],
        type=wanted["type_name"],
        bring=_listed(wanted["bring"]) if wanted["bring"] is not None else None,
        partner_found=wanted["partner_found"],
    )


def _listed(text: str) -> tuple[str, ...]:
    """What stands between commas."""
    return tuple(part.strip() for part in text.split(",") if part.strip())


def _corrections(path: Path, library: Any) -> tuple[tuple[str, str], ...]:
    """The pairs "read this as that" of a table with two columns."""
    from keen_trellis.core.errors import SourceError
    from keen_trellis.core.task import Task
    from keen_trellis.core.values import as_text
    from keen_trellis.sources.library import resolve

    table = library.get(resolve(str(path), library).settings, Task()).table
    if len(table.fields) != 2:
        raise SourceError(
            f"A table of corrections has two columns; this one has {len(table.fields)}.", where=str(path)
        )
    wrong, right = (as_text(cells.values).to_pylist() for cells in table.take(None, table.names))
    return tuple((one, other) for one, other in zip(wrong, right, strict=True) if one and other)


@main.command()
@click.argument("main_table", metavar="MAIN")
@click.argument("other_tables", metavar="OTHER", nargs=-1, required=True)
@click.option(
    "--link", "links", multiple=True, required=True, help='"OTHER: main side = other side"; all must hold.'
)
@click.option(
    "--measure", "measures", multiple=True, help='"OTHER: sum(cost) as total", and so on; see the README.'
)
@click.option("--where", "conditions", multiple=True, help='"TABLE: condition": which of its rows count.')
@click.option(
    "--keep", default="every", show_default=True, help="Rows of MAIN: every, found, groups, all-groups."
)
@click.option(
    "--spread",
    "spreads",
    multiple=True,
    help='"total" in equal shares, or "total by field"; or "total on first".',
)
@click.option("--ignore", default="", help=f"What links ignore, with commas: {', '.join(PREPARATIONS)}.")
@click.option(
    "--write", "target", type=click.Path(path_type=Path), help="Write the result: .xlsx, .csv, .tsv."
)
@click.option("--replace", is_flag=True, help="Replace the file if it exists.")
@click.option("--keep-formulas", is_flag=True, help="Write text that begins like a formula as it is.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def blend(
    main_table: str, other_tables: Sequence[str], target: Path | None, as_json: bool, **wanted: Any
) -> None:
    """Blend OTHER tables into MAIN: each is filtered and summarised to its links, and its measures stand on
    the rows of MAIN. Each is NAME=SOURCE[#TABLE]."""
    from keen_trellis.core.task import Task
    from keen_trellis.flow import edits
    from keen_trellis.flow.blend_text import read_blend
    from keen_trellis.flow.report import blend_members
    from keen_trellis.flow.steps.blend import BlendKind
    from keen_trellis.outputs import settings_for, write

    output = settings_for(target, harmless=not wanted["keep_formulas"]) if target else None
    asked = _Asked.of((main_table, *other_tables))
    settings = read_blend(
        asked.shapes,
        links=wanted["links"],
        measures=wanted["measures"],
        conditions=wanted["conditions"],
        spreads=wanted["spreads"],
        keep=wanted["keep"],
        ignore=_listed(wanted["ignore"]),
    )
    name = f"{asked.shapes[0].name} blended"
    flow, knot = edits.add_step(asked.flow, BlendKind.name, name, asked.inputs, settings)
    result = asked.runner.result(flow, knot)
    assert result.blended is not None
    if output is not None:
        write(result.rows, output, sources=asked.paths, replace=wanted["replace"], task=Task())
    names = [shape.name for shape in asked.shapes]
    if as_json:
        click.echo(json.dumps(blend_members(result.blended, names[1:]), ensure_ascii=False))
        return
    _print_blend(result.blended, names)
    if output is not None:
        click.echo(f"Wrote {result.rows.rows:,} rows to {output.path}.")


def _print_blend(blended: Any, names: Sequence[str]) -> None:
    """What a blend came to, as a person wants to read it."""
    from keen_trellis.flow.wording import counted

    table = blended.table
    click.echo(f"{table.rows:,} rows, {len(table.fields)} fields: {', '.join(table.names)}")
    for name, found in zip(names[1:], blended.others, strict=True):
        groups = "1 group" if found.summary.rows == 1 else f"{found.summary.rows:,} groups"
        used, rows = int(found.used.sum()), int((found.partner >= 0).sum())
        click.echo(
            f"{name}: {groups}, {used:,} of them used, on {rows:,} of {counted(table.rows, names[0])}."
        )
        if found.left_out:
            click.echo(f"  Left out by its condition: {counted(found.left_out, name)}.")
        for measure, count in found.summary.no_partner.items():
            if count:
                click.echo(f"  {measure}: {counted(count, name)} without a partner in what is measured.")


def _print_knot(names: Sequence[str], counts: Any, join_type: Any) -> None:
    """The counts as a person wants to read them."""
    from rich.console import Console
    from rich.table import Table as Grid

    from keen_trellis.core.insight.proposal import percent
    from keen_trellis.core.join_type import QUESTION_TYPES, JoinType
    from keen_trellis.flow.wording import counted, question

    left, right = names
    console = Console(highlight=False, soft_wrap=True)
    share = counts.left_matched / counts.left_rows if counts.left_rows else 0
    console.print(
        f"{counts.left_matched:,} of {counted(counts.left_rows, left)} found a partner ({percent(share)}), "
        f"with {counted(counts.right_matched, right)} in {counts.pairs:,} "
        f"{'pair' if counts.pairs == 1 else 'pairs'}; "
        f"cardinality {counts.cardinality}.",
        markup=False,
    )
    if counts.left_only_prepared:
        console.print(
            f"{counted(counts.left_only_prepared, left)} matched only after preparation.", markup=False
        )
    lists = (
        (left, counts.left_unmatched, counts.left_blank, counts.left_no_partner, counts.left_lost),
        (right, counts.right_unmatched, counts.right_blank, counts.right_no_partner, counts.right_lost),
    )
    for name, unmatched, blank, no_partner, lost in lists:
        said = f"; {blank:,} rows have a blank link field" if blank else ""
        said += f"; {no_partner:,} rows have a link field without partner" if no_partner else ""
        said += f"; {lost:,} rows have a link field that could not be converted" if lost else ""
        console.print(f"Unmatched {name}: {counted(unmatched, name)}{said}.", markup=False)
    for name, passed in ((left, counts.left_passed_over), (right, counts.right_passed_over)):
        if passed:
            console.print(f"Passed over, since another was taken: {counted(passed, name)}.", markup=False)
    grid = Grid(box=None, pad_edge=False)
    grid.add_column("Join type")
    grid.add_column("Rows", justify="right")
    grid.add_column("This answers")
    for kind in (join_type,) if join_type is JoinType.CROSS else QUESTION_TYPES:
        style = "bold" if kind is join_type else ""
        grid.add_row(
            kind.trade_name, f"{counts.rows_under(kind):,}", question(kind, left, right), style=style
        )
    console.print(grid)


@main.command()
@click.argument("source")
@click.option("--query", default="", help="Look at the rows of one SELECT in a database.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def look(source: str, query: str, as_json: bool) -> None:
    """Look at SOURCE: its rows, fields and what is doubtful; or, without #TABLE, what it holds."""
    import msgspec

    from keen_trellis.core.task import Task
    from keen_trellis.sources import looking
    from keen_trellis.sources.library import Library, resolve, split_source

    library = Library()
    _, place, table = split_source(source)
    if not table and not query:
        content = library.content(place)
        if not content.is_one_table:
            _print_content(library.further_content(content), as_json)
            return
    if query:
        content = library.content(place)
        settings = msgspec.structs.replace(content.settings(""), query=query)
    else:
        settings = resolve(source, library).settings
    snapshot = library.get(settings, Task())
    found = looking.look(snapshot.table, snapshot.remarks, Task())
    if as_json:
        click.echo(json.dumps(found.as_members(), ensure_ascii=False))
    else:
        _print_look(found)


def _print_content(content: Any, as_json: bool) -> None:
    """What a file, folder or database holds."""
    if as_json:
        tables = [{"name": e.name, "sort": e.sort, "hidden": e.hidden} for e in content.tables]
        click.echo(json.dumps({"path": content.path, "tables": tables}, ensure_ascii=False))
        return
    for entry in content.tables:
        click.echo(f"{entry.name}  ({entry.sort}{', hidden' if entry.hidden else ''})")
    if not content.tables:
        click.echo("It holds no table.")


def _print_look(found: Any) -> None:
    """Rows, fields and doubts as a person wants to read them."""
    from rich.console import Console
    from rich.table import Table as Grid

    from keen_trellis.core.values import FieldType

    console = Console(highlight=False, soft_wrap=True)
    rows = "1 row" if found.rows == 1 else f"{found.rows:,} rows"
    console.print(f"{rows}, {len(found.fields)} {'field' if len(found.fields) == 1 else 'fields'}")
    grid = Grid(box=None, pad_edge=False)
    for heading, justify in (("Field", "left"), ("Type", "left"), ("Blank", "right"), ("Distinct", "right")):
        grid.add_column(heading, justify=justify)  # type: ignore[arg-type]
    for heading in ("Least", "Greatest", "Commonest, or pattern"):
        grid.add_column(heading, overflow="ellipsis", no_wrap=True, max_width=32)
    for field in found.fields:
        said = field.patterns if field.type is FieldType.TEXT and not field.commonest else field.commonest
        shares = f"{said[0].text} ({said[0].rows:,})" if said else ""
        grid.add_row(
            *(field.name, field.type.value, f"{field.blanks:,}", f"{field.distinct:,}"),
            *(field.least, field.greatest, shares),
        )
    console.print(grid)
    for remark in sorted(found.remarks, key=lambda remark: not remark.doubtful):
        console.print(f"{'Doubtful: ' if remark.doubtful else ''}{remark}", markup=False)
        if len(remark.places) > 1:
            where = ", ".join(f"row {place.row:,} “{place.value}”" for place in remark.places[:5])
            console.print(f"  {where}{' …' if len(remark.places) > 5 else ''}", markup=False)


@main.command()
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.option("--to", "folder", type=click.Path(path_type=Path), help="Write the outputs into this folder.")
@click.option("--replace", is_flag=True, help="Replace files that exist.")
@click.option("--leave-flow", is_flag=True, help="Do not write the counts of this run into FLOW.")
@click.option(
    "--guard", "guards", multiple=True, help="What must hold at every output besides, such as rows=1.."
)
@click.option("--despite-guards", is_flag=True, help="Write outputs behind broken guards, too.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def run(flow_path: Path, folder: Path | None, leave_flow: bool, as_json: bool, **wanted: Any) -> None:
    """Run FLOW: match its knots, write its outputs, and say what changed since it ran last."""
    from keen_trellis.core.join_type import JoinType
    from keen_trellis.flow.file_format import load, save
    from keen_trellis.flow.last_run import last_run, with_last_run
    from keen_trellis.flow.report import as_members, guard_members
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.outputs.running import run_flow, with_guards
    from keen_trellis.sources.library import Library

    flow, library = load(flow_path, KINDS), Library()
    last = last_run(flow)
    before = library.before(flow, KINDS, last)
    outcome = run_flow(
        with_guards(flow, KINDS, wanted["guards"]),
        KINDS,
        library,
        before=before,
        folder=folder,
        replace=wanted["replace"],
        despite_guards=wanted["despite_guards"],
    )
    if not leave_flow:
        save(with_last_run(flow, outcome.now), flow_path, KINDS)
    if as_json:
        knots = [
            {"step": knot.step, "name": knot.name, **as_members(knot.counts, JoinType(knot.type))}
            for knot in outcome.knots
        ]
        outputs = [{"path": str(w.path), "rows": w.rows, "fields": w.fields} for w in outcome.written]
        members: dict[str, Any] = {
            "knots": knots,
            "outputs": outputs,
            "guards": guard_members(outcome.guards),
        }
        if outcome.comparison is not None:
            members["changes"] = outcome.comparison.as_members()
        click.echo(json.dumps(members, ensure_ascii=False))
        _end_by_guards(outcome.guards)
        return
    _print_outcome(outcome)
    if outcome.comparison is not None:
        _print_changes(outcome.comparison)
    for path in outcome.held_back:
        click.echo(f"Not written, since a guard before it is broken: {path}")
    _print_guards(outcome.guards)


def _print_changes(comparison: Any) -> None:
    """What changed since the last run, as a person wants to read it."""
    from keen_trellis.flow.report import change_lines

    click.echo()
    if comparison.is_unchanged:
        click.echo(f"Nothing has changed since {comparison.since}.")
        return
    click.echo(f"What changed since {comparison.since}:")
    for line in change_lines(comparison):
        click.echo(f"  {line}")


def _print_outcome(outcome: Any) -> None:
    from keen_trellis.core.join_type import JoinType

    for knot in outcome.knots:
        click.echo(f"{knot.name}")
        _print_knot((knot.left, knot.right), knot.counts, JoinType(knot.type))
        click.echo()
    for written in outcome.written:
        click.echo(f"Wrote {written.rows:,} rows of {written.fields} fields to {written.path}.")


@main.command()
@click.argument("flow_path", metavar="[FLOW]", required=False, type=click.Path(path_type=Path))
def open(flow_path: Path | None) -> None:  # noqa: A001 - the command is called so
    """Open FLOW in the window, or start with an empty flow."""
    from keen_trellis.desktop.app import start

    sys.exit(start(flow_path))


@main.command()
@click.option(
    "--data", "folder", type=click.Path(path_type=Path), help="Only write data and flows into this folder."
)
@click.option("--next-month", is_flag=True, help="Write the data of the month after over the demo's.")
def demo(folder: Path | None, next_month: bool) -> None:
    """Make the demo data and start the window on the demo flow."""
    from keen_trellis.demo.setting_up import demo_folder, make, make_next_month

    if next_month:
        folder = folder or demo_folder()
    if folder is not None:
        for path in (make_next_month if next_month else make)(folder):
            click.echo(path)
        return
    from keen_trellis.demo.flows import WINTER_LOANS
    from keen_trellis.desktop.app import has_display, start

    folder = demo_folder()
    if not (folder / WINTER_LOANS).exists():
        click.echo(f"Making the demo data in {folder}.")
        make(folder)
    if has_display():
        sys.exit(start(folder / WINTER_LOANS))
    _demo_without_window(folder)


def _demo_without_window(folder: Path) -> None:
    from keen_trellis.demo.flows import WINTER_LOANS
    from keen_trellis.desktop.pictures import draw_window
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.outputs.running import run_flow
    from keen_trellis.sources.library import Library

    path = folder / WINTER_LOANS
    click.echo(f"There is no display: running {path} without a window.")
    _print_outcome(run_flow(load(path, KINDS), KINDS, Library(), replace=True))
    picture = folder / "Winter loans.png"
    draw_window(path, picture)
    click.echo(f"Drew the window to {picture}.")


@main.command()
@click.argument("folder", type=click.Path(path_type=Path))
def screenshots(folder: Path) -> None:
    """Draw one picture of each main view into FOLDER, from the demo data."""
    from keen_trellis.desktop.pictures import draw_views

    for path in draw_views(folder):
        click.echo(path)


@main.command()
@click.option("--rows", default=5_000_000, show_default=True, help="Rows of the larger table.")
def speed(rows: int) -> None:
    """Print speed and memory as ratios in one run."""
    from keen_trellis.speed import report

    report(rows)


if __name__ == "__main__":
    main()
