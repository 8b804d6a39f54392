"""The command that all others belong to, and how their errors end."""

from __future__ import annotations

import signal
import threading
from typing import Any

import click

from keen_trellis import __version__
from keen_trellis.cli.saying import option_said, say
from keen_trellis.core.errors import Cancelled, TrellisError
from keen_trellis.flow.temporary import clear_left


def _stop_on(name: str) -> None:
    """Let a signal end a command as Ctrl+C does, cleaning up; it keeps what somebody else has set for it."""
    number = getattr(signal, name)
    in_main = threading.current_thread() is threading.main_thread()
    if in_main and signal.getsignal(number) is signal.SIG_DFL:
        signal.signal(number, signal.default_int_handler)


class _Command(click.Group):
    """Errors of ours become one line on standard error and the exit code of their kind."""

    def invoke(self, ctx: click.Context) -> Any:
        for name in ("SIGTERM", "SIGHUP"):
            _stop_on(name)
        clear_left()
        try:
            return super().invoke(ctx)
        except TrellisError as error:
            say(f"keen-trellis: {error}{option_said(error)}", err=True)
            ctx.exit(error.exit_code)
        except (Cancelled, KeyboardInterrupt):
            say("keen-trellis: stopped; nothing was left half written.", err=True)
            ctx.exit(1)
        except MemoryError:
            say(
                "keen-trellis: this machine's memory is not enough for it. Use fewer fields or rows.",
                err=True,
            )
            ctx.exit(7)


@click.group(cls=_Command, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="keen-trellis")
def main() -> None:
    """Joins between sheets and tables, with matched and unmatched rows in plain sight."""
