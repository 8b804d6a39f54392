"""Finds out how a text file is written: its encoding, delimiter, quotation marks and comments."""

from __future__ import annotations

import codecs
import csv
import io
import itertools
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import NO_COMMENT, NO_QUOTE, Dialect
from keen_trellis.sources.content import looked_at, of_blocks
from keen_trellis.sources.recognise import UTF8_MARKED, encoding_of

DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "vertical bar"}
UTF8 = ("utf-8", UTF8_MARKED)
COMMENTS = ("#", "//", "--", "%")
SAMPLE = 256 * 1024
_BLOCK = 4 * 2**20
_ALIKE = 0.8  # of the lines have as many cells: then it is the delimiter
LONGEST_CELL = 2**24
# Ways to write text that no file is written in.
_NO_CHARSETS = {"idna", "punycode", "raw_unicode_escape", "undefined", "unicode_escape", "mbcs", "oem"}


class TextDialect(msgspec.Struct, frozen=True):
    """How a text file is written, with nothing left open. quote, comment: "" for none.  is_guess: there is no
    delimiter that makes most of its lines alike.
    """

    encoding: str
    delimiter: str
    quote: str
    comment: str = ""
    is_guess: bool = False


class Encoding(msgspec.Struct, frozen=True):
    """What a text file is written in. marks_inside: whether marks of byte order stand amid it, as they do
    where files were put one behind the other.
    """

    name: str
    remarks: tuple[Remark, ...] = ()
    marks_inside: bool = False


def settle_encoding(path: Path, wanted: str, task: Task) -> Encoding:
    """The encoding to read a file with: the one that is wanted, or else that which is detected."""
    if not wanted:
        return detect_encoding(path, task)
    try:
        found = codecs.lookup(wanted)
        if not found._is_text_encoding or found.name.replace("-", "_") in _NO_CHARSETS:
            raise LookupError
    except (LookupError, ValueError):
        raise SourceError(
            f"There is no encoding “{visible(cut(wanted, 40))}”.",
            where=str(path),
            remedy="Write it like utf-8 or cp1252.",
        ) from None
    if found.name not in UTF8:
        return Encoding(found.name)
    marks, around = _marks_of_utf8(path, task)
    if around is not None:
        raise not_written_in(wanted, path)
    with path.open("rb") as file:
        is_marked = file.read(len(codecs.BOM_UTF8)) == codecs.BOM_UTF8
    return _of_utf8(found.name, marks > is_marked, [])


def not_written_in(encoding: str, path: Path, said: str = "some bytes are not valid in it") -> SourceError:
    """The error for a file that is not written in the encoding that was chosen for it."""
    return SourceError(
        f"It is not written in {encoding}: {said}.", where=str(path), remedy="Choose another encoding."
    )


def detect_encoding(path: Path, task: Task) -> Encoding:
    """The encoding of the whole file: by its mark, UTF-8 if all of it is, or else the likeliest one."""
    with path.open("rb") as file:
        head = file.read(SAMPLE)
    found = encoding_of(head)
    if found not in ("", UTF8_MARKED):
        return Encoding(found)
    looked = looked_at(path, task)
    said = []
    if looked.has_zeros:
        nothing = sum(of_blocks(path, lambda pieces: sum(piece.count(0) for piece in pieces), task))
        text = "1 character is none" if nothing == 1 else f"{nothing:,} characters are none"
        said.append(Remark(f"{text} (NUL): it may be damaged", doubtful=True))
    if looked.is_ascii:
        return Encoding("utf-8", tuple(said))
    marks, around = _marks_of_utf8(path, task)
    if around is None:
        return _of_utf8(found or "utf-8", marks > (found == UTF8_MARKED), said)
    from charset_normalizer import from_bytes

    guess = from_bytes(
        head + around[:SAMPLE] if around[:1024] not in head else head + around[-SAMPLE:]
    ).best()
    if guess is None:
        raise SourceError(
            "Its encoding cannot be found out; it is not UTF-8.",
            where=str(path),
            remedy="Say which it is, or save it as UTF-8 text.",
        )
    said.append(Remark(f"it is not UTF-8; read as {guess.encoding}", doubtful=True))
    return Encoding(guess.encoding, tuple(said))


def _of_utf8(name: str, marks_inside: bool, said: Sequence[Remark]) -> Encoding:
    amid = (
        [Remark("marks of byte order are in the middle of it; they were left out of its cells")]
        if marks_inside
        else []
    )
    return Encoding(name, (*said, *amid), marks_inside)


def _marks_of_utf8(path: Path, task: Task) -> tuple[int, bytes | None]:
    """How many marks of byte order a file has, and None if all of it is UTF-8; else what stands where it is
    not.
    """
    decoder = codecs.getincrementaldecoder("utf-8")()
    position, marks, last = 0, 0, b""
    with path.open("rb") as file:
        try:
            while block := file.read(_BLOCK):
                task.checkpoint(0, 0, f"reading {path.name}")
                if not block.isascii() or decoder.getstate()[0]:
                    decoder.decode(block)
                marks += (last + block).count(codecs.BOM_UTF8)
                position, last = position + len(block), block[1 - len(codecs.BOM_UTF8) :]
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            file.seek(max(0, position - SAMPLE))
            return marks, file.read(2 * _BLOCK)
    return marks, None


def settle_dialect(sample: str, encoding: str, wanted: Dialect, *, whole: bool = False) -> TextDialect:
    """Delimiter, quotation mark and comments: as wanted, or those that make most rows of the sample alike."""
    quote = wanted.quote
    if not quote:
        quote = "'" if _quoted_by(sample, "'") > 2 * _quoted_by(sample, '"') else '"'
    quote = "" if quote == NO_QUOTE else quote
    if not whole:
        sample = sample[: sample.rfind("\n") + 1] or sample

    def fitness(delimiter: str) -> tuple[float, int]:
        settled = TextDialect(encoding, delimiter, quote)
        widths = [len(row) for row in itertools.islice(records(io.StringIO(sample, ""), settled), 500) if row]
        if not widths:
            return 0.0, 0
        usual = max(set(widths), key=widths.count)
        return (widths.count(usual) / len(widths) if usual > 1 else 0.0), usual

    delimiter = wanted.delimiter or max(DELIMITERS, key=fitness)
    settled = TextDialect(encoding, delimiter, quote)
    comment = wanted.comment or _comment(sample, settled)
    is_guess = not wanted.delimiter and fitness(delimiter)[0] < _ALIKE
    return TextDialect(encoding, delimiter, quote, "" if comment == NO_COMMENT else comment, is_guess)


def _quoted_by(sample: str, quote: str) -> int:
    return sum(sample.count(f"{before}{quote}") for before in (*DELIMITERS, "\n")) + sample.startswith(quote)


def _comment(sample: str, settled: TextDialect) -> str:
    """What comment lines begin with: lines that begin so are not as wide as the others are."""
    lines = list(itertools.islice(sample.splitlines(), 500))
    for mark in COMMENTS:
        marked = [line for line in lines if line.startswith(mark)]
        others = [line for line in lines if line and not line.startswith(mark)]
        if not marked or not others or not (lines[0].startswith(mark) or len(marked) > 1):
            continue
        widths = [len(row) for row in records(iter(others), settled) if row]
        usual = max(set(widths), key=widths.count)
        if all(len(row) != usual or usual == 1 for row in records(iter(marked), settled)):
            return mark
    return ""


def records(lines: Iterable[str], settled: TextDialect, *, strict: bool = False) -> Iterator[list[str]]:
    """The rows of cells in some lines; csv.Error where quotation marks are not as they should be."""
    csv.field_size_limit(LONGEST_CELL)
    if not settled.quote:
        return csv.reader(lines, delimiter=settled.delimiter, quoting=csv.QUOTE_NONE)
    return csv.reader(lines, delimiter=settled.delimiter, quotechar=settled.quote, strict=strict)
