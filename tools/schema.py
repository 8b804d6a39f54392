"""Makes docs/flow.schema.json: shapes from the types of settings, words from tools/schema_words.json.

The words are written by hand: the frame of a flow, and for each type of settings what its members mean, and
what of their values the type does not tell. A member without words is listed with none; words for a member
that is not there are an error.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import msgspec

from keen_trellis.flow.kinds import StepKind
from keen_trellis.flow.steps import KINDS

HERE = Path(__file__).resolve().parent
WORDS, SCHEMA = HERE / "schema_words.json", HERE.parent / "docs" / "flow.schema.json"
# What is put in when a flow is run, and is never in a file.
_NOT_IN_FILES = {("TieSettings", "shared"), ("SourceSettings", "given"), ("SourceSettings", "kept")}

Schema = dict[str, Any]


def schema() -> Schema:
    """The schema of a flow. ValueError for words that no setting has."""
    words = json.loads(WORDS.read_text())
    kinds = KINDS.all()
    names = {kind.settings_type.__name__: kind.name for kind in kinds}
    _, made = msgspec.json.schema_components([kind.settings_type for kind in kinds], ref_template="{name}")
    for name in ("SharedFilter", "Given"):
        made.pop(name, None)
    unknown = words["settings"].keys() - made.keys()
    if unknown:
        raise ValueError(f"No settings are called {', '.join(sorted(unknown))}.")
    frame = words["frame"]
    step = {**frame["$defs"]["step"], "allOf": [_of_kind(kind) for kind in kinds]}
    settings = {
        _called(name, names): _of_settings(name, entry, words["settings"].get(name, {}), names)
        for name, entry in sorted(made.items())
    }
    return {**frame, "$defs": {**frame["$defs"], "step": step, **settings}}


def _called(name: str, kinds: dict[str, str]) -> str:
    """What a type of settings is called in the schema: as its kind of step, or in words."""
    words = re.sub(r"(?<!^)(?=[A-Z])", "-", name.removesuffix("Settings")).lower()
    return kinds.get(name) or (words if words not in kinds.values() else f"one-{words}")


def _of_kind(kind: StepKind[Any]) -> Schema:
    """What holds of the steps of a kind."""
    least = len(kind.input_names)
    inputs: Schema = {} if not least else {"inputs": {"minItems": least}}
    if least and not kind.more_inputs:
        inputs["inputs"]["maxItems"] = least
    return {
        "if": {"properties": {"kind": {"const": kind.name}}},
        "then": {
            "required": [*inputs, "settings"],
            "properties": {**inputs, "settings": {"$ref": f"#/$defs/{kind.name}"}},
        },
    }


def _of_settings(name: str, made: Schema, words: Schema, kinds: dict[str, str]) -> Schema:
    members = {
        member: _of_member(found, words.get(member, {}), kinds)
        for member, found in made["properties"].items()
        if (name, member) not in _NOT_IN_FILES
    }
    unknown = words.keys() - members.keys()
    if unknown:
        raise ValueError(f"{name} has no {', '.join(sorted(unknown))}.")
    found: Schema = {"type": "object"}
    if made.get("required"):
        found["required"] = made["required"]
    return {**found, "additionalProperties": False, "properties": members}


def _of_member(made: Schema, words: Schema, kinds: dict[str, str]) -> Schema:
    found = _with_references(made, kinds)
    if found.get("default") in ((), [], {}, None):
        found.pop("default", None)
    if "enum" in words:
        found.pop("type", None)
    description = {"description": words["description"]} if "description" in words else {}
    return {**description, **found, **{key: value for key, value in words.items() if key != "description"}}


def _with_references(made: Any, kinds: dict[str, str]) -> Any:
    if isinstance(made, dict):
        return {
            key: f"#/$defs/{_called(value, kinds)}" if key == "$ref" else _with_references(value, kinds)
            for key, value in made.items()
        }
    return [_with_references(entry, kinds) for entry in made] if isinstance(made, list) else made


if __name__ == "__main__":
    SCHEMA.write_text(json.dumps(schema(), indent=2, ensure_ascii=False) + "\n")
