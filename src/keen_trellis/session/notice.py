"""A notice: what one object tells to whoever wants to hear it, without knowing who that is."""

from __future__ import annotations

import inspect
import weakref
from collections.abc import Callable
from typing import Generic, ParamSpec

Told = ParamSpec("Told")


class Notice(Generic[Told]):
    """Calls all that were connected, in their order, with what is told.

    A method is held weakly: a view that is gone hears nothing more, and is not kept by what it listened to.
    """

    def __init__(self) -> None:
        self._listeners: list[Callable[[], Callable[Told, object] | None]] = []

    def connect(self, listener: Callable[Told, object]) -> None:
        """Call `listener` from now on."""
        if inspect.ismethod(listener):
            self._listeners.append(weakref.WeakMethod(listener))
        else:
            self._listeners.append(lambda: listener)

    def disconnect(self, listener: Callable[Told, object]) -> None:
        """Call `listener` no more."""
        self._listeners = [entry for entry in self._listeners if entry() not in (None, listener)]

    def emit(self, *told: Told.args, **more: Told.kwargs) -> None:
        """Tell all who listen now."""
        for entry in list(self._listeners):
            listener = entry()
            if listener is not None:
                listener(*told, **more)
