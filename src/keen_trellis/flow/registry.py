"""What is chosen by a name, loaded when it is first asked for: what needs one waits for no other."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from importlib import import_module
from typing import TypeVar

Entry = TypeVar("Entry")


class Registry(Mapping[str, Entry]):
    """By name what a class makes, in their order. package: where they are.  places: by name a module of it
    and a class in that, as "join.JoinKind".
    """

    def __init__(self, package: str, places: Mapping[str, str]) -> None:
        self._package = package
        self._places = dict(places)
        self._made: dict[str, Entry] = {}

    def __getitem__(self, name: str) -> Entry:
        found = self._made.get(name)
        if found is None:
            module, _, wanted = self._places[name].rpartition(".")
            made = getattr(import_module(f"{self._package}.{module}"), wanted)()
            # One for all, where two threads ask at once.
            found = self._made.setdefault(name, made)
        return found

    def __contains__(self, name: object) -> bool:
        return name in self._places

    def __iter__(self) -> Iterator[str]:
        return iter(self._places)

    def __len__(self) -> int:
        return len(self._places)
