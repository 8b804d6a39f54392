"""Runs the command line as `python -m keen_trellis.cli`."""

from keen_trellis.cli import main

main()
