"""The commands that open the window and make the demo."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.printing import print_outcome
from keen_trellis.cli.saying import say
from keen_trellis.core.errors import UsageError


@main.command()
@click.argument("flow_path", metavar="[FLOW]", required=False, type=click.Path(path_type=Path))
@click.option("--new", "new", is_flag=True, help="Open a window of its own, even while another one is open.")
def open(flow_path: Path | None, new: bool) -> None:  # noqa: A001 - the command is called so
    """Open FLOW in the window, or start with an empty flow.

    Where a window is open already, it gets FLOW, after asking about changes that are not saved.
    """
    from keen_trellis.desktop.shell.app import start

    sys.exit(start(flow_path, alone=new))


@main.command()
@click.option(
    "--data", "folder", type=click.Path(path_type=Path), help="Only write data and flows into this folder."
)
@click.option("--flow", "name", default="", help="Start on another flow of the demo, such as Sets.")
@click.option("--next-month", is_flag=True, help="Write the data of the month after over the demo's.")
def demo(folder: Path | None, name: str, next_month: bool) -> None:
    """Make the demo data and start the window on the demo flow."""
    from keen_trellis.demo.setting_up import demo_folder, make, make_next_month

    if next_month:
        folder = folder or demo_folder()
    if folder is not None:
        for path in (make_next_month if next_month else make)(folder):
            say(path)
        return
    from keen_trellis.demo.flow_names import WINTER_LOANS
    from keen_trellis.demo.flows import FLOWS
    from keen_trellis.desktop.shell.app import has_display, start

    flow = f"{name.removesuffix('.trellis')}.trellis" if name else WINTER_LOANS
    if flow not in FLOWS:
        known = ", ".join(entry.removesuffix(".trellis") for entry in FLOWS)
        raise UsageError(f"The demo has no flow “{name}”.", remedy=f"It has: {known}.")
    folder = demo_folder()
    if not all((folder / entry).exists() for entry in FLOWS):
        say(f"Making the demo data in {folder}.")
        make(folder)
    if has_display():
        sys.exit(start(folder / flow))
    _demo_without_window(folder / flow)


def _demo_without_window(path: Path) -> None:
    from keen_trellis.desktop.pictures import draw_window
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.session.running import run_flow
    from keen_trellis.sources.library import Library

    say(f"There is no display: running {path} without a window.")
    print_outcome(run_flow(load(path, KINDS), KINDS, Library(), replace=True))
    picture = path.with_suffix(".png")
    draw_window(path, picture)
    say(f"Drew the window to {picture}.")


if __name__ == "__main__":
    main()
