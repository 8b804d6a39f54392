"""The commands that make the program at home on the user's desktop, and take it away again."""

from __future__ import annotations

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import say

_SHELLS = ("bash", "zsh", "fish")


@main.command()
def install() -> None:
    """Put the command, its icon and file type, and completions for shells into your own folders.

    Nothing outside your home folder is touched; uninstall takes all of it away.
    """
    from keen_trellis.home import installing

    folders = installing.Folders.of()
    completions = {shell: _completion(shell) for shell in _SHELLS}
    for path in installing.install(folders, installing.this_command(), completions):
        say(path)
    say(f"A double click on a flow opens it now. For zsh, put {folders.data}/zsh/site-functions into fpath.")


@main.command()
def uninstall() -> None:
    """Take away what install put into your folders; your flows and settings stay."""
    from keen_trellis.home import installing

    gone, left = installing.uninstall(installing.Folders.of())
    for path in gone:
        say(path)
    for path in left:
        say(f"keen-trellis: {path} was changed since and is left.", err=True)
    if not gone and not left:
        say("Nothing was installed.")


@main.command()
@click.argument("shell", type=click.Choice(_SHELLS))
def completion(shell: str) -> None:
    """Print what lets SHELL complete this command."""
    click.echo(_completion(shell))


def _completion(shell: str) -> str:
    from click.shell_completion import get_completion_class

    found = get_completion_class(shell)
    assert found is not None
    return found(main, {}, "keen-trellis", "_KEEN_TRELLIS_COMPLETE").source()
