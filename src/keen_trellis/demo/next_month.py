"""The demo's data a month later: what an analyst finds who refreshes, with everything that changed listed."""

from __future__ import annotations

import datetime as dt
import random
from typing import Any

import msgspec

from keen_trellis.demo import names
from keen_trellis.demo.scenario import LOANS, SEED, Row, Scenario

NEW_LOANS = 96
DROPPED_LOANS = 14
RETURNED_LOANS = 61
OBJECTS_TAKEN_OUT = 3
NOT_YET_REGISTERED = 4
NEW_FIELD = "Packed by"


class NextMonth(msgspec.Struct):
    """What changed. Loans are named by loan no, objects by accession.

    newly_without_object, newly_without_venue: loans that found a partner or were not there, and find none
    now.
    """

    new_loans: list[str] = msgspec.field(default_factory=list)
    dropped_loans: list[str] = msgspec.field(default_factory=list)
    returned_loans: list[str] = msgspec.field(default_factory=list)
    objects_taken_out: list[str] = msgspec.field(default_factory=list)
    newly_without_object: list[str] = msgspec.field(default_factory=list)
    renamed_venue: tuple[str, str] = ("", "")
    newly_without_venue: list[str] = msgspec.field(default_factory=list)
    new_field: str = NEW_FIELD


def next_month(scenario: Scenario, seed: int = SEED) -> tuple[Scenario, NextMonth]:
    """The scenario a month later, and what changed in it; the same for the same seed."""
    chance = random.Random(seed + 1)
    changed = NextMonth()
    objects = _without_some_objects(chance, scenario, changed)
    venues = _with_a_renamed_venue(chance, scenario, changed)
    loans = _other_loans(chance, scenario, changed)
    _list_the_newly_unmatched(scenario, loans, objects, venues, changed)
    # A field more, in the midst of the others.
    packers = [f"{name[0]}. {chance.choice(names.LAST_NAMES)}" for name in names.FIRST_NAMES[:6]]
    widened = [(*loan[:5], chance.choice(packers), *loan[5:]) for loan in loans]
    logs = {**scenario.courier_logs}
    moved = msgspec.structs.replace(
        scenario,
        objects=objects,
        venues=venues,
        loans=widened,
        loan_fields=(*scenario.loan_fields[:5], NEW_FIELD, *scenario.loan_fields[5:]),
        courier_logs=logs,
        further_logs={"2027-01": _january(chance, scenario)},
    )
    return moved, changed


def _without_some_objects(chance: random.Random, scenario: Scenario, changed: NextMonth) -> list[Row]:
    lent = {(loan[1] or "").strip().upper() for loan in scenario.loans}
    apart = set(scenario.planted.repeated_accessions)
    candidates = [row[1] for row in scenario.objects if row[1] in lent and row[1] not in apart]
    changed.objects_taken_out = sorted(chance.sample(candidates, OBJECTS_TAKEN_OUT))
    return [row for row in scenario.objects if row[1] not in changed.objects_taken_out]


def _with_a_renamed_venue(chance: random.Random, scenario: Scenario, changed: NextMonth) -> list[Row]:
    place = chance.randrange(4, 40)
    old = scenario.venues[place][0]
    new = f"{scenario.venues[place][1]} Heritage Centre"
    changed.renamed_venue = (old, new)
    return [(new, *row[1:]) if row[0] == old else row for row in scenario.venues]


def _other_loans(chance: random.Random, scenario: Scenario, changed: NextMonth) -> list[Row]:
    loans = list(scenario.loans)
    gone = sorted(chance.sample(range(len(loans)), DROPPED_LOANS))
    changed.dropped_loans = [loans[row][0] for row in gone]
    open_rows = [row for row, loan in enumerate(loans) if loan[5] == "open" and row not in gone]
    for row in sorted(chance.sample(open_rows, RETURNED_LOANS)):
        loan: list[Any] = list(loans[row])
        loan[4], loan[5] = dt.date(2027, 1, chance.randint(4, 28)), "returned"
        loans[row] = tuple(loan)
        changed.returned_loans.append(loan[0])
    loans = [loan for row, loan in enumerate(loans) if row not in set(gone)]
    registered = [row[1] for row in scenario.objects if row[1] not in changed.objects_taken_out]
    for number in range(NEW_LOANS):
        code = chance.choice(registered)
        if number % (NEW_LOANS // NOT_YET_REGISTERED) == 5:
            code = f"LCM.{chance.randint(15_000, 15_900):05d}"
        day = dt.date(2027, 1, 2) + dt.timedelta(days=number // 4)
        venue = chance.choice(scenario.venues)[0]
        venue = changed.renamed_venue[1] if venue == changed.renamed_venue[0] else venue
        loan_no = f"L-{LOANS + 1 + number:04d}"
        loans.append((loan_no, code, venue, day, None, "open", chance.choice((80, 150, 400, 3_100))))
        changed.new_loans.append(loan_no)
    return loans


def _list_the_newly_unmatched(
    scenario: Scenario, loans: list[Row], objects: list[Row], venues: list[Row], changed: NextMonth
) -> None:
    def without(loans: list[Row], known: set[str], place: int) -> set[str]:
        return {loan[0] for loan in loans if (loan[place] or "").strip().upper() not in known}

    was = without(scenario.loans, {row[1] for row in scenario.objects}, 1)
    now = without(loans, {row[1] for row in objects}, 1)
    changed.newly_without_object = sorted(now - was)
    was = without(scenario.loans, {row[0].upper() for row in scenario.venues}, 2)
    now = without(loans, {row[0].upper() for row in venues}, 2)
    changed.newly_without_venue = sorted(now - was)


def _january(chance: random.Random, scenario: Scenario) -> list[Row]:
    rows = []
    for _ in range(120):
        crates = chance.choice((1, 1, 2, 3))
        day = dt.date(2027, 1, chance.randint(1, 28))
        cost = f"{crates * chance.uniform(19, 35) + 12:.2f}"
        rows.append((chance.choice(scenario.venues)[1], day.isoformat(), crates, cost))
    return sorted(rows, key=lambda row: row[1])
