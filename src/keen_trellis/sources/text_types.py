"""Finds the type of a field of text from all of its values, block by block, and says what was doubtful."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import (
    DECIMALS,
    INTEGERS,
    ISO_DATES,
    ISO_TIMESTAMPS,
    PLACEHOLDERS,
    WAYS,
    Notation,
    Way,
    agrees,
    fits,
    narrowed,
)
from keen_trellis.core.values import ARROW_TYPES, FieldType, held_as, one_array, type_of_arrow
from keen_trellis.flow.remark import Place, Remark
from keen_trellis.sources.text_blocks import MOST_AT_ONCE, AtOnce

_LEADING_ZEROS = r"^0\d+$"
_DIGITS = r"^\d+$"
_MOSTLY = 0.5
_SAMPLED = 400
MOST_PLACES = 20
_TEXT = ARROW_TYPES[FieldType.TEXT]
_DECIMAL = ARROW_TYPES[FieldType.DECIMAL]


def no_values(name: str) -> Remark:
    """What is said of a field without any value."""
    return Remark("has no values, so that it has no type yet: it takes that of whatever it meets", field=name)


class TextField:
    """The type of one field of text. Begins with a sample's likeliest, and gives way where values do not fit.

    take: hands in a block and gets it converted, or None where an earlier guess was wrong: then all blocks
    must be handed in once more. adopt, give_up_if_open: at the end, for what stayed open until then.
    """

    def __init__(self, name: str, notation: Notation, *, kept_as_text: bool = False) -> None:
        self.name = name
        self.notation = notation
        self.type_is_known = False
        self.open_between: tuple[Way, Way] | None = None
        self._kept = kept_as_text
        self._way: Way | None = None
        self._out: set[str] = set()
        self._evidence: list[pa.Array] = []
        self._scale = 0
        self._no_number = self._open_said = self._marks = self._long = False
        self._look_alike = ""
        self._adopted = ""
        self.begin_again()

    def begin_again(self) -> None:
        """Forget the blocks that were handed in, not what was learned from them."""
        self._filled = self._whole = 0
        self._blank_words: dict[str, int] = {}

    @property
    def arrow_type(self) -> pa.DataType:
        """What converted blocks are held as."""
        if self._way is None:
            return ARROW_TYPES[FieldType.TEXT]
        return (
            pa.decimal128(38, self._scale)
            if self._way.type is FieldType.DECIMAL
            else ARROW_TYPES[self._way.type]
        )

    @property
    def way(self) -> Way | None:
        """How the values are written, None for text."""
        return self._way

    @property
    def wanted(self) -> AtOnce:
        """How a block may be handed in at once."""
        way = self._way
        if way is None or way.quick is None or self.notation.blanks is not None or self.open_between:
            return AtOnce()
        plain = way in (INTEGERS, ISO_DATES) and not self._long
        return AtOnce(self.arrow_type if plain else None, way.quick)

    def has_work(self, values: pa.Array) -> bool:
        """Whether a block that is handed in has to be changed, or its type to be found."""
        stays = self.type_is_known and self._way is None and self.notation.blanks is None
        return values.type == _TEXT and not stays

    def take(self, values: pa.Array) -> pa.Array | None:
        """A block of text (null: blank) in the field's type, or None if the type has to change. A block may
        have come as it was `wanted` when it was read.
        """
        if values.type != _TEXT:
            self._filled += len(values) - values.null_count
            is_such = self._way is not None and type_of_arrow(values.type) is self._way.type
            typed = self._held(values) if is_such else None
            if typed is None:
                self._choose()
            return typed
        if self.notation.blanks is not None:
            values = _without(values, self.notation.blanks)
        filled = len(values) - values.null_count
        self._filled += filled
        if not self.type_is_known and filled:
            sample = _sample(values)
            # Nothing but words for blank is not enough to go by: later blocks tell.
            self.type_is_known = not pc.all(pc.is_in(sample, self._placeholder_set)).as_py()
            self._learn(sample)
        if self._way is None:
            return values
        typed = self._typed(values, filled)
        if typed is None:
            self._choose()
        return typed

    def _learn(self, values: pa.Array) -> None:
        self._evidence.append(values)
        self._choose()

    def _typed(self, values: pa.Array, filled: int) -> pa.Array | None:
        """The block converted, or None after what it shows was learned."""
        way = self._way
        assert way is not None
        made = way.quickly(values)
        blanks: dict[str, int] = {}
        if made is None:
            values, blanks = self._without_placeholders(values, way, filled)
            if values is None:
                return None
        if self.open_between is not None:
            twin = self.open_between[1]
            if not _all_fit(values, twin):
                self._out.add(twin.what)
                self.open_between = None
            elif not self._marks:
                self._marks = _tells_apart(way, values)
        try:
            made = way.convert(values) if made is None else made
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            self._rule_out(way)
            return None
        made = self._held(made)
        for word, count in blanks.items() if made is not None else ():
            self._blank_words[word] = self._blank_words.get(word, 0) + count
        return made

    def _held(self, made: pa.Array) -> pa.Array | None:
        """Converted values as the field's are held, or None where that has to change first."""
        assert self._way is not None
        if self._way is INTEGERS:
            self._long = self._long or (pc.max(made).as_py() or 0) >= MOST_AT_ONCE
        if self._way.type is not FieldType.DECIMAL:
            return made
        whole, scale = made.type.precision - made.type.scale, made.type.scale
        if scale > self._scale:
            self._scale = scale
            return None
        if max(whole, self._whole) + self._scale > _DECIMAL.precision:
            self._rule_out(self._way)
            return None
        self._whole = max(whole, self._whole)
        same = made.type.scale == self._scale
        return narrowed(made, _DECIMAL.precision) if same else held_as(made, self.arrow_type)

    def _rule_out(self, way: Way) -> None:
        """Note that values look like it and are not: a 30 February, more digits than a number has here."""
        self._out.add(way.what)
        self._look_alike = way.what
        self._no_number = self._no_number or way.type.is_number

    def _without_placeholders(
        self, values: pa.Array, way: Way, filled: int
    ) -> tuple[pa.Array | None, dict[str, int]]:
        """The values with words for "nothing known" made blank; None if others do not fit."""
        fitting = fits(values, way)
        if (pc.sum(fitting).as_py() or 0) == filled:
            return values, {}
        odd = values.filter(pc.invert(fitting))
        words = odd.dictionary_encode()
        strangers = [word for word in words.dictionary.to_pylist() if word not in self._placeholders]
        if strangers:
            self._out.add(way.what)
            self._evidence.append(odd.filter(pc.invert(pc.is_in(odd, self._placeholder_set)))[:_SAMPLED])
            return None, {}
        counts = np.bincount(words.indices.to_numpy(zero_copy_only=False), minlength=len(words.dictionary))
        found = dict(zip(words.dictionary.to_pylist(), counts.tolist(), strict=True))
        return pc.if_else(fitting, values, pa.scalar(None, values.type)), found

    @property
    def _placeholders(self) -> tuple[str, ...]:
        return PLACEHOLDERS if self.notation.blanks is None else ()

    @property
    def _placeholder_set(self) -> pa.Array:
        return pa.array(self._placeholders, pa.large_string())

    def _choose(self) -> None:
        """The first way that nothing seen so far rules out; text if there is none."""
        self._way, self.open_between = None, None
        if self._kept or self._open_said:
            return
        seen = pa.concat_arrays(self._evidence)
        seen = seen.filter(pc.invert(pc.is_in(seen, self._placeholder_set)))
        if not len(seen):
            # Nothing but words for blank: not enough to go by.
            return
        for number, way in enumerate(WAYS):
            if not self._possible(way, seen):
                continue
            self._way = way
            twin = next((other for other in WAYS[number + 1 :] if other.is_twin_of(way)), None)
            if twin is not None and self._possible(twin, seen):
                self.open_between = way, twin
            return

    def _possible(self, way: Way, seen: pa.Array) -> bool:
        if way.what in self._out or not agrees(way, self.notation):
            return False
        if self._no_number and way.type.is_number:
            return False
        return _all_fit(seen, way)

    def adopt(self, notation: Notation, source: str) -> bool:
        """Take what another field (`source`) shows a mark to mean; whether that makes another way of it."""
        if self.open_between is None:
            return False
        way, twin = self.open_between
        if agrees(way, notation) and agrees(twin, notation):
            return False
        self.open_between, self._adopted = None, source
        if agrees(way, notation):
            self._out.add(twin.what)
            return False
        self._out.add(way.what)
        self._choose()
        return True

    def give_up_if_open(self) -> bool:
        """Become text if it stayed open what the values mean; whether that is so."""
        if self.open_between is None or not self._marks:
            return False
        self._open_said = True
        self._look_alike = self.open_between[0].what
        self._choose()
        return True

    # --- afterwards ---

    @property
    def digits(self) -> int:
        """How many digits a field of decimals needs, 0 for any other."""
        if self._way is None or self._way.type is not FieldType.DECIMAL:
            return 0
        return max(self._whole + self._scale, 1)

    def remarks(self, column: pa.ChunkedArray, places: RowNumbers) -> list[Remark]:
        """What is to be said about the field, whose values are `column` now."""
        if not self._filled:
            return [no_values(self.name)]
        said = []
        if self._blank_words:
            words = ", ".join(f"{count:,} “{word}”" for word, count in sorted(self._blank_words.items()))
            said.append(Remark(f"{words} counted as blank", field=self.name))
        if self._way is not None:
            if self._adopted:
                said.append(Remark(f"{self._way.what}: read as “{self._adopted}” has to be", field=self.name))
            elif self._way.notation != Notation():
                said.append(Remark(f"{self._way.what}; read as {self._way.type.value}", field=self.name))
            return said
        if self._kept:
            return said
        return said + self._text_remarks(column, places)

    def _text_remarks(self, column: pa.ChunkedArray, places: RowNumbers) -> list[Remark]:
        if self._open_said:
            what = "day and month" if "dates" in self._look_alike else "marks of decimals and thousands"
            kind = "dates" if "dates" in self._look_alike else "numbers"
            return [
                Remark(f"{kind}, but {what} cannot be distinguished; read as text", self.name, doubtful=True)
            ]
        if _mostly_matching(_sample(column), _DIGITS) and _matching(column, _LEADING_ZEROS):
            if _matching(column, _DIGITS) == self._filled:
                return [Remark("digits with leading zeros; kept as text", field=self.name)]
            return []
        if self._look_alike:
            said = f"they look like {self._look_alike}, but not all are; read as text"
            return [Remark(said, field=self.name, doubtful=True)]
        return _mostly_something(column, self.name, self._filled, places)


class RowNumbers:
    """The numbers that the rows of a column have in their file: one each, or the first of those that
    follow.
    """

    def __init__(self, numbers: np.ndarray | int) -> None:
        self._numbers = numbers

    def of(self, row: int) -> int:
        """The number of row `row` in its file."""
        return self._numbers + row if isinstance(self._numbers, int) else int(self._numbers[row])


def text_doubts(column: pa.Array | pa.ChunkedArray, name: str) -> list[Remark]:
    """What a field of text cells seems to hold instead of text: a sheet's numbers kept as text."""
    filled = len(column) - column.null_count
    sample = _sample(column)
    if _matching(sample, _LEADING_ZEROS):
        return []
    for way in (INTEGERS, DECIMALS, *WAYS[-6:]):
        if filled and _mostly_matching(sample, way.expression):
            fitting = _matching(column, way.expression)
            if fitting == filled:
                return [Remark(f"holds {way.what} as text", field=name, doubtful=True)]
    return []


def moments_in_text(values: pa.ChunkedArray) -> pa.ChunkedArray:
    """Text whose values are all ISO dates or timestamps as such; any other text as it is."""
    filled = len(values) - values.null_count
    for way in (ISO_DATES, ISO_TIMESTAMPS):
        if filled and _matching(values, way.expression) == filled:
            try:
                typed = [way.convert(chunk) for chunk in values.chunks]
            except pa.ArrowInvalid:
                return values
            return pa.chunked_array(typed, ARROW_TYPES[way.type])
    return values


def misfits(
    column: pa.Array | pa.ChunkedArray, odd: pa.Array | pa.ChunkedArray, places: RowNumbers
) -> tuple[Place, ...]:
    """The first cells of `column` for which `odd` is true, with their places."""
    rows = pc.indices_nonzero(pc.fill_null(odd, False))[:MOST_PLACES].to_pylist()
    return tuple(Place(places.of(row), str(column[row].as_py())) for row in rows)


def _mostly_something(column: pa.ChunkedArray, name: str, filled: int, places: RowNumbers) -> list[Remark]:
    """Whether more than half of the values are of another type than text; the others are named."""
    sample = _sample(column)
    best: tuple[int, Way] | None = None
    for way in WAYS:
        if not _mostly_matching(sample, way.expression):
            continue
        fitting = _matching(column, way.expression)
        if best is None or fitting > best[0]:
            best = fitting, way
    if best is None or best[0] <= _MOSTLY * filled:
        return []
    fitting, way = best
    odd = misfits(column, pc.invert(fits(column, way)), places)
    if not odd:
        return [Remark(f"holds {way.what} as text", field=name, doubtful=True)]
    return [
        Remark(
            f"{fitting:,} of {filled:,} values are {way.what}, but “{odd[0].value}” "
            f"(row {odd[0].row:,}) is not; read as text",
            field=name,
            doubtful=True,
            places=odd,
        )
    ]


def _sample(values: pa.Array | pa.ChunkedArray) -> pa.Array:
    """Some of the filled values, spread over all: what these do not look like, all do not."""
    rows = np.unique(np.linspace(0, len(values) - 1, min(_SAMPLED, len(values))).astype(np.int64))
    chunks = values.chunks if isinstance(values, pa.ChunkedArray) else [values]
    first, parts = 0, []
    for chunk in chunks:
        # Chunk by chunk: a take from all of them would copy them into one.
        parts.append(chunk.take(pa.array(rows[(rows >= first) & (rows < first + len(chunk))] - first)))
        first += len(chunk)
    found = pa.chunked_array(parts, values.type).drop_null()
    return one_array(found if len(found) else values.drop_null()[:_SAMPLED])


def _without(values: pa.Array, words: Sequence[str]) -> pa.Array:
    known = pc.is_in(values, value_set=pa.array(words, values.type))
    return pc.if_else(known, pa.scalar(None, values.type), values)


def _mostly_matching(sample: pa.Array, expression: str) -> bool:
    return len(sample) > 0 and _matching(sample, expression) >= _MOSTLY * len(sample)


def _matching(values: pa.Array | pa.ChunkedArray, expression: str) -> int:
    return pc.sum(pc.match_substring_regex(values, expression)).as_py() or 0


def _all_fit(values: pa.Array, way: Way) -> bool:
    return bool(_matching(values, way.expression) == len(values) - values.null_count)


def _tells_apart(way: Way, values: pa.Array) -> bool:
    """Whether the values come out differently when they are taken for a way's twin."""
    return bool(way.notation.dates) or _matching(values, "[.,]") > 0
