"""Reads many damaged files of one kind: `python -m tests.sources.damage KIND COUNT SEED`.

Every file must be read, with all of its rows where its kind has what tells, or be refused with an error of
ours, within seconds and a bounded memory. Runs as a process of its own, so that a crash or a hang of a reader
library is seen as what it is. Prints what was wrong, or nothing.
"""

import io
import json
import os
import random
import resource
import signal
import sqlite3
import sys
import tempfile
import traceback
from collections.abc import Callable
from pathlib import Path

MOST_MEMORY = 4 * 2**30
_SECONDS = 10
_ROWS_OF_SQLITE = {"t": 300, "u": 0}
_APART = ("xlsx", "xlsb", "xls", "ods", "parquet", "arrow", "json", "xml")


def _text() -> bytes:
    rows = [f'L-{n},"LCM.{n:05d}",{n * 1.5},2026-01-{1 + n % 28:02d}' for n in range(60)]
    return ("loan,object,cost,day\n" + "\n".join(rows) + "\n").encode()


def _lines() -> bytes:
    return "\n".join(json.dumps({"n": n, "name": f"text {n}", "in": [n]}) for n in range(50)).encode()


def _json() -> bytes:
    rows = [{"n": n, "name": f"text {n}", "in": [{"m": m} for m in range(n % 3)]} for n in range(50)]
    return json.dumps({"made": "2026-01-02", "rows": rows}).encode()


def _xml() -> bytes:
    rows = [f'<row n="{n}"><name>text {n}</name>{"<m>1</m>" * (n % 3)}</row>' for n in range(50)]
    return f'<?xml version="1.0"?>\n<rows>{"".join(rows)}</rows>'.encode()


def _sqlite() -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "b.sqlite"
        base = sqlite3.connect(path)
        base.execute("CREATE TABLE t (n INTEGER PRIMARY KEY, name TEXT REFERENCES u (x), day DATE)")
        base.execute("CREATE TABLE u (x TEXT PRIMARY KEY)")
        base.executemany("INSERT INTO t VALUES (?, ?, '2026-01-02')", [(n, f"text {n}") for n in range(300)])
        base.commit()
        base.close()
        return path.read_bytes()


def _table():
    import pyarrow as pa

    return pa.table(
        {"n": list(range(80)), "name": [f"text {n}" for n in range(80)], "r": [n / 7 for n in range(80)]}
    )


def _parquet() -> bytes:
    from pyarrow import parquet

    target = io.BytesIO()
    parquet.write_table(_table(), target)
    return target.getvalue()


def _arrow() -> bytes:
    import pyarrow as pa

    target = io.BytesIO()
    data = _table()
    with pa.ipc.new_file(target, data.schema) as writer:
        writer.write_table(data)
    return target.getvalue()


def _xlsx() -> bytes:
    import xlsxwriter

    target = io.BytesIO()
    with xlsxwriter.Workbook(target) as book:
        page = book.add_worksheet("S")
        for row in range(60):
            page.write_row(row, 0, [f"text {row}", row, row * 1.5] if row else ["name", "n", "r"])
        page.merge_range("E1:F1", "merged")
        book.define_name("Name", "=S!$A$1:$B$5")
    return target.getvalue()


def _xlsb() -> bytes:
    from tests.sources.xlsb import write_xlsb

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "b.xlsb"
        write_xlsb(path, [("S", [["name", "n"], *([f"text {row}", row / 2] for row in range(60))])])
        return path.read_bytes()


def _xls() -> bytes:
    import xlwt

    target = io.BytesIO()
    book = xlwt.Workbook()
    page = book.add_sheet("S")
    for row in range(60):
        for column, value in enumerate([f"text {row}", row, row * 1.5] if row else ["name", "n", "r"]):
            page.write(row, column, value)
    book.save(target)
    return target.getvalue()


def _ods() -> bytes:
    from odf.opendocument import OpenDocumentSpreadsheet

    from keen_trellis.demo.files import _sheet

    book = OpenDocumentSpreadsheet()
    _sheet(book, "S", ("name", "n"), [(f"text {row}", row) for row in range(60)])
    target = io.BytesIO()
    book.write(target)
    return target.getvalue()


KINDS: dict[str, tuple[str, Callable[[], bytes]]] = {
    "text": ("t.csv", _text),
    "lines": ("t.jsonl", _lines),
    "json": ("t.json", _json),
    "xml": ("t.xml", _xml),
    "sqlite": ("t.sqlite", _sqlite),
    "parquet": ("t.parquet", _parquet),
    "arrow": ("t.arrow", _arrow),
    "xlsx": ("t.xlsx", _xlsx),
    "xlsb": ("t.xlsb", _xlsb),
    "xls": ("t.xls", _xls),
    "ods": ("t.ods", _ods),
}


def damaged(content: bytes, chance: random.Random) -> bytes:
    """The content with something wrong: bits, bytes, stretches, its end."""
    found = bytearray(content)
    for _ in range(chance.choice((1, 1, 2, 5, 20))):
        if not found:
            break
        place = chance.randrange(len(found))
        length = min(chance.choice((1, 1, 4, 64, 512)), len(found) - place)
        what = chance.randrange(6)
        if what == 0:
            found[place] ^= 1 << chance.randrange(8)
        elif what == 1:
            found[place : place + length] = chance.randbytes(length)
        elif what == 2:
            found[place : place + length] = bytes([chance.choice((0, 255, 34, 10))]) * length
        elif what == 3 and len(found) > 64:
            del found[place : place + length]
        elif what == 4:
            found[place:place] = found[place : place + length]
        elif len(found) > 64:
            del found[chance.randrange(32, len(found)) :]
    if content[:2] == b"PK" and chance.random() < 0.7:
        return _damaged_inside(content, chance)
    return bytes(found)


def _damaged_inside(content: bytes, chance: random.Random) -> bytes:
    """An archive that is whole, one of whose parts is damaged."""
    import zipfile

    target = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(content)) as source,
        zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as copy,
    ):
        names = source.namelist()
        chosen = chance.choice([name for name in names if source.getinfo(name).file_size > 40])
        for name in names:
            part = source.read(name)
            copy.writestr(name, damaged(part, chance) if name == chosen else part)
    return target.getvalue()


def _read_all(path: Path, cache: Path) -> None:
    from keen_trellis.core.task import Task
    from keen_trellis.sources.cache import Cache
    from keen_trellis.sources.library import Library
    from keen_trellis.sources.looking import look

    library = Library(Cache(cache))
    content = library.content(path)
    for table in content.tables[:3]:
        snapshot = library.get(content.settings(table.name), Task())
        look(snapshot.table, snapshot.remarks, Task())
        if content.reader == "sqlite":
            _check_rows(snapshot.table.rows, _ROWS_OF_SQLITE.get(table.name))


def _check_rows(rows: int, expected: int | None) -> None:
    """Fewer rows than were written are a loss that nobody announced."""
    if expected is not None and rows != expected:
        raise AssertionError(f"{rows} rows of {expected}, and no error")


def _read_apart(path: Path, cache: Path) -> None:
    """What a child process does, forked from this one, which has its libraries already."""
    from keen_trellis.sources.recognise import recognise

    recognise(path)
    # As the program does it: in a child, whose sudden end the parent tells as an error of ours; and which it
    # ends itself when it makes no progress.
    child = os.fork()
    if child:
        _, status = os.waitpid(child, 0)
        ends = (signal.SIGABRT, signal.SIGSEGV, signal.SIGALRM)
        if os.WIFSIGNALED(status) and os.WTERMSIG(status) not in ends:
            raise ChildProcessError(f"ended by signal {os.WTERMSIG(status)}")
        if os.WIFEXITED(status) and os.WEXITSTATUS(status) not in (0, 4):
            raise ChildProcessError(f"ended with {os.WEXITSTATUS(status)}")
        return
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    signal.alarm(_SECONDS)
    code = 1
    try:
        code = max(_in_child(path, cache))
        if not code:
            _check_whole(path, Path(f"{cache}.arrow"))
    except BaseException:
        code = 1
        traceback.print_exc(file=sys.stdout)
        sys.stdout.flush()
    finally:
        os._exit(code)


def _in_child(path: Path, cache: Path) -> list[int]:
    import msgspec

    from keen_trellis.flow.source_settings import SourceSettings
    from keen_trellis.sources import child, columns_process, document_process, workbook_process
    from keen_trellis.sources.recognise import recognise

    # The library prints where it panics.
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    if path.suffix in (".parquet", ".arrow"):
        return [child.serve(columns_process.answer, ["read", str(path), f"{cache}.arrow", "[]"])]
    reader = recognise(path).reader
    if reader in ("json", "xml"):
        codes = [child.serve(document_process.answer, [f"list-{reader}", str(path)])]
        tables = [] if codes[0] else document_process.answer(f"list-{reader}", str(path)).tables
        for entry in tables[:3]:
            settings = msgspec.json.encode(SourceSettings(reader, str(path), entry.name)).decode()
            words = [f"read-{reader}", str(path), settings, f"{cache}.arrow"]
            codes.append(child.serve(document_process.answer, words))
        return codes
    # What is damaged may ask for gigabytes, which takes seconds to be given.
    limit = child.memory_limit(str(path), path.stat().st_size)
    resource.setrlimit(resource.RLIMIT_DATA, (limit, limit))
    settings = msgspec.json.encode(SourceSettings("workbook", str(path))).decode()
    tasks = (["list", str(path)], ["further", str(path)], ["read", str(path), settings, f"{cache}.arrow"])
    return [child.serve(workbook_process.answer, words) for words in tasks]


def _check_whole(path: Path, rows: Path) -> None:
    """What was read without an error has all its rows, where its kind of file has what tells."""
    import zipfile

    import pyarrow as pa

    if path.suffix in (".parquet", ".arrow"):
        with pa.memory_map(str(rows)) as file:
            _check_rows(pa.ipc.open_file(file).read_all().num_rows, 80)
    elif zipfile.is_zipfile(path):
        with zipfile.ZipFile(path) as archive:
            if archive.testzip() is not None:
                raise AssertionError("its checksum is wrong, and no error")


def main(kind: str, count: int, seed: int) -> int:
    """Read that many damaged files; 0 if all were read or refused as they should be."""
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    from keen_trellis.core.errors import SourceError
    from keen_trellis.sources import child, workbook_process

    child.say = workbook_process.say = lambda message: None
    child.limit_memory = lambda: None  # set where a process is forked
    child.end_with_parent = lambda: None
    name, make = KINDS[kind]
    content = make()
    read = _read_apart if kind in _APART else _read_all
    if read is _read_apart:
        # Loaded once here, and not anew in every child.
        from lxml import etree  # noqa: F401
        from pyarrow import parquet  # noqa: F401

        from keen_trellis.sources import (  # noqa: F401
            blocks,
            columns_process,
            document_process,
            inference,
            integrity,
        )
    signal.signal(signal.SIGALRM, _too_long)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        for number in range(seed, seed + count):
            path.write_bytes(damaged(content, random.Random(number)))
            print(number, file=sys.stderr, flush=True)
            signal.alarm(2 * _SECONDS)
            try:
                read(path, Path(folder) / "cache")
            except SourceError:
                pass
            except BaseException:
                print(f"file {number} of kind {kind}:\n{traceback.format_exc()}", flush=True)
                return 1
            finally:
                signal.alarm(0)
    return 0


def _too_long(*_: object) -> None:
    raise TimeoutError(f"not done after {_SECONDS} s")


if __name__ == "__main__":
    # Only the warnings of libraries that a damaged file provokes; what is wrong is printed on standard
    # output.
    os.environ.setdefault("PYTHONWARNINGS", "ignore")
    sys.exit(main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3])))
