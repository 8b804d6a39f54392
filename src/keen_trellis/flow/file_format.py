"""The file format of a flow: UTF-8 JSON, one logical item a line, paths relative to the file."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from keen_trellis.core.errors import FlowFileError, SourceError, UsageError
from keen_trellis.flow import addresses
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.corrections import reread
from keen_trellis.flow.decoding import converted, decoded
from keen_trellis.flow.graph import CorrectionList, Flow, Input, RunValue, SharedFilter, Step
from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.plain_text import cut, is_sayable, visible
from keen_trellis.flow.run_values import check_run_values
from keen_trellis.flow.whole_file import whole_file

FORMAT_NAME = "keen-trellis"
FORMAT_MAJOR = 1
FLOW_ENDING = ".trellis"
# The members that are read, of the flow, of a step and of a shared filter; others are kept as they are.
FLOW_MEMBERS = ("format", "files", "steps", "filters", "keeps_log", "confidential", "values", "lists")
STEP_MEMBERS = ("id", "kind", "name", "note", "skipped", "inputs", "settings")
FILTER_MEMBERS = tuple(
    field.encode_name for field in msgspec.structs.fields(SharedFilter) if field.name != "extra"
)
VALUE_MEMBERS = tuple(
    field.encode_name for field in msgspec.structs.fields(RunValue) if field.name != "extra"
)
LIST_MEMBERS = ("id", "path")
_LARGEST_FILE = 64 * 2**20

Members = dict[str, msgspec.Raw]
_Part = TypeVar("_Part", SharedFilter, RunValue, CorrectionList)


def load(path: Path, kinds: Kinds) -> Flow:
    """Read the flow in `path`. FlowFileError, saying where it is wrong, if it is none."""
    try:
        if path.exists() and not path.is_file():
            raise FlowFileError("It is not an ordinary file.", where=str(path))
        if path.stat().st_size > _LARGEST_FILE:
            raise FlowFileError("It is too large to be a flow.", where=str(path))
        content = path.read_bytes()
    except OSError as error:
        raise FlowFileError(f"It cannot be opened: {error.strerror}.", where=str(path)) from error
    try:
        if not is_sayable(str(path.absolute())):
            raise FlowFileError("Its name, or that of a folder above it, is not UTF-8.", remedy="Rename it.")
        return parse(content, path.parent, kinds)
    except FlowFileError as error:
        error.where = f"{path}, {error.where}" if error.where else str(path)
        raise
    except (RecursionError, UnicodeDecodeError) as error:
        what = (
            "It is nested too deeply to be a flow" if isinstance(error, RecursionError) else "It is not UTF-8"
        )
        raise FlowFileError(f"{what}.", where=str(path), remedy="Restore an older copy of it.") from error


def parse(content: bytes, folder: Path, kinds: Kinds) -> Flow:
    """The flow that `content` describes, its paths taken as relative to `folder`."""
    members = _decoded(content, Members, content)
    _check_format(members)
    files = _decoded(members.get("files", msgspec.Raw(b"[]")), tuple[str, ...], content)
    raw_steps = _decoded(members.get("steps", msgspec.Raw(b"[]")), list[Members], content)
    steps = tuple(_parse_step(raw, number, folder, kinds, content) for number, raw in enumerate(raw_steps, 1))
    seen: set[str] = set()
    for step in steps:
        if step.id in seen:
            raise FlowFileError(f"Two steps have the id “{step.id}”.", remedy="Give one of them another.")
        seen.add(step.id)
    extra = _members_kept(members, FLOW_MEMBERS)
    raw_filters = _decoded(members.get("filters", msgspec.Raw(b"[]")), list[Members], content)
    filters = tuple(_parse_filter(raw, number) for number, raw in enumerate(raw_filters, 1))
    if len({entry.id for entry in filters}) < len(filters):
        raise FlowFileError("Two shared filters have the same id.", remedy="Give one of them another.")
    try:
        keeps_log = _decoded(members.get("keeps_log", msgspec.Raw(b"true")), bool, content)
    except FlowFileError as error:
        raise FlowFileError("“keeps_log” is neither true nor false.", where=error.where) from error
    try:
        confidential = _decoded(members.get("confidential", msgspec.Raw(b"[]")), tuple[str, ...], content)
    except FlowFileError as error:
        raise FlowFileError("“confidential” is no list of names of fields.", where=error.where) from error
    raw_values = _decoded(members.get("values", msgspec.Raw(b"[]")), list[Members], content)
    values = tuple(_parse_value(raw, number) for number, raw in enumerate(raw_values, 1))
    _check_values(values)
    raw_lists = _decoded(members.get("lists", msgspec.Raw(b"[]")), list[Members], content)
    lists = tuple(_parse_list(raw, number, folder) for number, raw in enumerate(raw_lists, 1))
    if len({entry.id for entry in lists}) < len(lists):
        raise FlowFileError("Two lists of corrections have the same id.", remedy="Give one of them another.")
    flow = Flow(
        tuple(_absolute(file, folder) for file in files),
        steps,
        extra,
        filters,
        keeps_log,
        confidential,
        values,
        lists,
    )
    list(flow.in_order())  # refuses a circle
    return reread(flow)


def _dense(raw: bytes) -> bytes:
    """JSON text without white space between its tokens, which are kept to the letter."""
    return msgspec.json.format(raw, indent=-1)


def _members_read(raw: Members, known: Collection[str]) -> dict[str, Any]:
    return {name: msgspec.json.decode(value) for name, value in raw.items() if name in known}


def _members_kept(raw: Members, known: Collection[str]) -> tuple[tuple[str, bytes], ...]:
    return tuple((name, _dense(bytes(value))) for name, value in raw.items() if name not in known)


def _parse_filter(raw: Members, number: int) -> SharedFilter:
    return _parsed(raw, FILTER_MEMBERS, SharedFilter, f"Shared filter {number}")


def _parse_value(raw: Members, number: int) -> RunValue:
    return _parsed(raw, VALUE_MEMBERS, RunValue, f"Run value {number}")


def _parse_list(raw: Members, number: int, folder: Path) -> CorrectionList:
    made = _parsed(raw, LIST_MEMBERS, CorrectionList, f"List of corrections {number}")
    if not is_sayable(made.path):
        raise FlowFileError(f"A path in it is not valid: “{visible(cut(made.path, 80))}”.")
    return msgspec.structs.replace(made, path=os.path.normpath(folder.absolute() / made.path))


def _parsed(raw: Members, known: Collection[str], kind: type[_Part], said: str) -> _Part:
    """A part of a flow that keeps the members that are not known."""
    try:
        made = converted(_members_read(raw, known), kind)
    except msgspec.ValidationError as error:
        raise FlowFileError(f"{said} is not valid: {error}.") from error
    return msgspec.structs.replace(made, extra=_members_kept(raw, known))


def _check_values(values: Sequence[RunValue]) -> None:
    try:
        check_run_values(values)
    except UsageError as error:
        raise FlowFileError(error.what, remedy=error.remedy) from error


class _Envelope(msgspec.Struct):
    id: str
    kind: str
    name: str
    note: str = ""
    inputs: tuple[Input, ...] = ()
    skipped: bool = False


def _parse_step(raw: Members, number: int, folder: Path, kinds: Kinds, content: bytes) -> Step:
    try:
        envelope = converted(_members_read(raw, STEP_MEMBERS), _Envelope)
        settings = decoded(raw.get("settings", msgspec.Raw(b"{}")), Members)
    except (msgspec.ValidationError, msgspec.DecodeError) as error:
        raise FlowFileError(f"Step {number} is not valid: {error}.") from error
    for place, entry in enumerate(msgspec.json.decode(raw.get("inputs", b"[]")), 1):
        for name in entry.keys() - {"step", "port"}:
            # An input is too small for members that may be missed: without its port it gives other rows.
            raise FlowFileError(
                f"Input {place} of {envelope.name} has a member “{name}”, which no input has.",
                remedy="Inputs have the members “step” and “port”.",
            )
    settings = _with_paths(settings, envelope.kind, kinds, lambda path: _absolute(path, folder))
    extra = _members_kept(raw, STEP_MEMBERS)
    return Step(
        envelope.id,
        envelope.kind,
        envelope.name,
        envelope.note,
        envelope.inputs,
        _dense(msgspec.json.encode(settings)),
        extra,
        envelope.skipped,
    )


def _check_format(members: Members) -> None:
    remedy = "A flow starts with the member “format”."
    try:
        stated = decoded(members["format"], str)
        name, _, version = stated.partition("/")
        major = int(version.partition(".")[0])
    except (KeyError, ValueError, msgspec.DecodeError):
        raise FlowFileError("It is not a flow of Keen Trellis.", remedy=remedy) from None
    if name != FORMAT_NAME or major < 1:
        raise FlowFileError("It is not a flow of Keen Trellis.", remedy=remedy)
    if major > FORMAT_MAJOR:
        raise FlowFileError(
            f"It was written by a newer version (format {major}; this version reads {FORMAT_MAJOR}).",
            remedy="Open it with that version. Nothing was changed.",
        )


def _decoded(raw: bytes | msgspec.Raw, kind: type, content: bytes) -> Any:
    try:
        return decoded(raw, kind)
    except msgspec.ValidationError as error:
        raise FlowFileError(f"It is not valid: {error}.") from error
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise FlowFileError(f"It is not valid JSON: {error}.", where=_line_of(str(error), content)) from error


def _line_of(message: str, content: bytes) -> str:
    digits = message.rpartition("(byte ")[2].rstrip(")")
    return f"line {content[: int(digits)].count(10) + 1}" if digits.isdigit() else ""


def _absolute(path: str, folder: Path) -> str:
    if is_address(path):
        return _without_password(path)
    return os.path.normpath(folder.absolute() / path)


def _without_password(address: str) -> str:
    """The address as it may be in a flow: a password that somebody wrote into the file is let go of."""
    with suppress(SourceError):
        known, password = addresses.parse(address)
        if password is not None:
            return str(known)
    return address


def _with_paths(settings: Members, kind_name: str, kinds: Kinds, change: Callable[[str], str]) -> Members:
    """The settings with every path in them changed; settings of unknown kinds have none that we know."""
    kind = kinds.find(kind_name)
    changed = dict(settings)
    for name in kind.path_settings if kind else ():
        if name in changed:
            try:
                path = decoded(changed[name], str)
            except msgspec.DecodeError:
                continue  # the step itself says that its settings are wrong
            if not is_sayable(path):
                raise FlowFileError(f"A path in it is not valid: “{visible(cut(path, 80))}”.")
            changed[name] = msgspec.Raw(msgspec.json.encode(change(path) if path else path))
    return changed


# --- writing ---


def dump(flow: Flow, folder: Path, kinds: Kinds) -> bytes:
    """The flow as the content of a file in `folder`."""

    def relative(path: str) -> str:
        if is_address(path):
            return _without_password(path)
        return os.path.relpath(path, folder.absolute())

    lines = ["{", f'  "format": "{FORMAT_NAME}/{FORMAT_MAJOR}",']
    lines += _list_lines("files", (_compact(msgspec.json.encode(relative(file))) for file in flow.files), 2)
    if flow.lists:
        bare = (CorrectionList(entry.id, relative(entry.path), extra=entry.extra) for entry in flow.lists)
        lines += _list_lines("lists", map(_line_of_extra, bare), 2)
    steps = []
    for step in flow.steps:
        settings = _with_paths(decoded(step.settings, Members), step.kind, kinds, relative)
        steps.append("\n".join(_step_lines(step, settings)))
    if not flow.keeps_log:
        lines.append('  "keeps_log": false,')
    if flow.confidential:
        names = (_compact(msgspec.json.encode(name)) for name in flow.confidential)
        lines += _list_lines("confidential", names, 2)
    if flow.values:
        lines += _list_lines("values", (_line_of_extra(entry) for entry in flow.values), 2)
    if flow.filters:
        lines += _list_lines("filters", (_line_of_extra(entry) for entry in flow.filters), 2)
    lines += ['  "steps": [', ",\n".join(steps), "  ]"] if steps else ['  "steps": []']
    for name, value in flow.extra:
        lines[-1] += ","
        lines += _member_lines(name, value, 2)
    return "\n".join([*lines, "}", ""]).encode()


def save(flow: Flow, path: Path, kinds: Kinds) -> None:
    """Write the flow to `path`: whole, or not at all. FlowFileError if it cannot be written."""
    content = dump(flow, path.parent, kinds)
    try:
        with whole_file(path) as draft:
            draft.write_bytes(content)
    except OSError as error:
        raise FlowFileError(
            f"It cannot be saved: {error.strerror}.", where=str(path), remedy="Save it in another folder."
        ) from error


def _step_lines(step: Step, settings: Members) -> list[str]:
    lines = ["    {"]
    lines += [f'      "{name}": {_text(getattr(step, name))},' for name in ("id", "kind", "name")]
    if step.note:
        lines.append(f'      "note": {_text(step.note)},')
    if step.skipped:
        lines.append('      "skipped": true,')
    if step.inputs:
        lines += _list_lines("inputs", (_compact(msgspec.json.encode(entry)) for entry in step.inputs), 6)
    for name, extra in step.extra:
        lines.append(f"      {_text(name)}: {_compact(extra)},")
    if not settings:
        return [*lines, '      "settings": {}', "    }"]
    lines.append('      "settings": {')
    for name, value in settings.items():
        if bytes(value).lstrip().startswith(b"["):
            items = decoded(value, list[msgspec.Raw])
            lines += _list_lines(name, (_compact(bytes(item)) for item in items), 8)
        else:
            lines.append(f"        {_text(name)}: {_compact(bytes(value))},")
    lines[-1] = lines[-1].removesuffix(",")
    return [*lines, "      }", "    }"]


def _line_of_extra(entry: SharedFilter | RunValue | CorrectionList) -> str:
    """A shared filter, run value or list on one line, with the members that are not known."""
    plain = msgspec.json.encode(msgspec.structs.replace(entry, extra=()))
    members = decoded(plain, Members) | {name: msgspec.Raw(value) for name, value in entry.extra}
    return _compact(msgspec.json.encode(members))


def _list_lines(name: str, items: Iterable[str], indent: int) -> list[str]:
    space = " " * indent
    written = [f"{space}  {item}," for item in items]
    if not written:
        return [f"{space}{_text(name)}: [],"]
    written[-1] = written[-1].removesuffix(",")
    return [f"{space}{_text(name)}: [", *written, f"{space}],"]


def _member_lines(name: str, value: bytes, indent: int) -> list[str]:
    """A member; an object of objects has each of them on a line of its own."""
    space = " " * indent
    is_object = value.lstrip().startswith(b"{")
    members = decoded(value, Members) if is_object else {}
    if not any(bytes(raw).lstrip().startswith(b"{") for raw in members.values()):
        return [f"{space}{_text(name)}: {_compact(value)}"]
    lines = []
    for inner, raw in members.items():
        lines += _member_lines(inner, bytes(raw), indent + 2)
        lines[-1] += ","
    lines[-1] = lines[-1].removesuffix(",")
    return [f"{space}{_text(name)}: {{", *lines, f"{space}}}"]


def _text(value: str) -> str:
    return msgspec.json.encode(value).decode()


def _compact(raw: bytes) -> str:
    return msgspec.json.format(raw, indent=0).decode()
