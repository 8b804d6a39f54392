"""The join step: two rails meet in a knot."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.join_type import JoinType, type_keeping
from keen_trellis.core.joining import (
    MOST_RESULT_ROWS,
    FieldChoice,
    JoinedField,
    JoinedTable,
    PassedOverTable,
    Side,
    disagreements,
    plan_fields,
)
from keen_trellis.core.laddering import Rung, ladder
from keen_trellis.core.link import (
    ANY_DISTANCE,
    Likeness,
    LinkField,
    Operator,
    Preparation,
    Take,
    Taken,
    check_links,
    check_take,
)
from keen_trellis.core.match import Match
from keen_trellis.core.matching import cross, match
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.corrections import listed_pairs
from keen_trellis.flow.fates import Fate, Traced
from keen_trellis.flow.graph import ROWS, Flow
from keen_trellis.flow.kinds import (
    Context,
    Figures,
    InputRows,
    InputShape,
    Standing,
    StepKind,
    StepResult,
    called,
    encode_settings,
    shapes_of,
)
from keen_trellis.flow.run_values import ExpressionText, GivenText
from keen_trellis.flow.wording import counted, ignoring, question

if TYPE_CHECKING:
    import sqlglot.expressions as exp

    from keen_trellis.core.insight.reasons import Asked
    from keen_trellis.flow.in_sql.joins import JoinSaying
    from keen_trellis.flow.in_sql.rows import Said, SqlRows, Stacked
    from keen_trellis.flow.in_sql.target import SqlTarget

MATCHED = "matched"
UNMATCHED_LEFT = "unmatched_left"
UNMATCHED_RIGHT = "unmatched_right"
PASSED_OVER = "passed_over"

# What each port besides `rows` holds: the match read as this join type.
_TYPE_OF_PORT = {
    MATCHED: JoinType.INNER,
    UNMATCHED_LEFT: JoinType.LEFT_ANTI,
    UNMATCHED_RIGHT: JoinType.RIGHT_ANTI,
    PASSED_OVER: JoinType.FULL_ANTI,
}


class LikeSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """How alike two values must be. at_least: of texts, 1 to 100.  within: of numbers, of dates in days;
    "any", or "", for any distance.  side: both, before or after.  best: only the most alike, or the nearest.
    """

    at_least: float = 85.0
    within: GivenText = ""
    side: str = "both"
    best: bool = False

    @property
    def likeness(self) -> Likeness:
        return Likeness(self.at_least, self.within, self.side, self.best)


class LinkSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One pair of link fields, or of expressions where the two last members say so.

    ignore: what is ignored when they are compared.  operator: = <> < <= > >=.  compare_as: text, number or
    date.  blank_matches_blank: with = and <>.  correct: pairs "read X as Y".  lists: ids of lists of the flow
    with more of them.  like: they need not be equal.
    """

    left: ExpressionText
    right: ExpressionText
    ignore: tuple[str, ...] = ()
    operator: str = "="
    compare_as: str = ""
    blank_matches_blank: bool = False
    correct: tuple[tuple[str, str], ...] = ()
    left_is_expression: bool = False
    right_is_expression: bool = False
    like: LikeSettings | None = None
    lists: tuple[str, ...] = ()

    def listed(self, flow: Flow) -> LinkSettings:
        """The link as it is run: with the pairs of its lists. SourceError if one cannot be read."""
        if not self.lists:
            return self
        return msgspec.structs.replace(self, correct=listed_pairs(flow, self.lists, self.correct), lists=())

    @property
    def link(self) -> LinkField:
        return LinkField(
            self.left,
            self.right,
            Preparation.ignoring(self.ignore, self.compare_as, self.correct),
            called(Operator, self.operator, "operator"),
            self.blank_matches_blank,
            self.left_is_expression,
            self.right_is_expression,
            self.like.likeness if self.like is not None else None,
        )

    @staticmethod
    def of(link: LinkField) -> LinkSettings:
        """The settings of a link."""
        preparation, like = link.preparation, link.likeness
        return LinkSettings(
            link.left,
            link.right,
            preparation.names,
            link.operator.value,
            preparation.compare_as,
            link.blanks,
            preparation.corrections,
            link.left_is_expression,
            link.right_is_expression,
            None if like is None else LikeSettings(like.at_least, like.within, like.side, like.best),
        )

    @property
    def swapped(self) -> LinkSettings:
        """The same link seen from the other side."""
        return msgspec.structs.replace(LinkSettings.of(self.link.swapped), lists=self.lists)


class RungSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """Another way to find those that the links before it left. links: all must hold, or any of them.  review:
    what it finds is to be looked at.
    """

    links: tuple[LinkSettings, ...] = ()
    any_of: bool = False
    review: bool = False

    @property
    def rung(self) -> Rung:
        return Rung(tuple(entry.link for entry in self.links), self.any_of)

    @property
    def said(self) -> str:
        """The rung in words, as its field says it."""
        return rung_said(self.links)


def rung_said(links: Sequence[LinkSettings]) -> str:
    """Links in words."""
    return " and ".join(link_said(entry) for entry in links) or "nothing yet"


def link_said(link: LinkSettings) -> str:
    """One link in words: maker = name; maker like name, 85 or more; day near date, within 3."""
    ignored = ignoring(link.link.preparation) if link.link.preparation else ""
    more = f", {ignored}" if ignored else ""
    if link.like is None:
        return f"{link.left} {link.operator} {link.right}{more}"
    like = link.like
    if like.within or like.side != "both":
        within = f", within {like.within}" if like.within not in ("", ANY_DISTANCE) else ""
        where = "near" if like.side == "both" else f"at or {like.side}"
        return f"{link.left} {where} {link.right}{within}{', the nearest' if like.best else ''}{more}"
    return (
        f"{link.left} like {link.right}, {like.at_least:g} or more{', the best' if like.best else ''}{more}"
    )


class AcceptedSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """Values of one side that have no partner, and need none. side: "left" or "right".

    values: as text, those of several link fields with a dash between.  note: why.
    """

    side: str
    values: tuple[str, ...]
    note: str = ""


class MergeSettings(msgspec.Struct, frozen=True):
    """A field of both sides that becomes one. first: "left" or "right", whose value comes first."""

    name: str
    first: str = "left"

    @property
    def side(self) -> Side:
        return Side.RIGHT_FIRST if self.first == "right" else Side.LEFT_FIRST


class JoinSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """links: all must hold, or any of them.  type: the join type's name.  take: which matches a left row
    takes: every, first, last, one, pair-off, least:EXPRESSION or greatest:EXPRESSION.

    keep, bring: names of left and right fields that come along, in order; null is all of them.
    both_links: link fields stay on both sides.  name_all: brought fields all carry their table's name.
    merge: fields of both sides that become one.  partner_found: a field says whether a row has a partner.
    side: a field says whether a row is of the left, the right or both.
    accepted: what has no partner and needs none.  rejected: pairs of values that were looked at and do not
    mean the same.  guards: what must hold, as `core.insight.guards` writes it.

    rungs: further ways to find a partner, one after the other, for left rows that those before did not find.
    matched_by, score: fields that say by which way a pair was found, and how alike or far apart it is.
    """

    links: tuple[LinkSettings, ...] = ()
    type: str
    keep: tuple[str, ...] | None = None
    bring: tuple[str, ...] | None = None
    both_links: bool = False
    name_all: bool = False
    any_of: bool = False
    take: ExpressionText = Taken.EVERY.value
    merge: tuple[MergeSettings, ...] = ()
    partner_found: bool = False
    side: bool = False
    accepted: tuple[AcceptedSettings, ...] = ()
    rejected: tuple[tuple[str, str], ...] = ()
    guards: tuple[GivenText, ...] = ()
    rungs: tuple[RungSettings, ...] = ()
    matched_by: bool = False
    score: bool = False

    @property
    def links_lists(self) -> frozenset[str]:
        """The ids of the lists of corrections that its links use."""
        return frozenset(entry for rung in self.ladder for link in rung.links for entry in link.lists)

    @property
    def ladder(self) -> tuple[RungSettings, ...]:
        """All rungs, the first of which are its links."""
        return (RungSettings(links=self.links, any_of=self.any_of), *self.rungs)

    @property
    def join_type(self) -> JoinType:
        return called(JoinType, self.type, "join type")

    @property
    def link_fields(self) -> tuple[LinkField, ...]:
        return tuple(entry.link for entry in self.links)

    @property
    def choice(self) -> FieldChoice:
        merge = tuple((entry.name, entry.side) for entry in self.merge)
        return FieldChoice(
            self.keep,
            self.bring,
            self.both_links,
            self.name_all,
            merge,
            partner_found=self.partner_found,
            side=self.side,
            rungs=tuple(rung.said for rung in self.ladder) if self.matched_by else (),
            score=self.score,
        )

    def not_accepted(self, side: str, values: Iterable[str]) -> tuple[str, ...]:
        """Those of some values of a side that are not accepted as absent yet, each once."""
        known = {value for entry in self.accepted if entry.side == side for value in entry.values}
        return tuple(value for value in dict.fromkeys(values) if value not in known)

    def asked(self, left: Table, right: Table) -> Asked:
        """What there is to explain about the join of two tables."""
        # Imported here: most flows are run without a word why.
        from keen_trellis.core.insight.reasons import Asked

        accepted = tuple(
            tuple(value for entry in self.accepted if entry.side == side for value in entry.values)
            for side in ("left", "right")
        )
        return Asked(
            left,
            right,
            self.link_fields,
            self.any_of and len(self.links) > 1,
            Take.named(self.take),
            (accepted[0], accepted[1]),
            frozenset(self.rejected),
        )

    @property
    def swapped(self) -> JoinSettings:
        """The same question asked from the other side: the same rows of both are kept.

        Only that each left row takes one of its matches cannot be asked from the right: all are taken then.
        """
        both_ways = (Taken.EVERY.value, Taken.PAIR_OFF.value)
        return msgspec.structs.replace(
            self,
            links=tuple(entry.swapped for entry in self.links),
            rungs=tuple(
                msgspec.structs.replace(rung, links=tuple(entry.swapped for entry in rung.links))
                for rung in self.rungs
            ),
            merge=tuple(
                MergeSettings(entry.name, "left" if entry.first == "right" else "right")
                for entry in self.merge
            ),
            type=self.join_type.mirrored.value,
            accepted=tuple(
                AcceptedSettings("left" if entry.side == "right" else "right", entry.values, entry.note)
                for entry in self.accepted
            ),
            take=self.take if self.take in both_ways else Taken.EVERY.value,
            keep=self.bring,
            bring=self.keep,
        )


class JoinKind(StepKind[JoinSettings]):
    """Two inputs, left and right; ports for the result and for each part of the match."""

    name = "join"
    settings_type = JoinSettings
    input_names = ("left", "right")
    standing = Standing.KNOT
    has_guards = True
    matches = True

    def ports(self, settings: JoinSettings) -> tuple[str, ...]:
        return (ROWS, MATCHED, UNMATCHED_LEFT, UNMATCHED_RIGHT, PASSED_OVER)

    def fields(self, settings: JoinSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return tuple(entry.field for entry in self.plan(settings, inputs, _TYPE_OF_PORT.get(port)))

    def plan(
        self, settings: JoinSettings, inputs: Sequence[InputShape], join_type: JoinType | None = None
    ) -> tuple[JoinedField, ...]:
        """The fields of the result and where each is read from."""
        left, right = inputs
        return plan_fields(
            left.fields,
            right.fields,
            settings.link_fields,
            join_type or settings.join_type,
            settings.choice,
            right.name,
            left_name=left.name,
            # Where rungs find partners in several ways, no field stands for both sides of all.
            any_of=(settings.any_of and len(settings.links) > 1) or bool(settings.rungs),
        )

    def fields_of_stub(
        self, settings: JoinSettings, inputs: Sequence[InputShape], port: str
    ) -> list[tuple[str, str]]:
        """The fields of a stub that the kept rows have, in their order: name here, name in the rows."""
        there = {field.name for field in self.fields(settings, inputs, port)}
        sides = [
            (entry.left if port == UNMATCHED_LEFT else entry.right, entry.field.name)
            for entry in self.plan(settings, inputs)
        ]
        return [(of, name) for of, name in sides if of in there]

    def links(self, settings: JoinSettings) -> tuple[tuple[LinkField, int], ...]:
        return tuple((entry.link, 1) for rung in settings.ladder for entry in rung.links)

    def settled(self, settings: JoinSettings, flow: Flow, step: str) -> JoinSettings:
        return self.with_links(settings, lambda link, _: link.listed(flow))

    def with_links(
        self, settings: JoinSettings, change: Callable[[LinkSettings, int], LinkSettings]
    ) -> JoinSettings:
        def changed(links: Sequence[LinkSettings]) -> tuple[LinkSettings, ...]:
            return tuple(change(link, 1) for link in links)

        rungs = (msgspec.structs.replace(rung, links=changed(rung.links)) for rung in settings.rungs)
        return msgspec.structs.replace(settings, links=changed(settings.links), rungs=tuple(rungs))

    def rows_called(
        self, step_name: str, port: str, settings: JoinSettings, inputs: Sequence[InputShape]
    ) -> str:
        if port == PASSED_OVER:
            return f"passed over at {step_name}"
        place = {UNMATCHED_LEFT: 0, UNMATCHED_RIGHT: 1}.get(port, len(inputs))
        return f"unmatched {inputs[place].name}" if place < len(inputs) else step_name

    def check(self, settings: JoinSettings, inputs: Sequence[InputShape]) -> None:
        if settings.join_type is not JoinType.CROSS:
            check_links(settings.link_fields, inputs[0].fields, inputs[1].fields)
            check_take(Take.named(settings.take), inputs[1].fields)
            for rung in settings.rungs:
                check_links(rung.rung.links, inputs[0].fields, inputs[1].fields)
        elif settings.links or settings.rungs:
            raise UsageError(
                "A join with link fields cannot be a cross join.",
                remedy="Choose another type, or remove its link fields.",
            )
        self.plan(settings, inputs)

    def part_toggled(
        self, settings: JoinSettings, part: str, inputs: Sequence[InputShape]
    ) -> tuple[JoinSettings, str] | None:
        kind = settings.join_type
        keeps = {
            UNMATCHED_LEFT: kind.keeps_unmatched_left,
            MATCHED: kind.keeps_matched,
            UNMATCHED_RIGHT: kind.keeps_unmatched_right,
        }
        if part not in keeps:
            return None
        keeps[part] = not keeps[part]
        changed = type_keeping(
            unmatched_left=keeps[UNMATCHED_LEFT],
            matched=keeps[MATCHED],
            unmatched_right=keeps[UNMATCHED_RIGHT],
        )
        if changed is None:
            raise UsageError("A join keeps at least one part.", remedy="Choose another one first.")
        return msgspec.structs.replace(settings, type=changed.value), self.type_asked(changed, inputs)

    @staticmethod
    def type_asked(kind: JoinType, inputs: Sequence[InputShape]) -> str:
        """What the edit is called that asks for another type."""
        names = [shape.name for shape in inputs] if len(inputs) == 2 else ["left", "right"]
        return f"Ask for {question(kind, *names)}"

    def doubts(
        self, settings: JoinSettings, figures: Figures, inputs: Sequence[InputShape]
    ) -> Iterator[tuple[str, str]]:
        counts = figures.counts
        for number, rung in enumerate(settings.rungs, 1):
            if rung.review and number < len(figures.rungs) and figures.rungs[number]:
                found = counted(figures.rungs[number], inputs[0].name if inputs else "rows")
                yield (
                    "to review",
                    f"{found} matched by rung {number + 1} ({rung.said}), which asks for review.",
                )
        if counts is not None and settings.join_type.keeps_pairs and counts.pairs > counts.left_matched:
            yield "more rows", f"Repeated keys add {rows_said(counts.pairs - counts.left_matched)}."

    def fingerprint(self, settings: JoinSettings, inputs: Sequence[InputShape]) -> object:
        plan = self.plan(settings, inputs)
        names = [(entry.field.name, entry.side, entry.left, entry.right) for entry in plan]
        # What is said of the rows does not change them.
        of_rows = msgspec.structs.replace(settings, accepted=(), rejected=(), guards=())
        return encode_settings(of_rows), names, inputs[0].name, inputs[1].name

    def compute(self, settings: JoinSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        left, right = inputs
        shapes = [InputShape(entry.name, entry.table.fields) for entry in inputs]
        links = settings.link_fields
        take = Take.named(settings.take)

        def matched() -> Match:
            if settings.join_type is JoinType.CROSS:
                return cross(left.table, right.table)
            if settings.rungs:
                rungs = [rung.rung for rung in settings.ladder]
                return ladder(left.table, right.table, rungs, take, context.task)
            any_of = settings.any_of
            return match(left.table, right.table, links, context.task, any_of=any_of, take=take)

        found = context.remember(
            ("match", left.fingerprint, right.fingerprint, settings.ladder, take), matched
        )

        def table(join_type: JoinType) -> Table:
            plan = self.plan(settings, shapes, join_type)
            return JoinedTable(left.table, right.table, found, join_type, plan)

        ports = {ROWS: table(settings.join_type)}
        for port in (UNMATCHED_LEFT, UNMATCHED_RIGHT):
            ports[port] = table(_TYPE_OF_PORT[port])
        plan = self.plan(settings, shapes, JoinType.FULL_ANTI)
        ports[PASSED_OVER] = PassedOverTable(left.table, right.table, found, plan)
        if found.counts.pairs <= MOST_RESULT_ROWS or settings.join_type.keeps_pairs:
            # Of more pairs than a table may have, the rows without partner can still be had.
            ports[MATCHED] = table(JoinType.INNER)
        merged = {
            entry.name: context.remember(
                (
                    "disagreements",
                    left.fingerprint,
                    right.fingerprint,
                    settings.ladder,
                    take,
                    entry.name,
                ),
                partial(disagreements, left.table, right.table, found, entry.name),
            )
            for entry in settings.merge
        }
        return StepResult(ports, found, disagreements=merged)

    def sql(
        self, settings: JoinSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said | Stacked:
        saying = self._saying(settings, inputs, target)
        kind = _TYPE_OF_PORT.get(port, settings.join_type)
        plan = self.plan(settings, shapes_of(inputs), _TYPE_OF_PORT.get(port))
        return saying.passed_over(plan) if port == PASSED_OVER else saying.said(kind, plan)

    def sql_counts(
        self, settings: JoinSettings, inputs: Sequence[SqlRows], target: SqlTarget
    ) -> exp.Select | None:
        return self._saying(settings, inputs, target).counted()

    def _saying(self, settings: JoinSettings, inputs: Sequence[SqlRows], target: SqlTarget) -> JoinSaying:
        from keen_trellis.flow.in_sql.joins import JoinSaying

        rungs = [rung.rung for rung in settings.ladder]
        return JoinSaying(inputs, rungs, Take.named(settings.take), target)

    def met_by_all(self, settings: JoinSettings) -> tuple[tuple[LinkField, int], ...]:
        is_open = settings.rungs or (settings.any_of and len(settings.links) > 1)
        return () if is_open else self.links(settings)

    def fates(
        self, settings: JoinSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        from keen_trellis.flow.steps.join_fates import fates_in_join

        assert result.match is not None
        asked = settings.asked(inputs[0].table, inputs[1].table)
        rungs = [
            (
                msgspec.structs.replace(
                    asked, links=rung.rung.links, any_of=rung.any_of and len(rung.links) > 1
                ),
                rung.said,
            )
            for rung in settings.ladder
        ]
        yield from fates_in_join(rungs, settings.join_type, inputs, result.match, task)

    def sentence(self, settings: JoinSettings, inputs: Sequence[InputShape]) -> str:
        left, right = inputs
        links = " and ".join(
            f"{entry.left} of {left.name} {entry.operator} {entry.right} of {right.name}, "
            f"{ignoring(entry.link.preparation)}"
            if entry.like is None
            else f"{link_said(entry)} of {right.name}"
            for entry in settings.links
        )
        links += "".join(f"; those left by {rung.said}" for rung in settings.rungs)
        answer = question(settings.join_type, left.name, right.name)
        return f"Match {links or 'nothing yet'}. This answers: {answer}."
