"""The command line: the same core without a window. Each module has some of the commands."""

from keen_trellis.cli import (
    at_home,
    blending,
    comparing,
    correcting,
    following,
    from_sql,
    handing_off,
    joining,
    looking,
    remembering,
    reporting,
    running,
    starting,
    to_sql,
)
from keen_trellis.cli.group import main

__all__ = [
    "at_home",
    "blending",
    "comparing",
    "correcting",
    "following",
    "from_sql",
    "handing_off",
    "joining",
    "looking",
    "main",
    "remembering",
    "reporting",
    "running",
    "starting",
    "to_sql",
]
