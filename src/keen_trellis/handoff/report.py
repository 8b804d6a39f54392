"""What a hand-off came to, in words and as the members of a JSON object."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec
from rich.filesize import decimal as size_said

from keen_trellis.flow.wording import counted, listed
from keen_trellis.handoff.proving import Compared, Proof
from keen_trellis.handoff.restricting import BUCKETS
from keen_trellis.handoff.running import KnotThere, Ran
from keen_trellis.handoff.whole import Done

# What the parts of the work are called where their seconds are told.
_PARTS = {
    "looking": "looking",
    "sources": "taking the sources",
    "preparing": "preparing link values",
    "steps": "computing",
    "counting": "counting",
}


def lines(done: Done) -> Iterator[str]:
    """A hand-off as a person wants to read it."""
    yield f"{done.flow} at {done.place}, {done.began:%Y-%m-%d %H:%M} UTC."
    if done.proof is not None:
        yield from _proof_lines(done.proof)
    elif done.ran is not None:
        yield "It was not proven that it comes to the same there and here."
    if done.ran is not None:
        yield "All rows:"
        yield from _ran_lines(done.ran)
    for name, rows in done.kept:
        yield f"Made the table {name} there: {counted(rows, 'rows')}."
    if done.guarded:
        yield f"The guards of {listed(list(done.guarded), 6)} were not checked there."


def _ran_lines(ran: Ran) -> Iterator[str]:
    for source in ran.sources:
        more = "".join(f"; {remark}" for remark in source.remarks)
        yield f"  {source.name}: {counted(source.rows, 'rows')}, {source.how}{more}."
    for knot in ran.knots:
        yield f"  {_knot_line(knot)}"
    for step in ran.steps:
        yield f"  {step.name}: {counted(step.rows, 'rows')} in {step.seconds:.2f} s."
    took = ", ".join(f"{_PARTS[part]} {seconds:.2f} s" for part, seconds in ran.seconds.items())
    yield f"  {took[:1].upper()}{took[1:]}; {size_said(ran.sent)} sent, {size_said(ran.fetched)} fetched."


def _knot_line(knot: KnotThere) -> str:
    counts = knot.there
    said = (
        f"{knot.name}: {counted(counts.pairs, 'pairs')}; {knot.left}: {counts.left_matched:,} matched, "
        f"{counts.left_unmatched:,} unmatched; {knot.right}: {counts.right_matched:,} matched, "
        f"{counts.right_unmatched:,} unmatched"
    )
    if counts.left_passed_over or counts.right_passed_over:
        said += f"; passed over {counts.left_passed_over:,} and {counts.right_passed_over:,}"
    if knot.here is None:
        return f"{said}."
    if not knot.differs:
        return f"{said}; the same here."
    own, other = msgspec.structs.asdict(knot.there), msgspec.structs.asdict(knot.here)
    apart = (f"{name.replace('_', ' ')} {other[name]:,} here" for name in own if own[name] != other[name])
    return f"{said}; otherwise here: {', '.join(apart)}."


def _proof_lines(proof: Proof) -> Iterator[str]:
    yield proof.statement
    yield from (f"  {remark}" for remark in proof.restricted.remarks)
    for knot in proof.ran.knots:
        if knot.differs:
            yield f"  {_knot_line(knot)}"
    if proof.differs is not None:
        yield from _difference_lines(proof.differs)


def _difference_lines(entry: Compared) -> Iterator[str]:
    yield f"  {', '.join(entry.fields)}"
    for where, rows in (("only here", entry.only_here), ("only there", entry.only_there)):
        for row in rows:
            cells = ", ".join("(blank)" if cell is None else cell for cell in row)
            yield f"  {where}: {cells}"


def members(done: Done) -> dict[str, Any]:
    """A hand-off as the members of a JSON object."""
    return {
        "flow": done.flow,
        "place": done.place,
        "began": f"{done.began:%Y-%m-%dT%H:%M:%SZ}",
        "proof": _proof_members(done.proof) if done.proof is not None else None,
        "whole": _ran_members(done.ran) if done.ran is not None else None,
        "tables": [{"table": name, "rows": rows} for name, rows in done.kept],
        "guards_not_checked": list(done.guarded),
    }


def _proof_members(proof: Proof) -> dict[str, Any]:
    found = {
        "equal": proof.equal,
        "said": proof.statement,
        "buckets": {"taken": proof.buckets, "of": BUCKETS},
        "chosen": {
            name: {"field": entry.key.field, "by": "values of chosen rows" if entry.of else "buckets"}
            for name, entry in proof.restricted.by.items()
        },
        "not_complete": proof.restricted.remarks,
        "outputs": [_compared_members(entry) for entry in proof.outputs],
        **_ran_members(proof.ran),
    }
    if proof.differs is not None:
        found["differs"] = {
            **_compared_members(proof.differs),
            "fields": proof.differs.fields,
            "only_here": proof.differs.only_here,
            "only_there": proof.differs.only_there,
        }
    return found


def _compared_members(entry: Compared) -> dict[str, Any]:
    return {
        "step": entry.step,
        "name": entry.name,
        "rows_here": entry.rows_here,
        "rows_there": entry.rows_there,
        "equal": entry.equal,
        "same_order": entry.in_order,
    }


def _ran_members(ran: Ran) -> dict[str, Any]:
    return {
        "sources": [
            {
                "step": entry.step,
                "name": entry.name,
                "rows": entry.rows,
                "how": entry.how,
                "remarks": list(entry.remarks),
            }
            for entry in ran.sources
        ],
        "knots": [
            {
                "step": knot.step,
                "name": knot.name,
                "left": knot.left,
                "right": knot.right,
                "there": msgspec.structs.asdict(knot.there),
                "here": None if knot.here is None else msgspec.structs.asdict(knot.here),
            }
            for knot in ran.knots
        ],
        "steps": [
            {
                "step": entry.step,
                "name": entry.name,
                "port": entry.port,
                "rows": entry.rows,
                "seconds": round(entry.seconds, 3),
            }
            for entry in ran.steps
        ],
        "seconds": {part: round(seconds, 3) for part, seconds in ran.seconds.items()},
        "bytes": {"sent": ran.sent, "fetched": ran.fetched},
    }
