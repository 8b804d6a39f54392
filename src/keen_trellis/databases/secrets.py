"""Passwords of databases, each of one address: asked for once, kept in the desktop's keyring or taken from
the environment.
"""

from __future__ import annotations

import os
import threading
from contextlib import suppress

from keen_trellis.flow.addresses import Address, is_address, parse

# Taken where there is none in the keyring, for the server that the second names, or else for those that were
# named on the command line: a flow names servers, too, and must not get a password by that.
ENVIRONMENT = "KEEN_TRELLIS_PASSWORD"
FOR = "KEEN_TRELLIS_PASSWORD_FOR"
_SERVICE = "keen-trellis"
_told: dict[str, str] = {}
_named: set[str] = set()
_lock = threading.Lock()


def find(address: str) -> str | None:
    """The password for an address (user, server, port and database), or None where none is known."""
    known = parse(address)[0]
    with _lock:
        if known.place in _told:
            return _told[known.place]
    return _from_environment(known) or _from_keyring(known.place)


def name_server(text: str) -> None:
    """Say that the user named this server: host, host:port or user@host:port/database."""
    with _lock:
        _named.add(text)


def name_place(place: str) -> None:
    """Say that the user named this place: where it is the address of a database, its server."""
    if is_address(place):
        name_server(parse(place)[0].server)


def take_out_password(place: str, *, lasting: bool = False) -> str:
    """The place without a password that stands in it, which is remembered instead: for this run, or for
    good.
    """
    if not is_address(place):
        return place
    address, password = parse(place)
    if password is not None and not address.is_file:
        remember(str(address), password, lasting=lasting)
    return str(address)


def remedy(address: str) -> str:
    """What to do where a password is lacking."""
    server = parse(address)[0].server
    if os.environ.get(ENVIRONMENT) and not _from_environment(parse(address)[0]):
        return f"The one in {ENVIRONMENT} goes to this server only with {FOR}={server}."
    return f"Give the password when asked, or set {ENVIRONMENT}, and {FOR}={server}, in the environment."


def remember(address: str, password: str, *, lasting: bool = True) -> bool:
    """Keep a password for this run and, if `lasting`, in the keyring; whether the keyring has it now."""
    place = parse(address)[0].place
    with _lock:
        _told[place] = password
    if not lasting:
        return False
    try:
        import keyring

        keyring.set_password(_SERVICE, place, password)
    except Exception:  # noqa: BLE001 - a desktop without a keyring raises its backend's own errors
        return False
    return True


def forget(address: str) -> None:
    """Let go of a password that turned out to be wrong."""
    place = parse(address)[0].place
    with _lock:
        _told.pop(place, None)
    with suppress(Exception):
        import keyring

        keyring.delete_password(_SERVICE, place)


def forget_all() -> None:
    """Let go of what was told in this run; the keyring keeps what it has."""
    with _lock:
        _told.clear()
        _named.clear()


def _from_environment(address: Address) -> str | None:
    only = os.environ.get(FOR)
    with _lock:
        named = [only] if only else sorted(_named)
    return os.environ.get(ENVIRONMENT) or None if any(map(address.is_named, named)) else None


def _from_keyring(place: str) -> str | None:
    try:
        import keyring

        return keyring.get_password(_SERVICE, place)
    except Exception:  # noqa: BLE001 - as above: without a keyring there is just no password
        return None
