"""The demo's flows by name, with what each of them shows. Loads nothing: the first page lists them."""

from __future__ import annotations

WINTER_LOANS = "Winter loans.trellis"

# In the order in which somebody new looks at them.
SAID: dict[str, str] = {
    WINTER_LOANS: "two joins, gaps filled, visitors blended in, written to a sheet",
    "Cost per visitor.trellis": "a blend of three tables, and a filter that does not reach all of them",
    "Sets.trellis": "a table joined with itself, from the part to the whole",
    "Cover.trellis": "a link by ranges: a value and a date between two others",
    "All couriers.trellis": "a folder of like files as one table, with what is odd in them",
    "Returns desk.trellis": "two lists compared: what is on one side only, and what disagrees",
    "Season report.trellis": "rows written into the workbook that a chart hangs on",
    "Region by region.trellis": "one flow run for each of three regions, by run values",
    "Labels.trellis": "names typed by hand matched on a ladder: equal first, those left by likeness",
    "Whole sets.trellis": "parts of parts followed up to the whole set",
    "Guarded loans.trellis": "what must hold on every refresh, and what is said when it does not",
}
