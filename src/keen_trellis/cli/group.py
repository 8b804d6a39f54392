"""The command that all others belong to, and how their errors end."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import import_module
from types import FrameType
from typing import Any

import click

from keen_trellis import __version__
from keen_trellis.cli.examples import EXAMPLES
from keen_trellis.cli.saying import option_said, say
from keen_trellis.core.errors import Cancelled, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow.temporary import clear_left

# The module of each command, imported when it is asked for.
_MODULES = {
    "answer": "reporting",
    "blend": "blending",
    "compare": "comparing",
    "completion": "at_home",
    "corrections": "correcting",
    "demo": "starting",
    "explain": "joining",
    "follow": "following",
    "from-sql": "from_sql",
    "hand-off": "handing_off",
    "install": "at_home",
    "look": "looking",
    "match": "joining",
    "open": "starting",
    "propose": "joining",
    "report": "reporting",
    "run": "running",
    "runs": "remembering",
    "sql": "to_sql",
    "uninstall": "at_home",
}
# How long work may take to its next checkpoint; what has none until then, such as a question, is interrupted.
_PATIENCE = 0.5  # seconds


@contextmanager
def _stopped_by_signals() -> Iterator[None]:
    """Let Ctrl+C, and what else asks a command to end, stop its work at the next checkpoint.

    An exception that is raised wherever the work happens to be may be lost (Python drops those in the
    callback of a weak reference), or leave threads that wait for each other. What somebody else has set for a
    signal stays.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return

    def stop(number: int, frame: FrameType | None) -> None:
        Task.stop_all()
        signal.setitimer(signal.ITIMER_REAL, _PATIENCE)

    def interrupt(number: int, frame: FrameType | None) -> None:
        if not Task.stop_was_heard():  # otherwise it is tidying up
            raise KeyboardInterrupt

    own: dict[signal.Signals, Any] = {signal.SIGALRM: interrupt}
    own |= dict.fromkeys((signal.SIGINT, signal.SIGTERM, signal.SIGHUP), stop)
    plain = (signal.SIG_DFL, signal.default_int_handler)
    before: dict[signal.Signals, Any] = {number: signal.getsignal(number) for number in own}
    for number, handler in own.items():
        if before[number] in plain:
            signal.signal(number, handler)
    try:
        yield
    finally:
        if Task().cancelled:
            signal.setitimer(signal.ITIMER_REAL, 0)
            Task.go_on()
        for number, handler in before.items():
            if handler in plain:
                signal.signal(number, handler)


def _write_examples(formatter: click.HelpFormatter, name: str) -> None:
    if examples := EXAMPLES.get(name):
        with formatter.section("Examples"):
            for example in examples:
                # Whole, however long: so that it can be copied.
                formatter.write(f"{'':>{formatter.current_indent}}keen-trellis {example}\n")


class _OneCommand(click.Command):
    """A command whose help ends with examples."""

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        _write_examples(formatter, self.name or "")


class _Command(click.Group):
    """Errors of ours become one line on standard error and the exit code of their kind."""

    command_class = _OneCommand

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_MODULES)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        # For a name that there is not, all of them: it is said which was meant.
        for module in {_MODULES[cmd_name]} if cmd_name in _MODULES else set(_MODULES.values()):
            import_module(f"keen_trellis.cli.{module}")
        return super().get_command(ctx, cmd_name)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        _write_examples(formatter, "")

    def invoke(self, ctx: click.Context) -> Any:
        clear_left()
        try:
            with _stopped_by_signals():
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
