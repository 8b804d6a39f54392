"""Mends of text: spaces, case, replacing, padding, parts of it, corrections of single values."""

from __future__ import annotations

import enum
from collections.abc import Callable, Sequence
from functools import partial

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.derived import Derived, DerivedTable, row_batches
from keen_trellis.core.errors import UsageError
from keen_trellis.core.preparing import WHITE_SPACE
from keen_trellis.core.table import Cells, Field, Table, find_field
from keen_trellis.core.task import Task
from keen_trellis.core.text_size import joined, replaced
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text

CHANGED = "changed"
_TEXT = ARROW_TYPES[FieldType.TEXT]
_SPACES = "[" + "".join(rf"\x{{{ord(character):x}}}" for character in WHITE_SPACE) + "]+"


class How(enum.Enum):
    """What is done to text; the value is its name in flow files."""

    TRIM = "trim"
    SQUEEZE = "squeeze"
    UPPER = "upper"
    LOWER = "lower"
    TITLE = "title"
    REPLACE = "replace"
    PAD = "pad"
    PART = "part"
    ONLY_DIGITS = "only-digits"
    NO_PUNCTUATION = "no-punctuation"


WORDS = {
    How.TRIM: "outer spaces off",
    How.SQUEEZE: "one space between words",
    How.UPPER: "in capitals",
    How.LOWER: "in small letters",
    How.TITLE: "each word with a capital",
    How.REPLACE: "replace …",
    How.PAD: "fill up on the left …",
    How.PART: "keep one part …",
    How.ONLY_DIGITS: "digits only",
    How.NO_PUNCTUATION: "without punctuation",
}


class Action(msgspec.Struct, frozen=True):
    """One thing that is done.

    what: the text to be replaced, the character to fill up with, or what the parts are divided by.  by: what
    replaces it.  number: the width to fill up to, or which part is kept: from 1, from the end where below 0.
    """

    how: How
    what: str = ""
    by: str = ""
    number: int = 0

    def __str__(self) -> str:
        if self.how is How.REPLACE:
            return f"“{self.what}” replaced by “{self.by}”"
        if self.how is How.PAD:
            return f"filled up on the left with “{self.what}” to {self.number} characters"
        if self.how is How.PART:
            which = f"part {self.number}" if self.number > 0 else f"part {-self.number} from the end"
            return f"{which} of those that “{self.what}” divides"
        return WORDS[self.how]

    def check(self) -> None:
        """Raise UsageError unless it can be done, with all that is said of it."""
        if self.how in (How.REPLACE, How.PART) and not self.what:
            raise UsageError(f"“{WORDS[self.how]}” needs a text.", remedy="Say which.")
        if self.how is How.PAD and (len(self.what) != 1 or not 0 < self.number <= 1_000):
            raise UsageError("Filling up needs one character, and a width of at most 1,000.")
        if self.how is How.PART and not 0 < abs(self.number) <= _MOST_PARTS:
            raise UsageError(f"Parts are counted from 1, or from -1 at the end, up to {_MOST_PARTS:,}.")
        unread = [
            name for name in ("what", "by", "number") if getattr(self, name) and name not in _READ[self.how]
        ]
        if unread:
            raise UsageError(
                f"“{WORDS[self.how]}” does not use {' and '.join(unread)}.",
                remedy="Take it out of its settings.",
            )

    def done_to(self, values: pa.Array) -> pa.Array:
        """The text with it done; empty text becomes blank."""
        found = _DOING[self.how](self, values)
        return pc.if_else(pc.equal(found, ""), pa.scalar(None, found.type), found)


_MOST_PARTS = 10_000
# What each kind of action is told; the others need not be told anything.
_READ: dict[How, tuple[str, ...]] = dict.fromkeys(How, ()) | {
    How.REPLACE: ("what", "by"),
    How.PAD: ("what", "number"),
    How.PART: ("what", "number"),
}
_DOING: dict[How, Callable[[Action, pa.Array], pa.Array]] = {
    How.TRIM: lambda _, values: pc.utf8_trim(values, characters=WHITE_SPACE),
    How.SQUEEZE: lambda _, values: pc.replace_substring_regex(values, _SPACES, " "),
    How.UPPER: lambda _, values: pc.utf8_upper(values),
    How.LOWER: lambda _, values: pc.utf8_lower(values),
    How.TITLE: lambda _, values: pc.utf8_title(values),
    How.REPLACE: lambda action, values: replaced(values, action.what, action.by),
    How.PAD: lambda action, values: pc.utf8_lpad(values, action.number, padding=action.what),
    How.PART: lambda action, values: part_of(values, action.what, action.number),
    How.ONLY_DIGITS: lambda _, values: pc.replace_substring_regex(values, r"[^0-9]+", ""),
    How.NO_PUNCTUATION: lambda _, values: pc.replace_substring_regex(values, r"\p{P}+", ""),
}


def part_of(values: pa.Array, between: str, number: int) -> pa.Array:
    """One of the parts that `between` divides texts into, from 1, or from -1 at the end; blank for none."""
    parts = pc.split_pattern(values, pattern=between)
    lengths = pc.list_value_length(parts)
    wanted = number - 1 if number > 0 else number
    place = pc.add(lengths, wanted) if wanted < 0 else pa.array([wanted] * len(values), lengths.type)
    there = pc.and_(pc.greater_equal(place, 0), pc.less(place, lengths))
    starts = parts.offsets.slice(0, len(values))
    at = pc.if_else(there, pc.add(starts, pc.cast(place, starts.type)), pa.scalar(None, starts.type))
    return parts.values.take(at).cast(values.type)


def check_mended(fields: Sequence[Field], names: Sequence[str], actions: Sequence[Action]) -> None:
    """Raise UsageError unless all of the names are texts, and all that is done to them can be."""
    check_texts(fields, names)
    for action in actions:
        action.check()


def check_texts(fields: Sequence[Field], names: Sequence[str]) -> None:
    """UsageError unless all of these are fields of text, or without values."""
    for name in names:
        field = find_field(fields, name)
        if field.type is not FieldType.TEXT and not field.untyped:
            raise UsageError(
                f"{name} is {field.type.value}, and no text.",
                remedy="Choose other fields, or make it text first.",
            )


def mended(table: Table, names: Sequence[str], actions: Sequence[Action], task: Task) -> DerivedTable:
    """The table with actions done to texts, one after the other; counted are the cells that changed."""
    check_mended(table.fields, names, actions)
    work = partial(done_to_all, actions=actions)
    made = {name: Derived.from_values(name, work) for name in names}
    return _counted(table, made, task, "mending")


def done_to_all(values: pa.Array, actions: Sequence[Action]) -> pa.Array:
    """N texts with actions done to them, one after the other."""
    for action in actions if values.null_count < len(values) else ():
        values = action.done_to(values)
    return values


def corrected(
    table: Table, names: Sequence[str], pairs: Sequence[tuple[str, str]], task: Task
) -> DerivedTable:
    """The table with each text that is written as X read as Y; counted are the cells that changed."""
    check_texts(table.fields, names)
    work = partial(read_otherwise, pairs=pairs)
    made = {name: Derived.from_values(name, work) for name in names}
    return _counted(table, made, task, "correcting")


def read_otherwise(values: pa.Array, pairs: Sequence[tuple[str, str]]) -> pa.Array:
    """N texts, each that is written as X read as Y; an empty Y is blank."""
    if values.null_count == len(values):
        return values
    right = pa.array([other or None for _, other in pairs], _TEXT)
    found = pc.index_in(values, value_set=pa.array([one for one, _ in pairs], _TEXT))
    return pc.if_else(found.is_valid(), right.take(found), values)


def _counted(table: Table, made: dict[str, Derived], task: Task, what: str) -> DerivedTable:
    found = DerivedTable(table, table.fields, made)
    for name in made:
        changed = 0
        for part in row_batches(table, task, f"{what} {name}"):
            before, after = (side.take(part, [name])[0].values for side in (table, found))
            same = pc.or_(
                pc.fill_null(pc.equal(before, after), False), pc.and_(before.is_null(), after.is_null())
            )
            changed += pc.sum(pc.invert(same)).as_py() or 0
        found.counts[name] = changed
    return found


# --- new fields of texts ---


def split_fields(fields: Sequence[Field], of: str, between: str, into: Sequence[str]) -> tuple[Field, ...]:
    """The fields with the parts of one behind it. UsageError where that cannot be."""
    if not of:
        raise UsageError("It is not said which text is split.", remedy="Choose one.")
    field = find_field(fields, of)
    check_texts(fields, [of])
    if not between:
        raise UsageError("It is not said what divides the parts.", remedy="Give a character or a word.")
    if not into:
        raise UsageError("The parts have no names.", remedy="Name the fields that they become.")
    check_new(fields, into)
    place = [entry.name for entry in fields].index(of) + 1
    parts = tuple(Field(name, _TEXT, field.origin, field.table) for name in into)
    return (*fields[:place], *parts, *fields[place:])


def split(table: Table, of: str, between: str, into: Sequence[str]) -> DerivedTable:
    """The table with one text divided into new fields; the last has the rest of it."""
    fields = split_fields(table.fields, of, between, into)
    part = partial(part_of_split, between=between, count=len(into))
    made = {
        name: Derived.from_values(of, partial(part, number=number)) for number, name in enumerate(into, 1)
    }
    return DerivedTable(table, fields, made)


def part_of_split(values: pa.Array, between: str, number: int, count: int) -> pa.Array:
    """Of N texts that are divided into so many parts one, from 1; the last has the rest, blank for none."""
    if values.null_count == len(values):
        return pa.nulls(len(values), _TEXT)
    if number < count:
        return part_of(values, between, number)
    # What is left after so many dividing signs.
    parts = pc.split_pattern(values, pattern=between, max_splits=number - 1)
    there = pc.greater_equal(pc.list_value_length(parts), number)
    last = pc.subtract(parts.offsets.slice(1, len(values)), pa.scalar(1, parts.offsets.type))
    return parts.values.take(pc.if_else(there, last, pa.scalar(None, last.type))).cast(values.type)


def combined_fields(fields: Sequence[Field], of: Sequence[str], into: str) -> tuple[Field, ...]:
    """The fields with one that is combined of several at the end. UsageError where that cannot be."""
    if not of:
        raise UsageError("No fields are chosen that could be combined.", remedy="Choose two or more.")
    for name in of:
        find_field(fields, name)
    check_new(fields, [into])
    return (*fields, Field(into, _TEXT))


def combined(table: Table, of: Sequence[str], between: str, into: str) -> DerivedTable:
    """The table with several fields written one after the other; blanks are left out."""
    fields = combined_fields(table.fields, of, into)

    def make(_: int, cells: Sequence[Cells]) -> Cells:
        texts = [as_text(cell.values) for cell in cells]
        found = texts[0]
        for text in texts[1:]:
            both = joined(found, text, between)
            found = pc.coalesce(both, found, text)
        return Cells(pc.if_else(pc.equal(found, ""), pa.scalar(None, _TEXT), found))

    return DerivedTable(table, fields, {into: Derived(tuple(of), make)})


def check_new(fields: Sequence[Field], names: Sequence[str]) -> None:
    """UsageError unless fields can be added under these names."""
    known = {field.name for field in fields}
    for name in names:
        if not name.strip():
            raise UsageError("A new field has no name.", remedy="Give it one.")
        if name in known:
            raise UsageError(f"There is a field “{name}” already.", remedy="Choose another name.")
        known.add(name)
