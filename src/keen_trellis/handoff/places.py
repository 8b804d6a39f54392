"""The places that a flow can be handed off to, by their addresses."""

from __future__ import annotations

from contextlib import AbstractContextManager

from keen_trellis.core.errors import UsageError
from keen_trellis.core.task import Task
from keen_trellis.flow.addresses import POSTGRESQL, is_address, parse, shown_address
from keen_trellis.flow.in_sql import target
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.handoff.there import There


def target_at(address: str) -> SqlTarget:
    """Whose SQL is taken at an address. UsageError where no flow can be handed off to."""
    if is_address(address) and parse(address)[0].backend == POSTGRESQL:
        return target.POSTGRESQL
    raise UsageError(
        "A flow can be handed off to PostgreSQL only.",
        where=shown_address(address) if is_address(address) else address,
        remedy="Give an address like postgresql://user@host/database.",
    )


def session_at(address: str, task: Task) -> AbstractContextManager[There]:
    """A session at an address. SourceError if there is none to be had; Cancelled."""
    from keen_trellis.handoff.postgres import postgres

    target_at(address)
    return postgres(address, task)
