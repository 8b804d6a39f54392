"""Steps made of a query: a SELECT with joins becomes knots, filters, summaries and choices of fields."""

from keen_trellis.flow.from_sql.query import FromSql, parsed, steps_of
from keen_trellis.flow.from_sql.tables import finding

__all__ = ["FromSql", "finding", "parsed", "steps_of"]
