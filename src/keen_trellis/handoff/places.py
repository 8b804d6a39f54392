"""The places that a flow can be handed off to, by their addresses."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from keen_trellis.core.errors import UsageError
from keen_trellis.core.task import Task
from keen_trellis.flow.addresses import POSTGRESQL, is_address, parse, shown_address
from keen_trellis.flow.in_sql import target
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.handoff.there import There

_SPARK = "sc"
_TARGETS = {POSTGRESQL: target.POSTGRESQL, _SPARK: target.SPARK}


def target_at(address: str) -> SqlTarget:
    """Whose SQL is taken at an address. UsageError where no flow can be handed off to."""
    found = _TARGETS.get(parse(address)[0].backend) if is_address(address) else None
    if found is None:
        raise UsageError(
            "A flow can be handed off to PostgreSQL and to Spark.",
            where=shown_address(address) if is_address(address) else address,
            remedy="Give an address like postgresql://user@host/database or sc://host:15002.",
        )
    return found


def session_at(address: str, task: Task, seen: Sequence[Path] = ()) -> AbstractContextManager[There]:
    """A session at an address. seen: folders that a cluster sees, too. SourceError if there is none to be
    had, UsageError for what is not meant for it; Cancelled.
    """
    if target_at(address) is target.SPARK:
        from keen_trellis.handoff.spark import spark

        return spark(address, task, seen)
    if seen:
        raise UsageError(
            "A database reads no files.", where=shown_address(address), remedy="They are sent to it."
        )
    from keen_trellis.handoff.postgres import postgres

    return postgres(address, task)
