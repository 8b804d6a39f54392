"""The kinds of step, one module each. A new kind is a new module and a line here."""

from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.registry import Registry

KINDS = Kinds(
    Registry(
        "keen_trellis.flow.steps",
        {
            "source": "source.SourceKind",
            "choose": "choose.ChooseKind",
            "filter": "filter.FilterKind",
            "compute": "compute.ComputeKind",
            "mend-text": "mend_text.MendTextKind",
            "correct": "correct.CorrectKind",
            "split": "split.SplitKind",
            "split-rows": "split_rows.SplitRowsKind",
            "columns-to-rows": "columns_to_rows.ColumnsToRowsKind",
            "rows-to-columns": "rows_to_columns.RowsToColumnsKind",
            "combine": "combine.CombineKind",
            "fill": "fill.FillKind",
            "sort": "sort.SortKind",
            "distinct": "distinct.DistinctKind",
            "first": "first.FirstKind",
            "number-rows": "number_rows.NumberRowsKind",
            "walk": "walk.WalkKind",
            "union": "union.UnionKind",
            "beside": "beside.BesideKind",
            "join": "join.JoinKind",
            "blend": "blend.BlendKind",
            "summarise": "summarise.SummariseKind",
            "shared-filter": "shared_filter.SharedFilterKind",
            "output": "output.OutputKind",
        },
    )
)
