"""What the program remembers between starts: sizes, theme, recent flows."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import platformdirs
from PySide6.QtCore import QSettings

_MOST_RECENT = 8


class Remembered:
    """Settings in the user's configuration folder."""

    def __init__(self) -> None:
        folder = Path(platformdirs.user_config_dir("keen-trellis"))
        self._settings = QSettings(str(folder / "window.ini"), QSettings.Format.IniFormat)

    @property
    def file(self) -> Path | None:
        """Where all this is kept."""
        return Path(self._settings.fileName())

    @property
    def drafts(self) -> Path | None:
        """The folder for copies of flows that are not saved yet; None for no copies."""
        return Path(platformdirs.user_state_dir("keen-trellis")) / "drafts"

    @property
    def pictures(self) -> Path | None:
        """The folder for small pictures of flows; None for none."""
        return Path(platformdirs.user_cache_dir("keen-trellis")) / "pictures"

    def value(self, name: str) -> Any:
        """What is remembered under `name`, or None."""
        return self._settings.value(name)

    def remember(self, name: str, value: Any) -> None:
        """Remember `value` under `name`."""
        self._settings.setValue(name, value)

    @property
    def recent(self) -> list[Path]:
        """Flows opened or saved lately, the latest first; those that are gone are left out."""
        stored = self._settings.value("recent") or []
        paths = [stored] if isinstance(stored, str) else list(stored)
        return [Path(path) for path in paths if Path(path).exists()]

    def add_recent(self, path: Path) -> None:
        """Put a flow first among the recent ones."""
        paths = [str(path), *(str(other) for other in self.recent if other != path)]
        self._settings.setValue("recent", paths[:_MOST_RECENT])
