import shlex
import unittest
from contextlib import chdir
from pathlib import Path
from tempfile import TemporaryDirectory

import click
from click.testing import CliRunner

from keen_trellis.cli import main
from keen_trellis.cli.examples import EXAMPLES
from keen_trellis.databases import secrets
from tests import demo_data, postgres


class Examples(unittest.TestCase):
    """What the help shows can be typed just so."""

    def test_each_command_has_some_and_they_work(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.enterContext(chdir(demo_data.copy(Path(place.name) / "demo")))
        names = main.list_commands(click.Context(main))
        for name in filter(None, EXAMPLES):
            said = CliRunner().invoke(main, [name, "--help"]).output
            self.assertIn("Examples:", said, name)
            for example in EXAMPLES[name]:
                self.assertIn(f"  keen-trellis {example}\n", said)
                words = shlex.split(example)
                if name == "open" or words == ["demo"]:
                    continue  # these open the window
                if name == "hand-off":
                    server = postgres.server()
                    secrets.remember(server.address(), postgres.PASSWORD)
                    words = [server.address() if "://" in word else word for word in words]
                result = CliRunner().invoke(main, words)
                self.assertEqual(result.exit_code, 0, (example, result.output))
        self.assertIn("Examples:", CliRunner().invoke(main, ["--help"]).output)
        self.assertEqual(set(EXAMPLES) - {""}, set(names))


if __name__ == "__main__":
    unittest.main()
