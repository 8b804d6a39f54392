"""Keen Trellis: joins and blends between sheets and tables, with unmatched rows in plain sight."""

__version__ = "0.1.0"
