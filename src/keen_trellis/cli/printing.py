"""What several commands print: the counts of a knot, guards, and what a run came to."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from keen_trellis.cli.saying import cell_shown, console, say


def print_guards(checks: Sequence[Any]) -> None:
    """Each guard and whether it holds, broken ones first."""
    for entry in sorted(checks, key=lambda entry: entry.holds):
        say(f"Guard {'holds' if entry.holds else 'BROKEN'}: {entry.statement} ({entry.verdict.said}).")


def end_by_guards(checks: Sequence[Any]) -> None:
    """Raise GuardError if one of the guards does not hold."""
    from keen_trellis.core.errors import GuardError

    broken = [entry for entry in checks if not entry.holds]
    if broken:
        said = "; ".join(f"{entry.statement}: {entry.verdict.said}" for entry in broken)
        count = "A guard does not hold" if len(broken) == 1 else f"{len(broken)} guards do not hold"
        raise GuardError(f"{count}: {said}.", where=broken[0].name)


def print_knot(names: Sequence[str], counts: Any, join_type: Any) -> None:
    """The counts as a person wants to read them."""
    from rich.table import Table as Grid

    from keen_trellis.core.join_type import QUESTION_TYPES, JoinType
    from keen_trellis.flow.wording import counted, question

    left, right = names
    terminal = console()
    say(
        f"{_share_said(left, counts)}, with {counted(counts.right_matched, right)} in {counts.pairs:,} "
        f"{'pair' if counts.pairs == 1 else 'pairs'}; "
        f"cardinality {counts.cardinality}.",
    )
    if counts.left_only_prepared:
        # After preparation, or by likeness.
        say(f"{counted(counts.left_only_prepared, left)} matched though written differently.")
    lists = (
        (left, counts.left_unmatched, counts.left_blank, counts.left_no_partner, counts.left_lost),
        (right, counts.right_unmatched, counts.right_blank, counts.right_no_partner, counts.right_lost),
    )
    for name, unmatched, blank, no_partner, lost in lists:
        said = f"; {blank:,} rows have a blank link field" if blank else ""
        said += f"; {no_partner:,} rows have a link field without partner" if no_partner else ""
        said += f"; {lost:,} rows have a link field that could not be converted" if lost else ""
        say(f"Unmatched {name}: {counted(unmatched, name)}{said}.")
    for name, passed in ((left, counts.left_passed_over), (right, counts.right_passed_over)):
        if passed:
            say(f"Passed over, since another was taken: {counted(passed, name)}.")
    grid = Grid(box=None, pad_edge=False)
    grid.add_column("Join type")
    grid.add_column("Rows", justify="right")
    grid.add_column("This answers")
    for kind in (join_type,) if join_type is JoinType.CROSS else QUESTION_TYPES:
        style = "bold" if kind is join_type else ""
        grid.add_row(
            kind.trade_name,
            f"{counts.rows_under(kind):,}",
            cell_shown(question(kind, left, right)),
            style=style,
        )
    terminal.print(grid)


def say_what_goes(targets: Iterable[Any], *, replace: bool) -> None:
    """Before something is replaced, say what of it goes and what stays."""
    from keen_trellis.outputs import writer_of

    for settings in targets if replace else ():
        goes = writer_of(settings).goes_with(settings)
        if goes:
            say(f"keen-trellis: {writer_of(settings).place(settings)}:{goes}", err=True)


def _share_said(left: str, counts: Any) -> str:
    """8,303 of 8,352 loans found a partner (99.4 %)."""
    from keen_trellis.core.insight.proposal import percent
    from keen_trellis.flow.wording import counted

    share = counts.left_matched / counts.left_rows if counts.left_rows else 0
    return f"{counts.left_matched:,} of {counted(counts.left_rows, left)} found a partner ({percent(share)})"


def print_outcome(outcome: Any) -> None:
    """What was written and what was not, and how much of each knot's left table found a partner."""
    for written in outcome.written:
        print_written(written)
    for path in outcome.held_back:
        say(f"Not written, since a guard before it is broken: {path}")
    for knot in outcome.knots:
        say(f"{knot.name}: {_share_said(knot.left, knot.counts)}.")


def print_counts(outcome: Any) -> None:
    """Every count of each knot, and what each join type would give."""
    from keen_trellis.core.join_type import JoinType

    for knot in outcome.knots:
        say()
        say(f"{knot.name}")
        print_knot((knot.left, knot.right), knot.counts, JoinType(knot.type))


def written_members(written: Any) -> dict[str, Any]:
    """A file that was written, as members of a JSON object."""
    return {
        "path": written.path,
        "within": written.within,
        "rows": written.rows,
        "fields": written.fields,
        "changed": written.changed,
        **({"files": written.files} if written.files else {}),
    }


def print_written(written: Any) -> None:
    """A file that was written, and what of it is not as it was."""
    from keen_trellis.core.insight.reason import rows_said
    from keen_trellis.flow.wording import open_said

    fields = "1 field" if written.fields == 1 else f"{written.fields:,} fields"
    say(f"Wrote {rows_said(written.rows)} of {fields} to {written.place}.")
    for path in written.files:
        say(f"  {path}")
    for line in written.changed:
        say(f"  {line}.")
    if written.open_cells:
        say(f"  {open_said(written.open_cells, 'without a partner')}.")
