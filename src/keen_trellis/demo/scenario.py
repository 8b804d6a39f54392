"""Builds the demo's tables in memory from a fixed seed, and lists the trouble planted in them."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable
from typing import Any

import msgspec

from keen_trellis.demo import names

SEED = 2026
OBJECTS = 12_907
LOANS = 8_352
VISITOR_MONTHS = 12
Row = tuple[Any, ...]

# How many object numbers of the loans are written in each wrong way.
OTHER_CASE = 214
OUTER_SPACES = 194
OTHER_PUNCTUATION = 31
LETTER_FOR_ZERO = 6
BLANK = 5
OUTDATED = 4
NEVER_REGISTERED = 3
# How many labels there are, and on how many the maker's name is written in each wrong way.
LABELS = 640
NAME_IN_CAPITALS = 60
LAST_NAME_FIRST = 48
SLIP_OF_A_LETTER = 52
NO_SUCH_MAKER = 9

LOAN_FIELDS = ("Loan no", "Object no", "Venue", "Out date", "Back date", "Status", "Agreed value")
CURRENCY_MONTHS = (4, 9)
MONTH_WITH_A_FIELD_MORE = 7


class Planted(msgspec.Struct):
    """The trouble in the demo data, by what it is. Loans are named by loan no, objects by accession, labels
    by label no.  makers_meant: by label no the maker as the registry has it, of all labels that have one.
    """

    other_case: list[str] = msgspec.field(default_factory=list)
    outer_spaces: list[str] = msgspec.field(default_factory=list)
    other_punctuation: list[str] = msgspec.field(default_factory=list)
    letter_for_zero: list[str] = msgspec.field(default_factory=list)
    blank: list[str] = msgspec.field(default_factory=list)
    outdated: list[str] = msgspec.field(default_factory=list)
    never_registered: list[str] = msgspec.field(default_factory=list)
    renamed_venues: dict[str, str] = msgspec.field(default_factory=dict)
    loans_with_old_venue_name: list[str] = msgspec.field(default_factory=list)
    repeated_accessions: list[str] = msgspec.field(default_factory=list)
    parts_of_sets: int = 0
    currency_files: list[str] = msgspec.field(default_factory=list)
    file_with_a_field_more: str = ""
    rates_gap: tuple[int, int] = (0, 0)
    rates_overlap: tuple[int, int] = (0, 0)
    returned_but_not_lent: list[str] = msgspec.field(default_factory=list)
    returned_but_not_listed: list[str] = msgspec.field(default_factory=list)
    dates_that_disagree: list[str] = msgspec.field(default_factory=list)
    labels_in_capitals: list[str] = msgspec.field(default_factory=list)
    labels_last_name_first: list[str] = msgspec.field(default_factory=list)
    labels_with_a_slip: list[str] = msgspec.field(default_factory=list)
    labels_of_nobody: list[str] = msgspec.field(default_factory=list)
    makers_meant: dict[str, str] = msgspec.field(default_factory=dict)

    @property
    def only_after_case_and_outer_spaces(self) -> set[str]:
        """Loans that find their object only when case and outer spaces are ignored."""
        return {*self.other_case, *self.outer_spaces}

    @property
    def without_object(self) -> set[str]:
        """Loans that find no object although case and outer spaces are ignored."""
        return {
            *self.other_punctuation,
            *self.letter_for_zero,
            *self.blank,
            *self.outdated,
            *self.never_registered,
        }


class Scenario(msgspec.Struct):
    """All tables of the demo, headers not included, and what was planted in them.

    courier_logs: by month of 2026.  further_logs: by year and month.
    """

    venues: list[Row]
    regions: list[Row]
    makers: list[Row]
    objects: list[Row]
    valuations: list[Row]
    loans: list[Row]
    courier_logs: dict[int, list[Row]]
    cover_rates: list[Row]
    visitors: list[Row]
    opening_days: list[Row]
    returns: list[Row]
    labels: list[Row]
    planted: Planted
    loan_fields: tuple[str, ...] = LOAN_FIELDS
    further_logs: dict[str, list[Row]] = msgspec.field(default_factory=dict)


def build(seed: int = SEED) -> Scenario:
    """The whole scenario; the same for the same seed."""
    chance = random.Random(seed)
    planted = Planted()
    venues, regions = _venues(chance)
    makers = _makers(chance)
    objects = _objects(chance, makers, planted)
    loans = _loans(chance, venues, objects, planted)
    return Scenario(
        venues=venues,
        regions=regions,
        makers=makers,
        objects=objects,
        valuations=_valuations(chance, objects),
        loans=loans,
        courier_logs=_courier_logs(chance, venues, planted),
        cover_rates=_cover_rates(planted),
        visitors=_visitors(chance, venues),
        opening_days=[(venue[0], chance.randint(180, 340)) for venue in venues],
        returns=_returns(chance, loans, planted),
        # By a chance of its own, so that the other tables are what they were without it.
        labels=_labels(random.Random(seed + 2), objects, planted),
        planted=planted,
    )


def _person(chance: random.Random) -> str:
    return f"{chance.choice(names.FIRST_NAMES)} {chance.choice(names.LAST_NAMES)}"


def _keeper(chance: random.Random) -> str:
    return f"{chance.choice(names.FIRST_NAMES)[0]}. {chance.choice(names.LAST_NAMES)}"


def _venues(chance: random.Random) -> tuple[list[Row], list[Row]]:
    """Venue, short name, region, contact; and region, head of region, phone extension."""
    venues = []
    for number, place in enumerate(names.PLACES):
        whole = place if place.endswith("House") else f"{place} {names.KINDS_OF_VENUE[number % 6]}"
        venues.append((whole, place, names.REGIONS[number * 4 // len(names.PLACES)], _person(chance)))
    regions = [(region, _person(chance), 400 + number) for number, region in enumerate(names.REGIONS)]
    return venues, regions


def _makers(chance: random.Random) -> list[Row]:
    """Maker, born, trade."""
    found: dict[str, Row] = {"unknown": ("unknown", None, None)}
    trades = ("painter", "instrument maker", "sailmaker", "carver", "printer", "smith")
    while len(found) < 320:
        name = f"{chance.choice(names.FIRST_NAMES)} {chance.choice(names.LAST_NAMES)}"
        if name in found:
            name = f"{name} the {chance.choice(('elder', 'younger'))}"
        found[name] = (name, chance.randint(1640, 1975), chance.choice(trades))
    return list(found.values())


def _objects(chance: random.Random, makers: list[Row], planted: Planted) -> list[Row]:
    """Object id, accession, title, maker, part_of, keeper, made, store."""
    keepers = [_keeper(chance) for _ in range(9)]
    objects: list[Row] = []
    whole = ""
    for number in range(1, OBJECTS - 1):
        accession = f"LCM.{number:05d}"
        part_of = None
        if number % 97 == 1:
            whole = accession
        elif number % 97 <= 4 and whole:
            part_of = whole
            planted.parts_of_sets += 1
        elif number % 97 == 5 and whole:
            # A part of the part before it.
            part_of = f"LCM.{number - 1:05d}"
            planted.parts_of_sets += 1
        objects.append((number, accession, *_described(chance, makers, part_of, keepers)))
    for number, original in enumerate((388, 7_014), start=OBJECTS - 1):
        accession = f"LCM.{original:05d}"
        planted.repeated_accessions.append(accession)
        objects.append((number, accession, *_described(chance, makers, None, keepers)))
    return objects


def _described(chance: random.Random, makers: list[Row], part_of: str | None, keepers: list[str]) -> Row:
    title = f"{chance.choice(names.QUALITIES)} {chance.choice(names.THINGS)}"
    maker = chance.choice(makers)[0] if chance.random() < 0.6 else "unknown"
    made = chance.randint(1690, 1988) if chance.random() < 0.9 else None
    return (
        title,
        maker,
        part_of,
        chance.choice(keepers),
        made,
        f"{chance.choice('ABCDEF')}{chance.randint(1, 60)}",
    )


def _valuations(chance: random.Random, objects: list[Row]) -> list[Row]:
    """Valuation id, object id, valued on, value: none to four an object."""
    rows: list[Row] = []
    for entry in objects:
        value = chance.choice((40, 120, 300, 900, 2_500, 12_000)) * chance.uniform(0.7, 1.4)
        for _ in range(chance.choice((0, 1, 1, 1, 2, 3, 4))):
            day = dt.date(2014, 1, 1) + dt.timedelta(days=chance.randint(0, 4_300))
            rows.append(
                (len(rows) + 1, entry[0], day.isoformat(), round(value * chance.uniform(0.9, 1.3), 2))
            )
    return rows


def _loans(chance: random.Random, venues: list[Row], objects: list[Row], planted: Planted) -> list[Row]:
    """Loan no, object no, venue, out date, back date, status, agreed value."""
    # About half of the objects were ever lent; those twice in the register are among them.
    lendable = [entry[1] for entry in objects[: OBJECTS - 2] if chance.random() < 0.5]
    old_names = {"Ebbrick House": venues[19][0], "Tidewell Reading Room": venues[43][0]}
    planted.renamed_venues = old_names
    loans: list[list[Any]] = []
    for number in range(1, LOANS + 1):
        out = dt.date(2026, 1, 2) + dt.timedelta(days=int((number - 1) * 362 / LOANS))
        status = chance.choice(names.STATUSES)
        back = out + dt.timedelta(days=chance.randint(7, 180)) if status == "returned" else None
        venue = chance.choice(venues)[0]
        for old, new in old_names.items():
            if venue == new and number < LOANS / 3:
                venue = old
                planted.loans_with_old_venue_name.append(f"L-{number:04d}")
        value = round(chance.choice((60, 150, 400, 880, 3_100, 9_500)) * chance.uniform(0.6, 1.5), -1)
        loans.append([f"L-{number:04d}", chance.choice(lendable), venue, out, back, status, int(value)])
    for repeated, row in zip(planted.repeated_accessions, (40, 5_210), strict=True):
        loans[row][1] = repeated
    _spoil(chance, loans, planted)
    return [tuple(loan) for loan in loans]


def _spoil(chance: random.Random, loans: list[list[Any]], planted: Planted) -> None:
    """Write some object numbers another way, each row in one way only."""
    apart = set(planted.repeated_accessions)
    rows = [row for row, loan in enumerate(loans) if loan[1] not in apart]
    chance.shuffle(rows)

    def spoil(count: int, written: list[str], rewrite: Any) -> None:
        for _ in range(count):
            loan = loans[rows.pop()]
            loan[1] = rewrite(loan[1])
            written.append(loan[0])

    spoil(OTHER_CASE, planted.other_case, lambda code: code.lower())
    spoil(
        OUTER_SPACES, planted.outer_spaces, lambda code: chance.choice((f" {code}", f"{code} ", f"{code}  "))
    )
    spoil(
        OTHER_PUNCTUATION,
        planted.other_punctuation,
        lambda code: code.replace(".", chance.choice((" ", "-", "", " - "))),
    )
    # An O only where a 0 follows the dot, as a hand would write it.
    zeros = [row for row in rows if loans[row][1][4] == "0"]
    for row in zeros[:LETTER_FOR_ZERO]:
        rows.remove(row)
        loans[row][1] = loans[row][1].replace(".0", ".O", 1)
        planted.letter_for_zero.append(loans[row][0])
    spoil(BLANK, planted.blank, lambda _: None)
    spoil(OUTDATED, planted.outdated, lambda code: f"HM/{code[-3:]}/{chance.randint(60, 79)}")
    spoil(NEVER_REGISTERED, planted.never_registered, lambda _: f"LCM.{chance.randint(14_000, 14_900):05d}")


def _courier_logs(chance: random.Random, venues: list[Row], planted: Planted) -> dict[int, list[Row]]:
    """By month: venue's short name, date, crates, cost as text, and in one month a note."""
    logs: dict[int, list[Row]] = {}
    # One venue is served by boat and never stands in the couriers' logs.
    served = [venue[1] for venue in venues if venue[1] != "Seldom Cove"]
    for month in range(1, 13):
        rows: list[Row] = []
        for _ in range(chance.randint(390, 460)):
            date = dt.date(2026, month, chance.randint(1, 28))
            crates = chance.choice((1, 1, 1, 2, 2, 3, 4, 6))
            cost = f"{crates * chance.uniform(18, 34) + 12:.2f}"
            if month in CURRENCY_MONTHS:
                cost = f"£{cost}"
            row: Row = (chance.choice(served), date.isoformat(), crates, cost)
            if month == MONTH_WITH_A_FIELD_MORE:
                row += (chance.choice(("", "", "", "lift needed", "two porters")),)
            rows.append(row)
        logs[month] = sorted(rows, key=lambda row: row[1])
    planted.currency_files = [f"2026-{month:02d}.csv" for month in CURRENCY_MONTHS]
    planted.file_with_a_field_more = f"2026-{MONTH_WITH_A_FIELD_MORE:02d}.csv"
    return logs


def _cover_rates(planted: Planted) -> list[Row]:
    """Value from, value to, valid from, valid to, rate in per mille."""
    bands = [(0, 499), (500, 1_999), (2_000, 4_999), (5_200, 9_999), (9_500, 49_999)]
    planted.rates_gap = (5_000, 5_199)
    planted.rates_overlap = (9_500, 9_999)
    rows = []
    for half, (start, end) in enumerate((("2026-01-01", "2026-06-30"), ("2026-07-01", "2026-12-31"))):
        for step, (least, most) in enumerate(bands):
            rows.append((least, most, start, end, f"{1.2 + 0.35 * step + 0.1 * half:.2f}"))
    return rows


def _visitors(chance: random.Random, venues: list[Row]) -> list[Row]:
    """Venue, month as its first day, visitors."""
    rows = []
    for venue in venues:
        usual = chance.randint(200, 4_000)
        for month in range(1, VISITOR_MONTHS + 1):
            season = 1.6 if 5 <= month <= 9 else 0.7
            rows.append((venue[0], dt.date(2026, month, 1), int(usual * season * chance.uniform(0.8, 1.2))))
    return rows


def _returns(chance: random.Random, loans: list[Row], planted: Planted) -> list[Row]:
    """Loan no, object no, returned, condition: the venues' own list."""
    returned = [loan for loan in loans if loan[5] == "returned"]
    missing = set(chance.sample(range(len(returned)), 38))
    planted.returned_but_not_listed = [returned[row][0] for row in sorted(missing)]
    disagreeing = set(chance.sample([row for row in range(len(returned)) if row not in missing], 57))
    rows = []
    for row, loan in enumerate(returned):
        if row in missing:
            continue
        day = loan[4]
        if row in disagreeing:
            day += dt.timedelta(days=chance.choice((-7, -1, 1, 2, 30)))
            planted.dates_that_disagree.append(loan[0])
        rows.append((loan[0], loan[1] or "", day.isoformat(), chance.choice(names.CONDITIONS)))
    for number in range(21):
        loan_no = f"L-{LOANS + 40 + number}"
        planted.returned_but_not_lent.append(loan_no)
        rows.append(
            (loan_no, f"LCM.{chance.randint(1, OBJECTS):05d}", "2026-11-30", chance.choice(names.CONDITIONS))
        )
    chance.shuffle(rows)
    return rows


def _labels(chance: random.Random, objects: list[Row], planted: Planted) -> list[Row]:
    """Label no, title, maker as somebody typed the name."""
    shown = chance.sample([entry for entry in objects if " " in entry[3]], LABELS)
    rows = [[f"S-{number:03d}", entry[2], entry[3]] for number, entry in enumerate(shown, start=1)]
    planted.makers_meant = {row[0]: row[2] for row in rows}
    left = rows[:]
    chance.shuffle(left)

    def spoil(count: int, written: list[str], rewrite: Callable[[str], str]) -> None:
        for _ in range(count):
            row = left.pop()
            row[2] = rewrite(row[2])
            written.append(row[0])

    def last_name_first(name: str) -> str:
        first, last, *which = name.split(" ", 2)
        return " ".join((f"{last}, {first}", *which))

    def slip(name: str) -> str:
        at = chance.randrange(1, len(name.split(" ", 1)[0]))
        return chance.choice((name[:at] + name[at + 1 :], name[:at] + name[at - 1] + name[at:]))

    spoil(NAME_IN_CAPITALS, planted.labels_in_capitals, str.upper)
    spoil(LAST_NAME_FIRST, planted.labels_last_name_first, last_name_first)
    spoil(SLIP_OF_A_LETTER, planted.labels_with_a_slip, slip)
    spoil(NO_SUCH_MAKER, planted.labels_of_nobody, lambda _: chance.choice(names.WORKSHOPS))
    for label in planted.labels_of_nobody:
        del planted.makers_meant[label]
    return [tuple(row) for row in rows]
