"""Lists every text that a user can see, sorted, each with the module that says it: for reading line by line.

`python -m tools.texts`. What stands in a text in braces is filled in by the program.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

_SOURCES = Path(__file__).resolve().parent.parent / "src" / "keen_trellis"
# Of one word only what has a capital is a text; names of members, patterns and style sheets are none.
_TEXT = re.compile(r"[A-Za-z“].*[ …]|[A-Z][a-z]+…?$")
_NO_TEXT = re.compile(r"[{};]\s*$|^\s*[a-z-]+:|\\d|^[\w./*-]+$(?<![A-Z]\w)|border|SELECT |<[a-z]+[ >:/]")


def texts(module: Path) -> Iterator[str]:
    """The texts in a module, without docstrings."""
    tree = ast.parse(module.read_text(encoding="utf-8"))
    documented = (ast.Module, ast.ClassDef, ast.FunctionDef)
    docstrings = {
        id(node.body[0].value)
        for node in ast.walk(tree)
        if isinstance(node, documented) and node.body and isinstance(node.body[0], ast.Expr)
    }
    parts = {
        id(part) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for part in ast.walk(node)
    } - {id(node) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr)}
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr) and id(node) not in parts:
            yield "".join(_part(part) for part in node.values)
        elif (
            isinstance(node, ast.Constant)
            and isinstance(node.value, str)
            and id(node) not in docstrings
            and id(node) not in parts
        ):
            yield node.value


def _part(part: ast.expr) -> str:
    if isinstance(part, ast.Constant):
        return str(part.value)
    return f"{{{ast.unparse(part.value)}}}" if isinstance(part, ast.FormattedValue) else ""


def is_text(text: str) -> bool:
    """Whether a literal is something that a user reads."""
    return bool(_TEXT.search(text)) and not _NO_TEXT.search(text)


@cache
def all_texts() -> list[tuple[str, str]]:
    """Every text with the module that says it, in the order of the alphabet."""
    found = {
        (text.replace("\n", "\\n"), str(module.relative_to(_SOURCES)))
        for module in sorted(_SOURCES.rglob("*.py"))
        for text in texts(module)
        if is_text(text)
    }
    return sorted(found, key=lambda entry: (entry[0].casefold(), entry[1]))


if __name__ == "__main__":
    for text, module in all_texts():
        print(f"{text}\t{module}")
