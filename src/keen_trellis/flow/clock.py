"""The moment that is written into files, so that the same work can give the same bytes."""

from __future__ import annotations

import datetime as dt
import os

from keen_trellis.core.errors import UsageError

_EPOCH = "SOURCE_DATE_EPOCH"  # as reproducible-builds.org has it: seconds that stand for the clock's


def clock() -> dt.datetime:
    """The moment, in UTC; what SOURCE_DATE_EPOCH says where that is set. UsageError if it says none."""
    said = os.environ.get(_EPOCH)
    if not said:
        return dt.datetime.now(dt.UTC)
    try:
        return dt.datetime.fromtimestamp(int(said), dt.UTC)
    except (ValueError, OverflowError, OSError) as error:
        raise UsageError(
            f"{_EPOCH} is “{said}”, which is no number of seconds.", remedy="Set it anew, or not at all."
        ) from error
