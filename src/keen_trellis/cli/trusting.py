"""Asks about what a flow reaches that nobody accepted yet: its servers, queries, and outputs elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from keen_trellis.cli.saying import say

if TYPE_CHECKING:
    from keen_trellis.flow.trust import Reach

_TRUSTING = (
    click.option("--trust", is_flag=True, help="Accept all servers, queries and outputs of FLOW."),
    click.option(
        "--allow-host", "hosts", multiple=True, help="Let FLOW read from this server, host or host:port."
    ),
)


def trusting(command: Any) -> Any:
    """Give a command the options that say what a flow may reach."""
    for option in reversed(_TRUSTING):
        command = option(command)
    return command


def still_waiting(
    flow: Any,
    path: Path,
    *,
    trust: bool,
    hosts: Sequence[str],
    folders: Sequence[Path] = (),
    written: Any = None,
) -> frozenset[Reach]:
    """What a flow reaches that is neither accepted nor allowed by the words of the command.

    With `trust` all of it is listed and accepted, and remembered.  written: as `flow.trust.waiting` has it.
    """
    from keen_trellis.databases import secrets
    from keen_trellis.flow import trust as trusted
    from keen_trellis.flow.steps import KINDS

    for host in hosts:
        secrets.name_server(host)  # it may have the password of the environment
    if trust:
        for line in lines_of(trusted.reach(flow, KINDS, path.parent)):
            say(f"keen-trellis: accepted: {line}", err=True)
        remember(flow if written is None else written, path)
        return frozenset()
    found = trusted.waiting(flow, KINDS, path.parent, written)
    return frozenset(entry for entry in found if not _is_allowed(entry, hosts, folders))


def remember(flow: Any, path: Path) -> None:
    """Remember that the user accepted all that a flow reaches."""
    from keen_trellis.flow import trust as trusted
    from keen_trellis.flow.steps import KINDS

    trusted.accept(flow, KINDS, path.parent)
    trusted.accept_queries(trusted.reach(flow, KINDS, path.parent))


def settle(flow: Any, path: Path, waiting: Collection[Reach]) -> None:
    """Ask about what waits, or refuse where nobody can be asked. UsageError unless it is accepted."""
    from keen_trellis.core.errors import UsageError

    if not waiting:
        return
    say(f"keen-trellis: {path} was not made by you here. If you accept it, it can:", err=True)
    for line in lines_of(waiting):
        say(f"  {line}", err=True)
    if sys.stdin.isatty() and click.confirm("Accept this, now and from now on?", err=True):
        remember(flow, path)
        return
    raise UsageError(
        "Nothing was read or written: you have not accepted what the flow connects to and writes.",
        where=str(path),
        remedy="Give --trust to accept all, or --allow-host HOST and --allow-write FOLDER for this run.",
    )


def settle_reading(flow: Any, path: Path, *, trust: bool, hosts: Sequence[str]) -> None:
    """The same of all that a flow reads, for a command that writes none of its outputs."""
    from keen_trellis.flow.trust import OUTPUT

    waiting = still_waiting(flow, path, trust=trust, hosts=hosts)
    settle(flow, path, [entry for entry in waiting if entry.sort != OUTPUT])


def lines_of(entries: Collection[Reach]) -> list[str]:
    """What is reached, in words, one line each."""
    from keen_trellis.sources.queries import reach_said

    return sorted(map(reach_said, entries))


def _is_allowed(entry: Reach, hosts: Sequence[str], folders: Sequence[Path]) -> bool:
    from keen_trellis.flow import trust as trusted
    from keen_trellis.flow.addresses import parse

    if entry.sort == trusted.OUTPUT:
        # A folder allows files; the tables of a server are only accepted by name.
        return not entry.text and any(trusted.is_within(Path(entry.place), folder) for folder in folders)
    return bool(entry.server) and any(map(parse(entry.server)[0].is_named, hosts))
