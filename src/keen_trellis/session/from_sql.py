"""A query that is pasted into the window: its tables are looked for, and its steps put into the flow."""

from __future__ import annotations

from collections.abc import Callable

from keen_trellis.core.task import Task
from keen_trellis.flow.from_sql import FromSql, finding, parsed, steps_of
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.session.session import Session


def tables_here(session: Session) -> dict[str, SourceSettings]:
    """The tables of the files and databases in the margin, by their names."""
    found: dict[str, SourceSettings] = {}
    for state in session.margin.files.values():
        for entry in state.content.tables if state.content is not None else ():
            assert state.content is not None
            found.setdefault(entry.called, state.content.settings(entry.name))
    return found


def read_query(session: Session, text: str, done: Callable[[FromSql], None]) -> None:
    """Find out on a thread what steps a query becomes: tables that it names may have to be read for that."""
    flow, named = session.flow, tables_here(session)

    def work(task: Task) -> FromSql:
        return _made(session, flow, text, named, task)

    session.jobs.start("reading the query", work, done, session.failed.emit)


def put_query(session: Session, text: str) -> bool:
    """Put the steps of a query into the flow as it is now; whether that could be done."""
    named = tables_here(session)

    def edit(flow: Flow) -> tuple[Flow, str]:
        made = _made(session, flow, text, named, Task())
        return made.flow, made.step

    return session.apply("Steps from SQL", edit)


def _made(session: Session, flow: Flow, text: str, named: dict[str, SourceSettings], task: Task) -> FromSql:
    table_of = finding(named)
    return steps_of(flow, text, table_of, lambda now, entry: session.runner.shape(now, entry, task))


def check_query(text: str) -> None:
    """UsageError unless the text is one SELECT."""
    parsed(text)
