"""The command `./trellis speed`."""

from __future__ import annotations

import click

from benchmarks.report import QUICK_ROWS, USUAL_ROWS, report


@click.command(name="speed")
@click.option(
    "--rows", type=click.IntRange(min=1), help=f"Rows of the larger table ({USUAL_ROWS:,} unless said)."
)
@click.option("--quick", is_flag=True, help=f"All cases on {QUICK_ROWS:,} rows, in about a minute.")
@click.option("--large-files", is_flag=True, help="Text files larger than memory instead.")
@click.option(
    "--hand-off", is_flag=True, help="A hand-off instead, part by part (./trellis test --hand-off first)."
)
@click.option("--growing", is_flag=True, help="How matching grows with the rows instead.")
def speed(rows: int | None, quick: bool, large_files: bool, hand_off: bool, growing: bool) -> None:
    """Print speed and memory as ratios in one run."""
    if quick and rows is not None:
        raise click.UsageError("Both --quick and --rows say how many rows there are: give one of them.")
    if sum((large_files, growing, hand_off)) > 1 or (quick and (large_files or growing)):
        raise click.UsageError("--large-files, --growing and --hand-off are measured one at a time, whole.")
    if large_files:
        from benchmarks import large_files as larger

        larger.report(rows or larger.ROWS, larger.LIMIT)
        return
    if growing:
        from benchmarks import growing as grows

        grows.report(rows or grows.ROWS)
        return
    if hand_off:
        from benchmarks import handing_off

        handing_off.report(rows or (QUICK_ROWS if quick else USUAL_ROWS))
        return
    report(rows or (QUICK_ROWS if quick else USUAL_ROWS))


if __name__ == "__main__":
    speed(prog_name="./trellis speed")
