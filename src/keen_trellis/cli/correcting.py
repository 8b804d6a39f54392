"""The command that looks through a list of corrections, adds to it and prunes it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import cell_shown, console, say, say_members


@main.command()
@click.argument("list_path", metavar="LIST", type=click.Path(path_type=Path))
@click.option("--add", "added", multiple=True, help="READ=MEANT: what is written, and what it stands for.")
@click.option("--remove", "removed", multiple=True, help="Take out the pair of a value as it is written.")
@click.option(
    "--from-flow",
    "flow_path",
    type=click.Path(path_type=Path),
    help="Add the corrections that the links of this flow have of their own.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def corrections(
    list_path: Path, added: Sequence[str], removed: Sequence[str], flow_path: Path | None, as_json: bool
) -> None:
    """Look through LIST, corrections that flows and people share: CSV with the columns read and meant.

    What is added says who added it and when. A list that is not there is made when something is added. Links
    use it in the window, or by `match --correct LIST`.
    """
    from keen_trellis.flow.corrections import add, corrections_in, remove, said_now

    pairs = [*_of_flow(flow_path), *map(_pair, added)]
    if pairs:
        add(list_path, said_now(pairs))
    if removed:
        known = {entry.read for entry in corrections_in(list_path)}
        lacking = [value for value in removed if value not in known]
        if lacking:
            raise click.UsageError(f"The list has no pair for “{lacking[0]}”; nothing was taken out.")
        remove(list_path, removed)
    found = corrections_in(list_path)
    if as_json:
        entries = [{"read": e.read, "meant": e.meant, "by": e.by, "on": e.on} for e in found]
        say_members({"list": str(list_path), "pairs": entries})
        return
    from rich.table import Table as Grid

    from keen_trellis.flow.wording import counted

    say(counted(len(found), "pairs"))
    grid = Grid(box=None, pad_edge=False)
    for heading in ("Written", "Read as", "Said by", "When, in UTC"):
        grid.add_column(heading, overflow="fold")
    for entry in found:
        when = entry.on.replace("T", " ").removesuffix("Z")
        grid.add_row(*map(cell_shown, (entry.read, entry.meant, entry.by, when)))
    console().print(grid)


def _pair(text: str) -> tuple[str, str]:
    read, sign, meant = text.partition("=")
    if not sign or not read.strip() or not meant.strip():
        raise click.UsageError(f"“{text}” is no pair: write READ=MEANT.")
    return read.strip(), meant.strip()


def _of_flow(path: Path | None) -> list[tuple[str, str]]:
    """The corrections of a flow's links, each once. UsageError where two say different things."""
    if path is None:
        return []
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.session.correction_lists import links_of

    found: dict[str, str] = {}
    for link in links_of(load(path, KINDS)):
        for read, meant in link.correct:
            if found.setdefault(read, meant) != meant:
                said = f"Links of {path.name} read “{read}” as “{found[read]}” and as “{meant}”"
                raise click.UsageError(f"{said}; nothing was added.")
    return list(found.items())
