"""The documents name pictures that are there, and every picture is shown somewhere."""

import re
import unittest
from pathlib import Path

_HERE = Path(__file__).parents[1]
_GUIDE = _HERE / "src" / "keen_trellis" / "handbook" / "guide.md"
_LINK = re.compile(r"\]\(([^)#]+)(#[^)]*)?\)")


class Documents(unittest.TestCase):
    def test_every_link_leads_to_a_file(self):
        for document in (
            _HERE / "README.md",
            _HERE / "CONTRIBUTING.md",
            _GUIDE,
            *(_HERE / "docs").glob("*.md"),
        ):
            for target, _ in _LINK.findall(document.read_text()):
                with self.subTest(document=document.name, target=target):
                    self.assertTrue((document.parent / target).exists())

    def test_every_picture_is_in_the_readme_or_the_guide(self):
        pictures = {path.name for path in (_HERE / "docs" / "screenshots").glob("*.png")}
        self.assertLess(len(pictures), 20)
        told = (_HERE / "README.md").read_text() + _GUIDE.read_text()
        self.assertEqual({name for name in pictures if f"screenshots/{name}" not in told}, set())

    def test_the_guides_contents_lead_to_its_chapters(self):
        guide = _GUIDE.read_text()
        anchors = {
            re.sub(r"[^\w\- ]", "", heading.lower()).replace(" ", "-")
            for heading in re.findall(r"^## (.+)$", guide, re.MULTILINE)
        }
        self.assertEqual(
            set(re.findall(r"\]\(#([^)]+)\)", guide)), anchors & set(re.findall(r"#([\w\-]+)\)", guide))
        )


if __name__ == "__main__":
    unittest.main()
