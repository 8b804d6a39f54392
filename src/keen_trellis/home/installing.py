"""Puts what makes the program at home on a desktop into the user's own folders, and takes it away again.

That is the command, the desktop entry, the file type, icons, a description, and completions for shells, in
the places that the XDG Base Directory Specification names. A list of what was put there is kept; a file of
somebody else in a place is left, and said.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator, Mapping
from importlib.resources import files
from pathlib import Path

import msgspec

from keen_trellis.core.errors import OutputError
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.whole_file import whole_file

ID = "org.keentrellis.KeenTrellis"
SIZES = (16, 24, 32, 48, 64, 128, 256)
COMMAND = "keen-trellis"


class Folders(msgspec.Struct, frozen=True):
    """The user's folders. data, config: of XDG.  commands: where commands of their own are."""

    data: Path
    config: Path
    commands: Path

    @staticmethod
    def of(environment: Mapping[str, str] = os.environ) -> Folders:
        """Those that the environment names, else the usual ones."""
        home = Path(environment.get("HOME") or Path.home())
        data = environment.get("XDG_DATA_HOME") or home / ".local" / "share"
        config = environment.get("XDG_CONFIG_HOME") or home / ".config"
        return Folders(Path(data), Path(config), home / ".local" / "bin")

    @property
    def listed(self) -> Path:
        """The list of what was put there."""
        return self.data / "keen-trellis" / "installed.json"


def resource(name: str) -> bytes:
    """One of the files that the program puts into place, as it ships."""
    return files(__package__).joinpath("data").joinpath(name).read_bytes()


def this_command() -> Path:
    """Where the command is that runs now, or that belongs to the Python that does."""
    called = Path(sys.argv[0]).absolute()
    beside = Path(sys.executable).absolute().parent / COMMAND
    return called if called.name == COMMAND and called.exists() else beside


def _contents(folders: Folders, completions: Mapping[str, str]) -> Iterator[tuple[Path, bytes]]:
    """Every file with what is in it."""
    icons = folders.data / "icons" / "hicolor"
    yield (
        folders.data / "applications" / f"{ID}.desktop",
        resource("keen-trellis.desktop").replace(
            b"Exec=keen-trellis", f"Exec={_quoted(folders.commands / COMMAND)}".encode()
        ),
    )
    yield folders.data / "mime" / "packages" / f"{ID}.xml", resource("mime.xml")
    yield folders.data / "metainfo" / f"{ID}.metainfo.xml", resource("metainfo.xml")
    yield icons / "scalable" / "apps" / f"{ID}.svg", resource("icon.svg")
    for size in SIZES:
        yield icons / f"{size}x{size}" / "apps" / f"{ID}.png", resource(f"icons/{size}.png")
    places = {
        "bash": folders.data / "bash-completion" / "completions" / COMMAND,
        "zsh": folders.data / "zsh" / "site-functions" / f"_{COMMAND}",
        "fish": folders.config / "fish" / "completions" / f"{COMMAND}.fish",
    }
    for shell, source in completions.items():
        yield places[shell], source.encode()


def _quoted(command: Path) -> str:
    """A command as the key Exec of a desktop entry has it."""
    text = str(command).replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`").replace("$", "\\$")
    text = text.replace("%", "%%")
    return f'"{text}"'.replace("\\", "\\\\") if text != str(command) or " " in text else text


def install(folders: Folders, command: Path, completions: Mapping[str, str]) -> list[Path]:
    """Put everything into place; what was put there. completions: of the command, by shell.

    OutputError, and nothing changed, where a place is somebody else's.
    """
    ours = _listed(folders)
    contents = dict(_contents(folders, completions))
    link = folders.commands / COMMAND
    for path, content in contents.items():
        if path.exists() and str(path) not in ours and path.read_bytes() != content:
            raise _not_ours(path)
    if (link.exists() or link.is_symlink()) and str(link) not in ours and not _leads_to(link, command):
        raise _not_ours(link)
    told = {str(path): hashlib.sha256(content).hexdigest() for path, content in contents.items()}
    try:
        # The list first: what is half put into place can be taken away.
        _keep(folders, ours | told | {str(link): ""})
        for path, content in contents.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            with whole_file(path) as draft:
                draft.write_bytes(content)
        if not _leads_to(link, command):
            link.parent.mkdir(parents=True, exist_ok=True)
            link.unlink(missing_ok=True)
            link.symlink_to(command)
    except OSError as error:
        raise OutputError(
            f"It cannot be put into place: {error.strerror}.",
            where=str(error.filename or folders.data),
            remedy="See that the folder can be written, then install again.",
        ) from error
    _tell_desktop(folders)
    return [*contents, link]


def _leads_to(link: Path, command: Path) -> bool:
    return link.absolute() == command or (link.is_symlink() and link.resolve() == command.resolve())


def uninstall(folders: Folders) -> tuple[list[Path], list[Path]]:
    """Take away what was put into place: what is gone now, and what was changed since and so was left."""
    gone, left = [], []
    for text, told in _listed(folders).items():
        path = Path(text)
        if not path.exists() and not path.is_symlink():
            continue
        own = path.is_symlink() if not told else hashlib.sha256(path.read_bytes()).hexdigest() == told
        if not own:
            left.append(path)
            continue
        path.unlink()
        gone.append(path)
    folders.listed.unlink(missing_ok=True)
    _tell_desktop(folders)
    return gone, left


def _listed(folders: Folders) -> dict[str, str]:
    try:
        return decoded(folders.listed.read_bytes(), dict[str, str])
    except (OSError, msgspec.DecodeError, msgspec.ValidationError):
        return {}


def _keep(folders: Folders, listed: Mapping[str, str]) -> None:
    folders.listed.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(folders.listed) as draft:
        draft.write_bytes(msgspec.json.format(msgspec.json.encode(dict(listed))))


def _not_ours(path: Path) -> OutputError:
    return OutputError(
        "Another file is there already.",
        where=str(path),
        remedy="Move it away, then install again; nothing was changed.",
    )


def _tell_desktop(folders: Folders) -> None:
    """Let the desktop's own programs look at what changed; where they are missing it does so by itself."""
    for program, folder in (
        ("update-mime-database", folders.data / "mime"),
        ("update-desktop-database", folders.data / "applications"),
        ("gtk-update-icon-cache", folders.data / "icons" / "hicolor"),
    ):
        found = shutil.which(program)
        if found is not None and folder.is_dir():
            options = ["-q", "-t", "-f"] if program.startswith("gtk") else []
            subprocess.run([found, *options, str(folder)], check=False, capture_output=True, timeout=60)
