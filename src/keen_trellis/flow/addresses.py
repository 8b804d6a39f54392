"""Addresses of databases, taken apart exactly: a password never stays in one, and what cannot be told is
refused.
"""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import parse_qsl, quote, unquote, urlencode

import msgspec

from keen_trellis.core.errors import SourceError

_ADDRESS = re.compile(r"([a-z][a-z0-9+]*)://", re.IGNORECASE)
_UNREADABLE = re.compile(r"[\x00-\x20\x7f]")
POSTGRESQL, SQLITE = "postgresql", "sqlite"
# Said in an address by who accepts that its server gets the password in clear.
CLEAR_PASSWORD, ACCEPTED = "clear_password", "accepted"
# What libpq takes that names no other server, no other secret and no setting that would lift ours.
_OPTIONS = {
    "application_name",
    "channel_binding",
    "gssencmode",
    "host",
    "sslcert",
    "sslkey",
    "sslmode",
    "sslrootcert",
    "target_session_attrs",
    CLEAR_PASSWORD,
}
_PORTS = {POSTGRESQL: 5432}
_WRITE_LIKE = "Write it like postgresql://user@host/database."


class Address(msgspec.Struct, frozen=True):
    """A database by where it is. driver: "" for the usual one.  port: None for the usual one.

    options: what is said behind the question mark.
    """

    backend: str
    driver: str
    user: str
    host: str
    port: int | None
    database: str
    options: tuple[tuple[str, str], ...] = ()

    def __str__(self) -> str:
        return f"{self.place}?{urlencode(self.options, safe='/')}" if self.options else self.place

    @property
    def place(self) -> str:
        """Server, user and database: what a password belongs to."""
        scheme = f"{self.backend}+{self.driver}" if self.driver else self.backend
        user = f"{quote(self.user, safe='')}@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port and self.port != _PORTS.get(self.backend) else ""
        return f"{scheme}://{user}{host}{port}/{quote(self.database, safe='/')}"

    @property
    def server(self) -> str:
        """The host that is connected to; a folder for a socket in it."""
        return self.host or dict(self.options).get("host", "") or "localhost"

    def is_same_database(self, other: Address) -> bool:
        """Whether both are one database, whoever is asked for a password."""
        one, two = (
            (entry.backend, entry.server, entry.port or _PORTS.get(entry.backend), entry.database)
            for entry in (self, other)
        )
        return one == two

    @property
    def is_file(self) -> bool:
        """Whether it is a database file on this machine, called `database`."""
        return self.backend == SQLITE

    def is_named(self, text: str) -> bool:
        """Whether `text` names its server: host, host:port, or user@host:port/database, parts left out."""
        user, at, rest = text.strip().rpartition("@")
        place, slash, database = rest.partition("/")
        host, colon, port = place.rpartition(":") if place.count(":") == 1 else (place.strip("[]"), "", "")
        return (
            host.casefold() == self.server.casefold()
            and (not at or user == self.user)
            and (not slash or database == self.database)
            and (not colon or port == str(self.port or _PORTS.get(self.backend)))
        )


def is_address(place: str) -> bool:
    """Whether a place is the address of a database."""
    return bool(_ADDRESS.match(place))


def shown_place(place: str) -> str:
    """A place as it may be shown: a file by its path, an address without its password."""
    return shown_address(place) if is_address(place) else place


def file_of(place: str) -> Path | None:
    """The file at a place, or that of an SQLite address; None for a server.

    SourceError for an address that cannot be read.
    """
    if not is_address(place):
        return Path(place)
    address = parse(place)[0]
    return Path(address.database) if address.is_file else None


def parse(text: str) -> tuple[Address, str | None]:
    """An address and the password in it. SourceError, which shows nothing of the password, if it is none."""
    match = _ADDRESS.match(text)
    scheme = match[1].lower() if match else ""

    def refused(what: str, remedy: str = _WRITE_LIKE) -> SourceError:
        return SourceError(what, where=f"{scheme or '…'}://…", remedy=remedy)

    if match is None or _UNREADABLE.search(text):
        raise refused("It is not the address of a database.")
    body, _, after = text[match.end() :].partition("?")
    authority, _, database = body.partition("/")
    if "@" in f"{database}{after}" and ":" in authority:
        raise refused(
            "It is not clear where the password in it ends.",
            "Leave the password out: it is asked for. Or write its signs “/” and “?” as %2F and %3F.",
        )
    login, _, place = authority.rpartition("@")
    user, colon, password = login.partition(":")
    host, port = _host_and_port(place)
    if port and not (port.isascii() and port.isdecimal() and 0 < int(port[:9]) < 65536):
        raise refused("What follows the colon is not the number of a port.")
    parts = {
        "user": unquote(user),
        "password": unquote(password) if colon else None,
        "host": host,
        "port": port,
        "dbname": unquote(database),
    }
    backend, _, driver = scheme.partition("+")
    backend = POSTGRESQL if backend == "postgres" else backend
    options = []
    for name, value in parse_qsl(after, keep_blank_values=True):
        if name in parts and not (name == "host" and value.startswith("/")):
            if parts[name]:
                raise refused(f"Its {name} is said twice.")
            parts[name] = value
        elif backend == POSTGRESQL and name not in _OPTIONS:
            # Not by its name: a password that stands there with “&” in it looks like one.
            raise refused(
                "It has an option after “?” that this program does not take.",
                f"It takes {', '.join(sorted(_OPTIONS))}.",
            )
        else:
            options.append((name, value))
    if dict(options).get(CLEAR_PASSWORD, ACCEPTED) != ACCEPTED:
        raise refused(f"“{CLEAR_PASSWORD}” can only be “{ACCEPTED}”.", "Leave it out.")
    if "," in str(parts["host"]):
        raise refused("It names several servers.", "Name the one to read from.")
    known_port = int(parts["port"]) if parts["port"] else None
    address = Address(
        backend,
        driver,
        str(parts["user"]),
        str(parts["host"]),
        known_port,
        str(parts["dbname"]),
        tuple(options),
    )
    if address.is_file and not address.database:
        raise refused("It names no file.", "Open the file itself.")
    return address, parts["password"]


def _host_and_port(place: str) -> tuple[str, str]:
    if place.startswith("["):  # the address of a machine in version 6, which has colons of its own
        host, _, rest = place[1:].partition("]")
        return host, rest.removeprefix(":")
    host, _, port = place.partition(":")
    return host, port


def shown_address(address: str) -> str:
    """An address as it may be shown: never with a password, and not as it is if none can be told apart."""
    try:
        return str(parse(address)[0])
    except SourceError:
        match = _ADDRESS.match(address)
        return f"{match[1] if match else ''}://…"
