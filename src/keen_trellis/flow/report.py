"""The counts of a knot and what changed, as JSON and as lines of words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from keen_trellis.core.insight.reason import Kind, Reason, rows_said
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.match import MatchCounts
from keen_trellis.flow.wording import counted, nothing_wrong

if TYPE_CHECKING:
    from keen_trellis.core.blending import Blended
    from keen_trellis.flow.comparison import Comparison, KnotChange, OutputChange, SourceChange
    from keen_trellis.flow.guarding import Checked


def as_members(counts: MatchCounts, join_type: JoinType) -> dict[str, Any]:
    """The counts as the members of a JSON object."""
    return {
        "left_rows": counts.left_rows,
        "right_rows": counts.right_rows,
        "pairs": counts.pairs,
        "left_matched": counts.left_matched,
        "left_unmatched": counts.left_unmatched,
        "right_matched": counts.right_matched,
        "right_unmatched": counts.right_unmatched,
        "left_passed_over": counts.left_passed_over,
        "right_passed_over": counts.right_passed_over,
        "left_blank": counts.left_blank,
        "right_blank": counts.right_blank,
        "left_no_partner": counts.left_no_partner,
        "right_no_partner": counts.right_no_partner,
        "left_not_converted": counts.left_lost,
        "right_not_converted": counts.right_lost,
        "matched_as_written": counts.left_as_written,
        "cardinality": counts.cardinality,
        "rows_by_type": counts.rows_by_type(),
        "type": join_type.value,
        "result_rows": counts.rows_under(join_type),
    }


def blend_members(blended: Blended, names: Sequence[str]) -> dict[str, Any]:
    """What a blend came to, as the members of a JSON object. names: those of the other tables."""
    return {
        "result_rows": blended.table.rows,
        "fields": list(blended.table.names),
        "others": [
            {
                "name": name,
                "groups": found.summary.rows,
                "groups_used": int(found.used.sum()),
                "rows_found": found.rows_found,
                "rows_left_out": found.left_out,
                "no_partner": found.summary.no_partner,
            }
            for name, found in zip(names, blended.others, strict=True)
        ],
    }


def reason_members(reason: Reason) -> dict[str, Any]:
    """A reason as the members of a JSON object."""
    return {
        "kind": reason.kind.value,
        "side": reason.side,
        "rows": reason.rows,
        "values": reason.values,
        "said": reason.said,
        "examples": [{"value": e.value, "rows": e.rows, "other": e.other} for e in reason.examples],
        "mends": [
            {"said": m.said, "way": m.way.value, "gain": m.gain, "merged": m.merged} for m in reason.mends
        ],
        "clusters": [
            {"field": c.field, "value": c.value, "rows": c.rows, "all_rows": c.all_rows}
            for c in reason.clusters
        ],
    }


def guard_members(checks: Sequence[Checked]) -> list[dict[str, Any]]:
    """Guards that were checked, as the members of JSON objects."""
    return [
        {
            "step": entry.step,
            "guard": entry.verdict.guard,
            "statement": entry.statement,
            "holds": entry.holds,
            "said": entry.verdict.said,
            "side": entry.verdict.side,
            "rows": len(entry.verdict.rows),
        }
        for entry in checks
    ]


def reason_lines(reasons: Sequence[Reason], names: Mapping[str, str]) -> Iterator[str]:
    """Reasons as a person wants to read them. names: of the tables, by side."""
    for reason in reasons:
        if reason.kind is Kind.NOTHING_WRONG:
            said = nothing_wrong(names["left"], names["right"])
            yield f"{said[0].upper()}{said[1:]}: {counted(reason.rows, names['left'])}."
            continue
        rows = counted(reason.rows, names[reason.side])
        values = "1 value" if reason.values == 1 else f"{reason.values:,} values"
        yield f"{rows}{f', {values}' if reason.values else ''}: {reason.said}."
        if reason.examples:
            shown = (
                f"“{e.value}”{f' as “{e.other}”' if e.other else ''}{f' ({e.rows:,})' if e.rows > 1 else ''}"
                for e in reason.examples
            )
            yield f"  {', '.join(shown)}"
        for mend in reason.mends:
            warned = (
                f"; {mend.merged:,} values of the other side become one with another" if mend.merged else ""
            )
            gain = f", {'' if mend.way.takes_away else 'gains '}{rows_said(mend.gain)}" if mend.gain else ""
            gain += " fewer" if gain and mend.way.takes_away else ""
            yield f"  Mend: {mend.said}{gain}{warned}."
        for cluster in reason.clusters:
            yield (
                f"  {cluster.rows:,} of them have {cluster.value} in {cluster.field}, as have "
                f"{cluster.all_rows:,} in all."
            )


EDITED = "The flow itself was edited since: counts may differ for that alone."


def change_lines(comparison: Comparison) -> Iterator[str]:
    """What changed, one line a source, knot and output that is not as it was, and one for the flow itself."""
    if comparison.edited:
        yield EDITED
    for source in comparison.sources:
        if not source.is_unchanged:
            yield f"{source.name}: {source_words(source)}"
    for knot in comparison.knots:
        if not knot.is_unchanged:
            yield f"{knot.name}: {knot_words(knot)}"
    for output in comparison.outputs:
        if not output.is_unchanged:
            yield f"{output.name}: {output_words(output)}"


def source_words(source: SourceChange) -> str:
    """What changed in a source, in a sentence."""
    if source.error:
        return source.error
    parts = []
    if source.old:
        parts.append(f"could not be read; its rows are those from before ({source.old})")
    if source.changes is not None:
        found = source.changes
        rows = [f"{len(found.added):,} added"] if len(found.added) else []
        rows += [f"{len(found.gone):,} gone"] if len(found.gone) else []
        rows += [f"{len(found.changed[0]):,} changed"] if len(found.changed[0]) else []
        by_field = ", ".join(f"{name} in {count:,}" for name, count in found.by_field)
        said = f"{', '.join(rows)}{f' ({by_field})' if by_field else ''}" if rows else "the same rows"
        parts.append(f"{counted(found.rows_after, source.name)}, {said}")
    elif source.before_rows is not None and source.after_rows is not None:
        parts.append(f"{counted(source.before_rows, source.name)} before, {source.after_rows:,} now")
    elif source.after_rows is not None:
        parts.append(f"{counted(source.after_rows, source.name)}, read for the first time")
    return "; ".join([*parts, *(str(change) for change in source.fields)])


def knot_words(knot: KnotChange) -> str:
    """What changed at a knot, in a sentence."""
    if knot.error or knot.after is None:
        return knot.error
    left, right = knot.sides
    after, parts = knot.after, []
    if knot.before is None:
        return f"{after.left_matched:,} of {counted(after.left_rows, left)} found a partner"
    before = knot.before
    for one, now, what in (
        (before.left_matched, after.left_matched, f"matched {left}"),
        (before.left_unmatched, after.left_unmatched, f"unmatched {left}"),
        (before.right_unmatched, after.right_unmatched, f"unmatched {right}"),
        (before.left_passed_over, after.left_passed_over, f"{left} passed over"),
        (before.right_passed_over, after.right_passed_over, f"{right} passed over"),
        (before.pairs, after.pairs, "pairs"),
        (before.result_rows, after.result_rows, "rows in the result"),
    ):
        if one != now:
            parts.append(f"{now:,} {what}, was {one:,}")
    newly = [
        f"{counted(entry.rows, name)} newly without a partner"
        for name, entry in zip(knot.sides, knot.newly.values(), strict=False)
        if entry.rows
    ]
    return "; ".join([*newly, *parts])


def output_words(output: OutputChange) -> str:
    """What changed for an output, in a sentence."""
    if output.error:
        return output.error
    if output.before is None:
        return f"{output.after:,} rows"
    return f"{output.before:,} rows before, {output.after:,} now"
