"""The sentence of a table in the margin that no rail begins at."""

from __future__ import annotations

from pathlib import Path

from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.remarks import leave_items, remark_items
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.patterns import shown_name
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


class StumpSentence:
    """loans of registry.sqlite has 368 rows and 9 fields; it is not used yet. [start a rail]."""

    def __init__(self, session: Session, host: SentenceHost) -> None:
        self._session, self._host = session, host

    def items(self, selection: Selection) -> list[Item]:
        """The whole sentence."""
        outcome = self._session.selected_outcome()
        file = shown_name(selection.path)
        state = self._session.margin.files.get(selection.path)
        if state is not None and state.error is not None:
            told = Word(f"{file}: {state.error.what} {state.error.remedy}".strip(), alarm=True)
            again = Chip("try again", lambda _: self._session.compute_again(), "Again", doing=True)
            return [told, *leave_items(self._host, state.error), again]
        if not selection.table:
            return self._of_file(selection.path)
        name = f"{selection.table} of {file}" if selection.table != Path(file).stem else file
        items: list[Item] = [Word(name)]
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            if outcome.partial:
                items.append(Word(f"is being read; these are its first {table.rows:,} rows."))
            else:
                said = f"has {table.rows:,} rows and {len(table.fields)} fields; it is not used yet."
                items.append(Word(said))
                items += remark_items(self._host, outcome.remarks)
        elif outcome is not None and outcome.error is not None:
            return [*items, Word(f"cannot be read. {outcome.error.what} {outcome.error.remedy}", alarm=True)]
        else:
            items.append(Word("is being read."))
        begin = Chip(
            "start a rail",
            lambda _: editing.begin_rail(self._session, selection),
            "Stump",
            doing=True,
        )
        return [*items, begin, Word("or drag it onto a rail to join the two.")]

    def _of_file(self, path: str) -> list[Item]:
        """registry.sqlite: 2 of its tables are not used. [list them]."""
        margin, file = self._session.margin, shown_name(path)
        unused, listed = margin.unused(path), margin.listed(path)
        if not unused:
            return [Word(f"{file}.")]
        one = len(unused) == 1
        said = f"{file}: {len(unused)} of its tables {'is' if one else 'are'} not used."
        does = "fold away" if len(listed) == len(unused) else "list it" if one else "list them"
        return [Word(said), Chip(does, lambda _: margin.list_or_fold(path), "Tables", doing=True)]
