"""Keen Trellis: joins and blends between sheets and tables, with unmatched rows in plain sight."""

import os

# NumPy's library for matrices starts a thread for each core, and these spin; nothing here multiplies any.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
