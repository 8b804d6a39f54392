"""The match report: what a flow came to, as a page, on paper and as a workbook."""
