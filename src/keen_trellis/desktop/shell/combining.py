"""What lets rails meet: joins, blends, unions, comparisons and shared filters, each asked for first."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from keen_trellis.core.insight.proposal import percent
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.instead import Instead, blend_said, union_said
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.steps import KINDS
from keen_trellis.session import combining, filters
from keen_trellis.session.selection import Selection


class Combining:
    """Asks what a rail or table is to meet, and how."""

    def __init__(self, frame: Frame) -> None:
        self._frame = frame
        self._session = session = frame.session
        frame.trellis.join_wanted.connect(self.join)
        frame.trellis.tie_wanted.connect(lambda slat, source: self.tie(slat, source, ""))
        frame.bench.slat.tie_wanted.connect(lambda source, tie: self.tie(session.selection.slat, source, tie))
        frame.sentence.blend_wanted.connect(self.blend_dialog)

    def join(self, right: Selection, left: Selection) -> None:
        """Join `right` onto the rail `left`, and ask which question the join answers."""

        def asked(evidence: str) -> None:
            step = self._session.flow.step(self._session.selection.step)
            title = f"{evidence} Which question do you ask?"

            stack = partial(combining.stack, self._session, right, left)
            blend = partial(combining.blend, self._session, right, left)
            instead = (
                Instead("U", "union", union_said, stack, counts_rows=True),
                Instead("B", "blend", blend_said, blend),
            )
            self._frame.sentence.part_of(step).ask_question(step, title=title, instead=instead)

        combining.join(self._session, right, left, asked)

    def join_dialog(self) -> None:
        """Choose what is joined onto the selected rail, or onto which rail the selected stump is."""
        self._choose_other("Join {} with what?", "Join {} onto which rail?", self.join)

    def blend_dialog(self) -> None:
        """Choose what is blended into the selected rail, or into which rail the selected stump is."""
        self._choose_other("Blend {} with what?", "Blend {} into which rail?", self._blend)

    def _blend(self, other: Selection, main: Selection) -> None:
        combining.blend(self._session, other, main)

    def stack_dialog(self) -> None:
        """Choose what is put below the rows of the selected rail, or below which rail the selected stump."""
        self._choose_other("Put which rows below {}?", "Put {} below which rail?", self._stack)

    def beside_dialog(self) -> None:
        """Choose what is put next to the rows of the selected rail, or next to which rail the stump."""
        put = partial(combining.put_beside, self._session)
        self._choose_other("Put which rows next to {}?", "Put {} next to which rail?", put)

    def share_filter(self) -> None:
        """Choose the field that a shared filter is named by, then its values."""
        session = self._session

        def show(shapes: dict[str, InputShape]) -> None:
            choices = [
                Choice(
                    field.name,
                    field.name,
                    f"{field.type.value}, on {rails} {'rail' if rails == 1 else 'rails'}",
                )
                for field, rails in filters.fields_to_share(session.flow, shapes)
            ]
            if not choices:
                session.said.emit("There is no rail yet that could be filtered: begin one first.")
                return
            chooser = Chooser(choices, self._frame, title="A filter for all rails that have which field?")
            chooser.chosen.connect(lambda name: share(name, shapes))
            chooser.open_under(self._frame.sentence.view)

        def share(name: str, shapes: dict[str, InputShape]) -> None:
            id_ = filters.share(session, name, shapes)
            self._frame.sentence.slat.choose_values(id_, self._frame.sentence.view)

        filters.with_shapes(session, show)

    def tie(self, slat: str, source: str, tie: str) -> None:
        self._frame.sentence.slat.choose_tie(slat, source, tie, self._frame.sentence.view)

    def reconcile_dialog(self) -> None:
        """Choose what the selected rail is compared with."""
        self._choose_other("Compare {} with what?", "Compare {} with which rail?", self.reconcile)

    def reconcile(self, other: Selection, rail: Selection) -> None:
        def ask(found: combining.Comparing) -> None:
            (left, right), link = found.names, found.links[0]
            if not found.fields:
                # Nothing can disagree: what is left to tell is which rows are on one side only.
                combining.compare(self._session, found, [])
                self._session.said.emit(
                    f"{left} and {right} share no other field: compared is which rows each has."
                )
                return
            choices = [
                Choice(
                    (entry.one, entry.other),
                    f"{entry.one} with {entry.other}",
                    f"agree in {percent(entry.agree)}",
                    ticked=entry.proposed,
                )
                for entry in found.fields
            ]
            title = (
                f"{left} and {right} are the same by {link.left} and {link.right}. Which fields must agree?"
            )
            chooser = Chooser(choices, self._frame, several=True, title=title)
            chooser.applied.connect(lambda pairs: combining.compare(self._session, found, pairs))
            chooser.open_under(self._frame.sentence.view)

        combining.reconcile(self._session, other, rail, ask)

    def _stack(self, second: Selection, first: Selection) -> None:
        combining.stack(self._session, second, first)

    def _choose_other(
        self, of_rail: str, of_stump: str, lead: Callable[[Selection, Selection], None]
    ) -> None:
        """Choose what meets the selection; `lead` is given what comes, and the rail that it comes to."""
        session, selected = self._session, self._session.selection
        choices = [
            Choice(Selection(step.id), step.name, "rail")
            for step in session.flow.steps
            if not KINDS.ends_rail(step) and step.id != selected.step
        ]
        if not selected.is_stump:
            for path, state in session.margin.files.items():
                for entry in state.content.tables if state.content else ():
                    stump = Selection(path=path, table=entry.name)
                    said = f"{entry.called} of {shown_name(path)}"
                    choices.append(Choice(stump, said, entry.sort, also=entry.name))
        if not choices or not selected:
            session.said.emit("There are no two tables yet: open a file, and select a rail first.")
            return
        name = selected.table if selected.is_stump else session.flow.step(selected.step).name
        title = (of_stump if selected.is_stump else of_rail).format(name)
        chooser = Chooser(choices, self._frame, title=title)
        chooser.chosen.connect(
            lambda other: lead(selected, other) if selected.is_stump else lead(other, selected)
        )
        chooser.open_under(self._frame.sentence.view)
