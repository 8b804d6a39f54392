"""The mend text step: spaces, case, padding and the like of texts, one thing after the other."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.text_actions import Action, How, check_mended, mended
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class ActionSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing done to text, as `core.text_mending` names it."""

    how: str
    what: str = ""
    by: str = ""
    number: int = 0

    @property
    def action(self) -> Action:
        return Action(called(How, self.how, "way to mend text"), self.what, self.by, self.number)


class MendTextSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """fields: texts.  actions: what is done to each, one after the other."""

    fields: tuple[str, ...] = ()
    actions: tuple[ActionSettings, ...] = ()

    @property
    def caption(self) -> str:
        return f"mend {listed(list(self.fields), 1)}" if self.fields else "mend text"


class MendTextKind(OneInputKind[MendTextSettings]):
    """One input; the same fields and rows, some texts written otherwise."""

    name = "mend-text"
    settings_type = MendTextSettings

    def check(self, settings: MendTextSettings, inputs: Sequence[InputShape]) -> None:
        check_mended(inputs[0].fields, settings.fields, _actions(settings))

    def compute(
        self, settings: MendTextSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        return StepResult({ROWS: mended(inputs[0].table, settings.fields, _actions(settings), context.task)})

    def sql(
        self, settings: MendTextSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.fields import said_made_here
        from keen_trellis.flow.in_sql.made_here import Mended

        making = Mended(tuple(_actions(settings)))
        rows, made = inputs[0], {name: (name, making) for name in settings.fields}
        return said_made_here(rows, rows.fields, made, target)

    def sentence(self, settings: MendTextSettings, inputs: Sequence[InputShape]) -> str:
        done = ", ".join(str(action) for action in _actions(settings)) or "nothing yet"
        return f"In {inputs[0].name}, write {listed(list(settings.fields)) or 'no field'}: {done}."


def _actions(settings: MendTextSettings) -> list[Action]:
    return [entry.action for entry in settings.actions]
