"""Passwords of databases: asked for once, kept in the desktop's keyring or taken from the environment."""

from __future__ import annotations

import os
import threading
from contextlib import suppress

# Taken for every database that asks for a password and has none in the keyring.
ENVIRONMENT = "KEEN_TRELLIS_PASSWORD"
_SERVICE = "keen-trellis"
_told: dict[str, str] = {}
_lock = threading.Lock()


def find(address: str) -> str | None:
    """The password for an address, or None where none is known."""
    with _lock:
        if address in _told:
            return _told[address]
    return os.environ.get(ENVIRONMENT) or _from_keyring(address)


def remember(address: str, password: str, *, lasting: bool = True) -> bool:
    """Keep a password for this run and, if `lasting`, in the keyring; whether the keyring has it now."""
    with _lock:
        _told[address] = password
    if not lasting:
        return False
    try:
        import keyring

        keyring.set_password(_SERVICE, address, password)
    except Exception:  # a desktop without a keyring raises its backend's own errors
        return False
    return True


def forget(address: str) -> None:
    """Let go of a password that turned out to be wrong."""
    with _lock:
        _told.pop(address, None)
    with suppress(Exception):
        import keyring

        keyring.delete_password(_SERVICE, address)


def forget_all() -> None:
    """Let go of what was told in this run; the keyring keeps what it has."""
    with _lock:
        _told.clear()


def _from_keyring(address: str) -> str | None:
    try:
        import keyring

        return keyring.get_password(_SERVICE, address)
    except Exception:  # as above: without a keyring there is just no password
        return None
