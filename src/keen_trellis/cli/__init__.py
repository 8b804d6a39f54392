"""The command line: the same core without a window. Each module has some of the commands."""

from keen_trellis.cli.group import main

__all__ = ["main"]
