"""Makes the demo: its data and its flows, in a folder of the user's or in the usual place."""

from __future__ import annotations

from pathlib import Path

import platformdirs

from keen_trellis.demo.files import write_data
from keen_trellis.demo.flows import write_flows
from keen_trellis.demo.next_month import next_month
from keen_trellis.demo.scenario import build
from keen_trellis.demo.season_report import write_report


def demo_folder() -> Path:
    """Where the demo lives if nothing else is said."""
    return Path(platformdirs.user_data_dir("keen-trellis")) / "demo"


def make(folder: Path) -> list[Path]:
    """Write the demo's data and flows into `folder`; the paths written."""
    return [*write_data(build(), folder), write_report(folder), *write_flows(folder)]


def make_next_month(folder: Path) -> list[Path]:
    """Write the data of the month after over that in `folder`, the flows left as they are; the paths
    written.
    """
    return write_data(next_month(build())[0], folder)
