"""A query as steps: its parts in the order in which SQL computes them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

import msgspec
import sqlglot
import sqlglot.expressions as exp
from sqlglot.errors import SqlglotError

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.expressions.parsing import parse
from keen_trellis.core.join_type import JoinType
from keen_trellis.flow.edits import add_step
from keen_trellis.flow.from_sql.grouping import Groups, measures_in
from keen_trellis.flow.from_sql.joins import Condition, type_of
from keen_trellis.flow.from_sql.relation import (
    NoCounterpart,
    Relation,
    Scope,
    all_taken,
    conjuncts,
    plain_field,
    resolved,
    side_of,
    written,
)
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.plain_text import cut
from keen_trellis.flow.steps.choose import ChooseKind, ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.flow.steps.distinct import DistinctKind, DistinctSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings
from keen_trellis.flow.steps.first import FirstKind, FirstSettings
from keen_trellis.flow.steps.join import JoinKind, JoinSettings, LinkSettings
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortKind, SortSettings
from keen_trellis.flow.steps.summarise import SummariseKind, SummariseSettings
from keen_trellis.flow.steps.union import UnionKind, UnionSettings

# Begins a rail at a table of a query: the flow then, and the step whose rows it is.
TableOf = Callable[[Flow, str, str], tuple[Flow, str]]
ShapeOf = Callable[[Flow, Input], InputShape]
# What is written in a query as an expression over the fields of a rail.
Resolve = Callable[[exp.Expr], exp.Expr]
_SHOWN = 80
_SELECT = ("expressions", "from_", "joins", "where", "group", "having", "order", "limit", "with_", "distinct")


class FromSql(msgspec.Struct, frozen=True):
    """The steps of a query. step: the last one.  lacking: what of the query has no counterpart, in words; the
    steps do without it.  notes: what they do otherwise than some databases.
    """

    flow: Flow
    step: str
    lacking: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


class _Output(msgspec.Struct, frozen=True):
    """One column that a query gives: its name, and the field or expression that it is."""

    name: str
    tree: exp.Expr
    of: str = ""  # the field that it is, once it is computed


def steps_of(flow: Flow, text: str, table_of: TableOf, shape_of: ShapeOf) -> FromSql:
    """The flow with the steps of a SELECT. table_of: finds a table by its name.  shape_of: what rows are
    called, and their fields.

    UsageError where the text is no SELECT, or names what is not there.
    """
    tree = parsed(text)
    reader = _Reader(flow, table_of, shape_of)
    try:
        made = reader.query(tree, {})
    except RecursionError as error:
        raise UsageError("The query is nested too deeply.") from error
    lacking, notes = (tuple(dict.fromkeys(said)) for said in (reader.lacking, reader.notes))
    return FromSql(reader.flow, made.rows.step, lacking, notes)


def parsed(text: str) -> exp.Expr:
    """The one SELECT that a text is; UsageError if it is none."""
    if not text.strip().rstrip(";").strip():
        raise UsageError("There is no query.", remedy="Paste a SELECT.")
    first: Exception | None = None
    for dialect in (None, "postgres"):
        try:
            found = [tree for tree in sqlglot.parse(text, read=dialect) if tree is not None]
        except (SqlglotError, RecursionError) as error:
            first = first or error
            continue
        if len(found) != 1:
            raise UsageError("These are several statements.", remedy="Paste one SELECT.")
        if not isinstance(found[0], exp.Select | exp.SetOperation | exp.Subquery):
            raise UsageError(
                "It is no SELECT.", remedy="Only queries become steps; nothing else is carried out."
            )
        return found[0]
    said = getattr(first, "errors", None)
    at = (
        f" in line {said[0]['line']:,}, near “{said[0]['highlight']}”" if said and said[0].get("line") else ""
    )
    raise UsageError(f"The query cannot be read{at}.", remedy="Is a bracket or a quotation mark open?")


class _Reader:
    """Builds the steps of one query. lacking: what has no counterpart.  notes: what is otherwise here."""

    def __init__(self, flow: Flow, table_of: TableOf, shape_of: ShapeOf) -> None:
        self.flow = flow
        self.lacking: list[str] = []
        self.notes: list[str] = []
        self._table_of, self._shape_of = table_of, shape_of
        self._used: set[str] = set()

    @contextmanager
    def _said(self, tree: exp.Expr | str) -> Iterator[None]:
        """Let a part that has no counterpart be said, and left out."""
        try:
            yield
        except (NoCounterpart, TrellisError) as error:
            text = tree if isinstance(tree, str) else cut(tree.sql(), _SHOWN)
            why = error.what if isinstance(error, TrellisError) else str(error)
            self.lacking.append(f"{text}: {why}")

    def _not_taken(self, tree: exp.Expr, names: Sequence[str], what: str) -> None:
        self.lacking += [f"{what}: {name.upper()}" for name in all_taken(tree, names)]

    # --- queries ---

    def query(self, tree: exp.Expr, known: dict[str, Relation]) -> Relation:
        """The rows of a query. known: the queries that it names, by their names."""
        if isinstance(tree, exp.Subquery):
            self._not_taken(tree, ("this", "alias"), "a query in brackets")
            return self.query(tree.this, known)
        known = known | self._named_queries(tree, known)
        if isinstance(tree, exp.Union) and type(tree) is exp.Union:
            return self._union(tree, known)
        if not isinstance(tree, exp.Select):
            raise UsageError(
                f"{tree.key.upper()} has no counterpart here.",
                remedy="Join the two queries, and keep what it asks for.",
            )
        return self._select(tree, known)

    def _named_queries(self, tree: exp.Expr, known: dict[str, Relation]) -> dict[str, Relation]:
        named = tree.args.get("with_")
        found: dict[str, Relation] = {}
        if named is not None and named.args.get("recursive"):
            raise UsageError(
                "A recursive query has no counterpart here.", remedy="Walk the whole and its parts."
            )
        for entry in named.expressions if named is not None else ():
            made = self.query(entry.this, known | found)
            columns = [column.name for column in entry.args["alias"].args.get("columns") or ()]
            found[entry.alias.casefold()] = self._as_table(made, entry.alias, columns)
        return found

    def _as_table(self, made: Relation, name: str, columns: Sequence[str] = ()) -> Relation:
        fields = [entry.name for entry in made.shape.fields]
        called = [*columns, *fields[len(columns) :]]
        return msgspec.structs.replace(made, scopes=(Scope(name, dict(zip(called, fields, strict=True))),))

    def _union(self, tree: exp.Union, known: dict[str, Relation]) -> Relation:
        self._not_taken(tree, ("this", "expression", "distinct", "with_", "order", "limit"), "UNION")
        sides = [self.query(side, known) for side in (tree.this, tree.expression)]
        widths = [len(side.shape.fields) for side in sides]
        if widths[0] != widths[1]:
            raise UsageError(f"The sides of a UNION have {widths[0]:,} and {widths[1]:,} columns.")
        names = " and ".join(side.shape.name for side in sides)
        settings = UnionSettings(by_position=True)
        self.flow, step = add_step(self.flow, UnionKind.name, names, [side.rows for side in sides], settings)
        made = self._as_table(self._at(step), "")
        if tree.args.get("distinct"):
            made = self._as_table(self._after(made, DistinctKind.name, DistinctSettings()), "")
        outputs = [
            _Output(entry.name, exp.column(entry.name, quoted=True), entry.name)
            for entry in made.shape.fields
        ]
        return self._limited(tree, self._ordered(tree, made, outputs))

    def _select(self, tree: exp.Select, known: dict[str, Relation]) -> Relation:
        self._not_taken(tree, _SELECT, "SELECT")
        wheres = conjuncts(tree.args["where"].this if tree.args.get("where") else None)
        if tree.args.get("from_") is None:
            raise UsageError("The query names no table.", remedy="It needs a FROM.")
        made = self._source(tree.args["from_"].this, known)
        for join in tree.args.get("joins") or ():
            made = self._joined(made, join, known, wheres)
        for where in wheres:
            with self._said(where):
                made = self._where(made, where, known)
        made, outputs, resolve = self._grouped(tree, made)
        made, outputs = self._computed(made, outputs)
        made = self._ordered(tree, made, outputs, resolve)
        made = self._chosen(made, outputs)
        if tree.args.get("distinct"):
            self._not_taken(tree.args["distinct"], (), "DISTINCT")
            made = self._after(made, DistinctKind.name, DistinctSettings())
        return self._limited(tree, made)

    # --- tables and joins ---

    def _at(self, step: str) -> Relation:
        rows = Input(step)
        return Relation(rows, self._shape_of(self.flow, rows))

    def _after(self, made: Relation, kind: str, settings: RailSettings) -> Relation:
        """The rows behind one more step, with the same tables as far as their fields are left."""
        self.flow, step = add_step(self.flow, kind, settings.caption, [made.rows], settings)
        found = self._at(step)
        return msgspec.structs.replace(
            found, scopes=made.renamed({entry.name: entry.name for entry in found.shape.fields})
        )

    def _source(self, tree: exp.Expr, known: dict[str, Relation]) -> Relation:
        """A table that a query names, or a query in its place."""
        if isinstance(tree, exp.Subquery):
            self._not_taken(tree, ("this", "alias"), "a query in FROM")
            made = self.query(tree.this, known)
            alias = tree.args.get("alias")
            columns = [column.name for column in alias.args.get("columns") or ()] if alias is not None else []
            return self._as_table(made, tree.alias, columns)
        if not isinstance(tree, exp.Table) or not isinstance(tree.this, exp.Identifier):
            raise UsageError(f"“{cut(tree.sql(), _SHOWN)}” is no table.", remedy="Name tables, or queries.")
        if tree.args.get("joins"):
            raise UsageError(
                "Joins in brackets have no counterpart here.", remedy="Write them one after the other."
            )
        self._not_taken(tree, ("this", "db", "catalog", "alias"), f"table {tree.name}")
        name = tree.alias or tree.name
        if not tree.db and tree.name.casefold() in known:
            named = self._as_table(known[tree.name.casefold()], name)
            return msgspec.structs.replace(
                named, scopes=(Scope(name, dict(known[tree.name.casefold()].scopes[0].columns)),)
            )
        whole = ".".join(part for part in (tree.db, tree.name) if part)
        wanted = name if whole in self._used else ""
        self.flow, step = self._table_of(self.flow, whole, wanted)
        self._used.add(whole)
        return self._as_table(self._at(step), name)

    def _joined(
        self, left: Relation, join: exp.Join, known: dict[str, Relation], wheres: list[exp.Expr]
    ) -> Relation:
        self._not_taken(join, ("this", "side", "kind", "on", "using", "method"), "JOIN")
        right, kind = self._source(join.this, known), type_of(join)
        shared = [entry.name for entry in join.args.get("using") or ()]
        on = join.args.get("on")
        for name in shared:
            column = exp.column(exp.to_identifier(name))
            ours = exp.column(left.field_of(column), quoted=True)
            on = _and(on, exp.EQ(this=ours, expression=exp.column(name, table=right.scopes[0].name)))
        found = Condition(on, self._with_own_names(left) if shared else left, right)
        if not found.links and kind in (JoinType.INNER, JoinType.CROSS):
            # Tables that stand beside each other are joined by what the WHERE says of both.
            found.links = self._links_in(wheres, left, right)
            kind = JoinType.INNER if found.links else JoinType.CROSS
        if found.of_right and kind in (
            JoinType.LEFT_OUTER,
            JoinType.LEFT_SEMI,
            JoinType.LEFT_ANTI,
            JoinType.INNER,
        ):
            right = self._filtered(right, found.of_right)
            found.of_right = []
        if found.of_left and kind is JoinType.RIGHT_OUTER:
            left = self._filtered(left, found.of_left)
            found.of_left = []
        made = self._knot(left, right, found, kind)
        after = [*found.of_left, *found.of_right, *found.rest]
        if kind in (JoinType.INNER, JoinType.CROSS):
            made = self._filtered(made, after)
        else:
            self.lacking += [
                f"ON {cut(part.sql(), _SHOWN)}: a condition that is no link of this join" for part in after
            ]
        return self._used_by(made, shared, kind) if shared else made

    def _used_by(self, made: Relation, shared: Sequence[str], kind: JoinType) -> Relation:
        """The rows of a join by USING: its columns are those of the table whose rows all stay."""
        wanted = {name.casefold() for name in shared}

        def hiding(scope: Scope) -> Scope:
            own = {name for name in scope.columns if name.casefold() in wanted}
            return msgspec.structs.replace(scope, hidden=scope.hidden | own)

        *others, last = made.scopes
        if kind is JoinType.FULL_OUTER:
            self.lacking.append(
                f"USING ({', '.join(shared)}): rows of the right table alone are blank in them"
            )
        if kind is JoinType.RIGHT_OUTER:
            return msgspec.structs.replace(made, scopes=(*map(hiding, others), last))
        return msgspec.structs.replace(made, scopes=(*others, hiding(last)))

    def _with_own_names(self, made: Relation) -> Relation:
        """The rows with the names of their fields as well, for what was resolved already."""
        own = Scope("", {entry.name: entry.name for entry in made.shape.fields})
        return (
            msgspec.structs.replace(made, scopes=(*made.scopes, own))
            if made.scopes
            else msgspec.structs.replace(made, scopes=(own,))
        )

    def _links_in(self, wheres: list[exp.Expr], left: Relation, right: Relation) -> list[LinkSettings]:
        """The links that a WHERE makes between two tables; they are taken out of it."""
        found: list[LinkSettings] = []
        for where in list(wheres):
            links = Condition(where, left, right)
            if len(links.links) == 1 and not links.any_of and links.links[0].operator == "=":
                found += links.links
                wheres.remove(where)
        return found

    def _knot(self, left: Relation, right: Relation, found: Condition, kind: JoinType) -> Relation:
        settings = JoinSettings(
            links=tuple(found.links), any_of=found.any_of, type=kind.value, both_links=True
        )
        shapes = [left.shape, right.shape]
        name = f"{left.shape.name} with {right.shape.name.split(' with ')[0]}"
        self.flow, step = add_step(self.flow, JoinKind.name, name, [left.rows, right.rows], settings)
        plan = JoinKind().plan(settings, shapes)
        ours = {entry.left: entry.field.name for entry in plan if entry.left}
        theirs = {entry.right: entry.field.name for entry in plan if entry.right and not entry.left}
        scopes = left.renamed(ours)
        if kind not in (JoinType.LEFT_SEMI, JoinType.LEFT_ANTI):
            scopes += right.renamed(theirs)
        return msgspec.structs.replace(self._at(step), scopes=scopes)

    # --- rows ---

    def _filtered(self, made: Relation, parts: Sequence[exp.Expr]) -> Relation:
        """The rows for which conditions hold; those without a counterpart are said."""
        conditions = []
        for part in parts:
            with self._said(part):
                conditions.append(ConditionSettings(self._expression(resolved(part, made), made), "true"))
        if not conditions:
            return made
        return self._after(made, FilterKind.name, FilterSettings(conditions=tuple(conditions)))

    def _expression(self, tree: exp.Expr, made: Relation) -> str:
        """A resolved expression as text that our steps read. UsageError where they do not."""
        text = written(tree)
        parse(text, made.shape.fields)
        for node in tree.find_all(exp.Div):
            self.notes.append(
                f"{cut(node.sql(), _SHOWN)}: whole numbers that are divided keep their fraction here"
            )
        return text

    def _where(self, made: Relation, where: exp.Expr, known: dict[str, Relation]) -> Relation:
        bare, wanted = where.unnest(), JoinType.LEFT_SEMI
        if isinstance(bare, exp.Not) and isinstance(bare.this.unnest(), exp.Exists):
            bare, wanted = bare.this.unnest(), JoinType.LEFT_ANTI
        if isinstance(bare, exp.Exists):
            return self._half(made, bare.this, None, wanted, known)
        if isinstance(bare, exp.In) and bare.args.get("query") is not None:
            inner = bare.args["query"].this
            return self._half(made, inner, bare.this, JoinType.LEFT_SEMI, known)
        return self._filtered(made, [where])

    def _half(
        self,
        made: Relation,
        inner: exp.Expr,
        value: exp.Expr | None,
        kind: JoinType,
        known: dict[str, Relation],
    ) -> Relation:
        """The rows that a query within WHERE has something for, or has nothing for."""
        if not isinstance(inner, exp.Select) or all_taken(inner, ("expressions", "from_", "joins", "where")):
            raise NoCounterpart("a query within WHERE of more than tables and conditions")
        wheres = conjuncts(inner.args["where"].this if inner.args.get("where") else None)
        theirs = self._source(inner.args["from_"].this, known)
        for join in inner.args.get("joins") or ():
            theirs = self._joined(theirs, join, known, wheres)
        own = [part for part in wheres if not any(not theirs.names(c) for c in part.find_all(exp.Column))]
        theirs = self._filtered(theirs, own)
        links = Condition(None, made, theirs)
        if value is not None:
            if len(inner.expressions) != 1:
                raise NoCounterpart("IN with a query of several columns")
            links.links += Condition(exp.EQ(this=value, expression=inner.expressions[0]), made, theirs).links
        for part in (part for part in wheres if part not in own):
            more = Condition(part, made, theirs)
            if not more.links or more.any_of:
                raise NoCounterpart("a condition between the two queries that is no link")
            links.links += more.links
        if not links.links:
            raise NoCounterpart("a query within WHERE that nothing links to the one around it")
        return self._knot(made, theirs, links, kind)

    # --- columns ---

    def _grouped(self, tree: exp.Select, made: Relation) -> tuple[Relation, list[_Output], Resolve | None]:
        """The rows as groups where the query asks for such, what it gives of them, and how what is written of
        the rows before is resolved in them; None where there are no groups.
        """
        wanted = self._wanted(tree, made)
        having, group = tree.args.get("having"), tree.args.get("group")
        measured = [entry for entry in wanted if any(measures_in(entry.tree))]
        if group is None and not measured and having is None:
            return made, wanted, None
        if group is not None:
            self._not_taken(group, ("expressions",), "GROUP BY")
        keys = [self._key(entry, wanted, made) for entry in (group.expressions if group is not None else ())]
        groups, kept = Groups(keys), []
        parts = []
        for entry in wanted:
            with self._said(entry.tree):
                groups.add(entry.tree, entry.name)
                kept.append(entry)
        for part in conjuncts(having.this if having is not None else None):
            with self._said(f"HAVING {cut(part.sql(), _SHOWN)}"):
                found = resolved(part, made)
                groups.add(found)
                parts.append(found)
        order = tree.args.get("order")
        for ordered in order.expressions if order is not None else ():
            if any(measures_in(ordered)):
                with self._said(ordered):
                    groups.add(resolved(ordered.this, made))
        before = made
        settings = SummariseSettings(keys=tuple(groups.keys), measures=tuple(groups.measures))
        made = self._as_table(self._after(made, SummariseKind.name, settings), "")
        conditions = []
        for found in parts:
            with self._said(f"HAVING {cut(found.sql(), _SHOWN)}"):
                conditions.append(ConditionSettings(self._expression(groups.within(found), made), "true"))
        if conditions:
            made = self._after(made, FilterKind.name, FilterSettings(conditions=tuple(conditions)))
        outputs = []
        for entry in kept:
            with self._said(entry.tree):
                outputs.append(msgspec.structs.replace(entry, tree=groups.within(entry.tree)))
        return made, outputs, lambda part: groups.within(resolved(part, before))

    def _wanted(self, tree: exp.Select, made: Relation) -> list[_Output]:
        """The columns that a query gives, their expressions resolved."""
        found: list[_Output] = []
        for number, entry in enumerate(tree.expressions, 1):
            if isinstance(entry, exp.Star) or (
                isinstance(entry, exp.Column) and isinstance(entry.this, exp.Star)
            ):
                self._not_taken(entry.this if isinstance(entry, exp.Column) else entry, (), "*")
                scopes = [made.scope(entry.table)] if isinstance(entry, exp.Column) else list(made.scopes)
                found += [
                    _Output(own, exp.column(at, quoted=True))
                    for scope in scopes
                    for own, at in scope.columns.items()
                    if own not in scope.hidden
                ]
                continue
            bare = entry.this if isinstance(entry, exp.Alias) else entry
            with self._said(entry):
                name = (
                    entry.alias
                    if isinstance(entry, exp.Alias)
                    else entry.name
                    if isinstance(entry, exp.Column)
                    else ""
                )
                at = resolved(bare, made)
                if isinstance(entry, exp.Column):
                    name = next(
                        (
                            own
                            for scope in made.scopes
                            for own, f in scope.columns.items()
                            if f == plain_field(at)
                        ),
                        name,
                    )
                found.append(_Output(name or f"column {number}" if not any(measures_in(bare)) else name, at))
        return found

    def _key(self, tree: exp.Expr, wanted: Sequence[_Output], made: Relation) -> exp.Expr:
        """A key of the groups: a column's number, its name, or an expression."""
        if isinstance(tree, exp.Literal) and not tree.is_string:
            place = int(tree.name) - 1
            if not 0 <= place < len(wanted):
                raise UsageError(f"GROUP BY {tree.name}: the query has {len(wanted):,} columns.")
            return wanted[place].tree
        if isinstance(tree, exp.Column) and not tree.table and not made.names(tree):
            named = [entry.tree for entry in wanted if entry.name.casefold() == tree.name.casefold()]
            if named:
                return named[0]
        return resolved(tree, made)

    def _computed(self, made: Relation, outputs: Sequence[_Output]) -> tuple[Relation, list[_Output]]:
        """The rows with a field for each column that is more than a field."""
        found = []
        for entry in outputs:
            name = plain_field(entry.tree)
            if name:
                found.append(msgspec.structs.replace(entry, of=name, name=entry.name or name))
                continue
            with self._said(entry.tree):
                taken = {field.name for field in made.shape.fields}
                field = free_name(entry.name or "column", taken)
                settings = ComputeSettings(field=field, expression=self._expression(entry.tree, made))
                made = self._after(made, ComputeKind.name, settings)
                found.append(msgspec.structs.replace(entry, of=field, name=entry.name or field))
        return made, found

    def _ordered(
        self, tree: exp.Expr, made: Relation, outputs: Sequence[_Output], resolve: Resolve | None = None
    ) -> Relation:
        order = tree.args.get("order")
        if order is None:
            return made
        self._not_taken(order, ("expressions",), "ORDER BY")
        keys = []
        for entry in order.expressions:
            with self._said(f"ORDER BY {cut(entry.sql(), _SHOWN)}"):
                self._not_taken(entry, ("this", "desc", "nulls_first"), "ORDER BY")
                text = self._order_key(entry.this, made, outputs, resolve)
                keys.append(SortKeySettings(text, bool(entry.args.get("desc")), _says_nulls_first(entry)))
        return self._after(made, SortKind.name, SortSettings(tuple(keys))) if keys else made

    def _order_key(
        self, tree: exp.Expr, made: Relation, outputs: Sequence[_Output], resolve: Resolve | None
    ) -> str:
        if isinstance(tree, exp.Literal) and not tree.is_string:
            place = int(tree.name) - 1
            if not 0 <= place < len(outputs):
                raise NoCounterpart(f"the query has {len(outputs):,} columns")
            return outputs[place].of
        if isinstance(tree, exp.Column) and not tree.table:
            named = [entry.of for entry in outputs if entry.name.casefold() == tree.name.casefold()]
            if named:
                return named[0]
        if resolve is not None:
            return side_of(resolve(tree))[0]
        found = resolved(tree, made)
        if not plain_field(found):
            self._expression(found, made)
        return side_of(found)[0]

    def _chosen(self, made: Relation, outputs: Sequence[_Output]) -> Relation:
        """The rows with the columns of the query, in its order."""
        if not outputs:
            why = f" {self.lacking[-1]}" if self.lacking else ""
            raise UsageError(f"None of the columns of the query has a counterpart here.{why}")
        fields: list[ChosenSettings] = []
        taken: set[str] = set()
        for entry in outputs:
            name = entry.name if entry.name not in taken else entry.of
            name = free_name(name, taken)
            taken.add(name)
            fields.append(ChosenSettings(entry.of, name if name != entry.of else ""))
        there = [field.name for field in made.shape.fields]
        if [entry.of for entry in fields] != there or any(entry.name for entry in fields):
            made = self._after(made, ChooseKind.name, ChooseSettings(fields=tuple(fields), others=False))
        return self._as_table(made, "")

    def _limited(self, tree: exp.Expr, made: Relation) -> Relation:
        limit = tree.args.get("limit")
        if limit is None:
            return made
        count = limit.args.get("expression") or limit.args.get("count")
        if (
            not isinstance(count, exp.Literal)
            or count.is_string
            or all_taken(limit, ("expression", "count", "direction"))
        ):
            self.lacking.append(f"{cut(limit.sql(), _SHOWN)}: only a number of rows is kept")
            return made
        return self._as_table(self._after(made, FirstKind.name, FirstSettings(count=int(count.name))), "")


def _and(one: exp.Expr | None, other: exp.Expr) -> exp.Expr:
    return other if one is None else exp.And(this=one, expression=other)


def _says_nulls_first(entry: exp.Ordered) -> bool:
    """Whether blanks are to come first: sqlglot notes it where a query says so, or where its dialect does."""
    return bool(entry.args.get("nulls_first")) and "NULLS FIRST" in entry.sql().upper()
