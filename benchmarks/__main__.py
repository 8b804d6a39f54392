"""The command `./trellis speed`."""

from __future__ import annotations

import click

from benchmarks.report import QUICK_ROWS, USUAL_ROWS, report


@click.command(name="speed")
@click.option(
    "--rows", type=click.IntRange(min=1), help=f"Rows of the larger table ({USUAL_ROWS:,} unless said)."
)
@click.option("--quick", is_flag=True, help=f"All cases on {QUICK_ROWS:,} rows, in about a minute.")
def speed(rows: int | None, quick: bool) -> None:
    """Print speed and memory as ratios in one run."""
    if quick and rows is not None:
        raise click.UsageError("Both --quick and --rows say how many rows there are: give one of them.")
    report(rows or (QUICK_ROWS if quick else USUAL_ROWS))


if __name__ == "__main__":
    speed(prog_name="./trellis speed")
