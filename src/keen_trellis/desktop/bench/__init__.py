"""The lower pane: rows, in bands for a knot."""
