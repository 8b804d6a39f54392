"""The trellis of a flow as a picture, without a window."""

from __future__ import annotations

import time
from pathlib import Path

from keen_trellis.desktop.kinds import CUTTINGS
from keen_trellis.desktop.shell.app import make_application
from keen_trellis.desktop.shell.turns import QtTurns, pause, threads
from keen_trellis.desktop.trellis.export import for_report
from keen_trellis.desktop.trellis.view import TrellisView
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.runner import Kept
from keen_trellis.outputs.report.charts import Picture
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.session import Session
from keen_trellis.sources.library import Library

_SIZE = (900, 400)  # narrow, since paper is
_PATIENCE = 600.0  # seconds; what takes longer is drawn as far as it is known


def flow_picture(flow: Flow, path: Path, library: Library, kept: Kept, name: str) -> Picture:
    """The trellis with its counts, as a report has it. path: of the flow.  kept: results that are known.

    name: what the flow is called.
    """
    make_application()
    jobs = Jobs(QtTurns(), threads())
    session = Session(jobs, library, kept)
    view = TrellisView(session, CUTTINGS)
    view.resize(*_SIZE)
    session.recover(flow, path, accepted=True)
    end = time.monotonic() + _PATIENCE
    while jobs.under_way and time.monotonic() < end:
        pause()
    made = for_report(view, name)
    jobs.close()
    return made
