import json
import stat
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import jsonschema
import pyarrow as pa

from keen_trellis.core.errors import FlowFileError
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.table import Field
from keen_trellis.flow import edits, shared_filters
from keen_trellis.flow.file_format import dump, load, parse, save
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.choose import ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.columns_to_rows import ColumnsToRowsSettings
from keen_trellis.flow.steps.combine import CombineSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.correct import CorrectSettings
from keen_trellis.flow.steps.distinct import DistinctSettings, KeySettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.first import FirstSettings
from keen_trellis.flow.steps.join import (
    JoinSettings,
    LikeSettings,
    LinkSettings,
    MergeSettings,
    RungSettings,
)
from keen_trellis.flow.steps.mend_text import ActionSettings, MendTextSettings
from keen_trellis.flow.steps.number_rows import AddedSettings, NumberRowsSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.rows_to_columns import RowsToColumnsSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.steps.split import SplitSettings
from keen_trellis.flow.steps.split_rows import SplitRowsSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.flow.steps.walk import WalkSettings
from keen_trellis.flow.unread import unread
from tools import schema

_SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "flow.schema.json").read_text())


NUMBERS = (AddedSettings("no", "row-number"), AddedSettings("Note of the row before", "before", "Note"))


def rail_settings():
    """Settings of each kind of step on a rail, over the fields Object no and Venue."""
    venue = FillSettings(fields=("Venue",), types=("date",), but=("Day",), of="?", gaps="blank")
    return [
        ("choose", ChooseSettings(fields=(ChosenSettings("Venue", "Place", "text"),), dropped=("Note",))),
        ("filter", FilterSettings(conditions=(ConditionSettings("Venue", "one-of", ("Pier", "Mill")),))),
        ("compute", ComputeSettings(field="long", expression="CHAR_LENGTH(Venue) > 10")),
        ("mend-text", MendTextSettings(fields=("Venue",), actions=(ActionSettings("replace", "a", "b"),))),
        ("correct", CorrectSettings(fields=("Venue",), pairs=(("Quay", "Pier"),))),
        ("split", SplitSettings(of="Object no", between=".", into=("collection", "number"))),
        ("number-rows", NumberRowsSettings(added=NUMBERS, within=("Venue",), by=(SortKeySettings("Note"),))),
        ("rows-to-columns", RowsToColumnsSettings(of="Venue", columns=("Quay", "Mill"), keys=("Note",))),
        ("walk", WalkSettings(part="Note", whole="Venue", path_field="", bring=("Venue",), top_down=True)),
        ("split-rows", SplitRowsSettings(of="Venue", between="u", number="part")),
        ("columns-to-rows", ColumnsToRowsSettings(of=("Venue", "Note"), name_field="of", no_blanks=True)),
        ("combine", CombineSettings(of=("Venue", "Object no"), into="both", between=" / ")),
        ("fill", FillStepSettings((venue,))),
        ("sort", SortSettings((SortKeySettings("Venue", descending=True, blanks_first=True),))),
        (
            "distinct",
            DistinctSettings(keys=(KeySettings("Venue", ("case",)),), keep="last", blanks_stay=True),
        ),
        (
            "first",
            FirstSettings(count=1, by=(SortKeySettings("Venue"),), each=("Venue",), with_ties=True),
        ),
    ]


def some_flow(folder: Path) -> Flow:
    flow, loans = edits.add_source(
        Flow(), SourceSettings("workbook", str(folder / "data" / "loans.xlsx"), "Loans"), "Loans"
    )
    flow, objects = edits.add_source(
        flow, SourceSettings("sqlite", str(folder.parent / "registry.sqlite"), "objects"), "Objects"
    )
    links = (
        LinkSettings("Object no", "accession", ("case", "accents"), correct=(("O", "0"),)),
        LinkSettings("Städte, „quoted“", "UPPER(b)", (), ">=", "text", right_is_expression=True),
    )
    settings = JoinSettings(
        links=links,
        type="full-anti",
        bring=("title",),
        any_of=True,
        take="least:year",
        merge=(MergeSettings("note", "right"),),
        partner_found=True,
        side=True,
        rungs=(
            RungSettings(links=(LinkSettings("a", "b", like=LikeSettings(90.0, best=True)),), review=True),
        ),
        matched_by=True,
        score=True,
    )
    flow, knot = edits.add_join(flow, Input(loans), Input(objects), settings)
    measure = BlendMeasure("total", "sum", "cost", "spread", "value")
    blended = BlendSettings(
        others=(OtherSettings((LinkSettings("a", "b"),), (measure,), "cost > 1"),), keep="found"
    )
    flow, blend = edits.add_step(flow, "blend", "Blended", [Input(knot), Input(objects)], blended)
    summary = SummariseSettings(keys=("a",), measures=(MeasureSettings("rows", "count"),))
    flow, _ = edits.add_step(flow, "summarise", "By a", [Input(blend, "unused:1")], summary)
    for kind, on_rail in rail_settings():
        flow, _ = edits.insert_after(flow, Input(loans), kind, on_rail)
    stacked = UnionSettings(by_position=True, mixed_as_text=True, rail_field="rail")
    flow, _ = edits.add_step(flow, "union", "All", [Input(loans), Input(objects), Input(knot)], stacked)
    flow, _ = edits.add_beside(flow, Input(loans), Input(objects))
    flow = edits.annotate(
        edits.skip(flow, "sort-by-venue", skipped=True), "sort-by-venue", "not now\nperhaps"
    )
    shapes = {objects: InputShape("Objects", (Field("Venue", pa.large_string(), objects),))}
    places = shared_filters.places_for(flow, "venue", shapes)
    flow, shared = shared_filters.add_filter(flow, "Venue", places, Comparison.ONE_OF)
    flow = shared_filters.change_filter(flow, shared, values=("Pier",), apart=(loans,))
    flow, _ = edits.add_output(
        flow, Input(knot, "unmatched_left"), OutputSettings("text", str(folder / "left.csv"), harmless=False)
    )
    return edits.add_file(flow, str(folder / "other.csv"))


class FileFormat(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name) / "flows"
        self.folder.mkdir()
        self.path = self.folder / "Winter loans.trellis"

    def test_a_flow_comes_back_as_it_was_saved(self):
        flow = some_flow(self.folder)
        save(flow, self.path, KINDS)
        self.assertEqual(load(self.path, KINDS), flow)

    def test_saving_again_changes_no_byte(self):
        save(some_flow(self.folder), self.path, KINDS)
        first = self.path.read_bytes()
        save(load(self.path, KINDS), self.path, KINDS)
        self.assertEqual(self.path.read_bytes(), first)

    def test_the_schema_describes_what_is_written(self):
        for flow in (Flow(), some_flow(self.folder)):
            jsonschema.validate(json.loads(dump(flow, self.folder, KINDS)), _SCHEMA)
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate(
                {"format": "keen-trellis/1", "steps": [{"id": "x", "kind": "join", "name": "x"}]}, _SCHEMA
            )

    def test_paths_are_relative_to_the_file(self):
        members = json.loads(dump(some_flow(self.folder), self.folder, KINDS))
        self.assertEqual(members["files"], ["data/loans.xlsx", "../registry.sqlite", "other.csv"])
        self.assertEqual(members["steps"][0]["settings"]["path"], "data/loans.xlsx")
        self.assertNotIn(str(self.folder), json.dumps(members))

    def test_a_flow_saved_elsewhere_still_names_the_same_files(self):
        elsewhere = self.folder / "deep" / "er"
        elsewhere.mkdir(parents=True)
        flow = some_flow(self.folder)
        save(flow, elsewhere / "copy.trellis", KINDS)
        self.assertEqual(load(elsewhere / "copy.trellis", KINDS), flow)

    def test_one_logical_item_a_line(self):
        lines = dump(some_flow(self.folder), self.folder, KINDS).decode().splitlines()
        written = '"left": "Object no", "right": "accession", "ignore": ["case", "accents"]'
        self.assertIn(f'          {{{written}, "correct": [["O", "0"]]}},', lines)
        self.assertIn('        {"step": "loans", "port": "rows"},', lines)

    def test_what_is_unknown_is_kept_to_the_letter(self):
        content = b"""{"format": "keen-trellis/1.4", "colour": {"a": 1.0e0, "b": [1, 2.50]}, "files": [],
            "steps": [{"id": "s", "kind": "sculpt", "name": "S", "speed": 1E+2,
                       "settings": {"path": "x", "n": 1.10}},
                      {"id": "t", "kind": "source", "name": "T",
                       "settings": {"reader": "text", "path": "t.csv", "glow": 0.10}}]}"""
        flow = parse(content, self.folder, KINDS)
        changed = edits.change_settings(flow, "t", SourceSettings("text", str(self.folder / "u.csv")))
        for written in (dump(flow, self.folder, KINDS).decode(), dump(changed, self.folder, KINDS).decode()):
            for kept in (
                '"colour": {"a": 1.0e0, "b": [1, 2.50]}',
                '"speed": 1E+2',
                '"n": 1.10',
                '"glow": 0.10',
            ):
                self.assertIn(kept, written)
        said = [str(entry) for entry in unread(flow, KINDS)]
        self.assertEqual(
            [entry.split(" is not")[0] for entry in said], ["“colour”", "S: “speed”", "T: “glow”"]
        )
        self.assertIn('"path": "u.csv"', dump(changed, self.folder, KINDS).decode())

    def test_what_is_not_read_is_named_with_what_it_may_mean(self):
        content = b"""{"format": "keen-trellis/1",
            "filters": [{"id": "f", "name": "Region", "vales": ["North"]}],
            "steps": [{"id": "s", "kind": "summarise", "name": "S", "skiped": true,
                       "settings": {"key": ["a"],
                                    "measures": [{"name": "n", "function": "sum", "off": "x"}]}},
                      {"id": "j", "kind": "join", "name": "J", "settings": {"type": "inner", "links": [
                        {"left": "a", "right": "b"}, {"left": "a", "right": "b", "operatr": "<"}]}},
                      {"id": "t", "kind": "source", "name": "T",
                       "settings": {"reader": "text", "path": "t.csv", "layout": {"heder": 2}}}]}"""
        flow = parse(content, self.folder, KINDS)
        found = [(entry.name, entry.member, entry.near) for entry in unread(flow, KINDS)]
        self.assertEqual(
            found,
            [
                ("Region", "vales", "values"),
                ("S", "skiped", "skipped"),
                ("S", "key", "keys"),
                ("S", "measures 1: off", "of"),
                ("J", "links 2: operatr", "operator"),
                ("T", "layout: heder", "header"),
            ],
        )
        self.assertEqual(
            dump(parse(dump(flow, self.folder, KINDS), self.folder, KINDS), self.folder, KINDS),
            dump(flow, self.folder, KINDS),
        )
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate(json.loads(content), _SCHEMA)
        self.assertEqual(unread(some_flow(self.folder), KINDS), [])

    def test_the_schema_is_the_one_that_the_settings_make(self):
        self.assertEqual(_SCHEMA, schema.schema(), "./trellis schema makes it anew")
        words = json.loads(schema.WORDS.read_text())
        words["settings"]["JoinSettings"]["lniks"] = {"description": "No setting is called so."}
        odd = self.folder / "words.json"
        odd.write_text(json.dumps(words))
        with mock.patch.object(schema, "WORDS", odd), self.assertRaisesRegex(ValueError, "lniks"):
            schema.schema()

    def test_an_input_with_a_member_more_is_refused(self):
        step = '{"id": "a", "kind": "filter", "name": "A", "inputs": [{"step": "b", "prot": "matched"}]}'
        self.refused(f'{{"format": "keen-trellis/1", "steps": [{step}]}}', "Input 1 of A.*“prot”")

    def refused(self, content: str, words: str):
        self.path.write_text(content)
        with self.assertRaisesRegex(FlowFileError, words) as caught:
            load(self.path, KINDS)
        self.assertIn(str(self.path), str(caught.exception))
        self.assertEqual(caught.exception.exit_code, 6)

    def test_broken_json_is_refused_with_its_line(self):
        self.refused('{\n  "format": "keen-trellis/1",\n  "steps": [,]\n}', "line 3")

    def test_other_json_is_refused(self):
        self.refused('{"steps": []}', "not a flow")
        self.refused("[1, 2]", "is not valid")
        self.refused('{"format": "something/1"}', "not a flow")

    def test_a_newer_major_format_is_refused(self):
        self.refused('{"format": "keen-trellis/2"}', "newer version")

    def test_steps_that_are_none_are_refused(self):
        self.refused('{"format": "keen-trellis/1", "steps": [{"id": 1, "kind": "join"}]}', "Step 1")
        self.refused(
            '{"format": "keen-trellis/1", "steps": [{"id": "a", "kind": "x", "name": "A"},'
            ' {"id": "a", "kind": "x", "name": "B"}]}',
            "Two steps have the id",
        )

    def test_a_circle_is_refused(self):
        step = '{{"id": "{}", "kind": "x", "name": "{}", "inputs": [{{"step": "{}"}}]}}'
        steps = f"[{step.format('a', 'A', 'b')}, {step.format('b', 'B', 'a')}]"
        self.path.write_text(f'{{"format": "keen-trellis/1", "steps": {steps}}}')
        with self.assertRaisesRegex(Exception, "circle"):
            load(self.path, KINDS)

    def test_a_missing_file_is_refused(self):
        with self.assertRaisesRegex(FlowFileError, "cannot be opened"):
            load(self.folder / "gone.trellis", KINDS)

    def test_a_failed_save_leaves_the_old_file_and_nothing_else(self):
        save(Flow(), self.path, KINDS)
        before = self.path.read_bytes()
        with (
            mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")),
            self.assertRaisesRegex(FlowFileError, "No space left"),
        ):
            save(some_flow(self.folder), self.path, KINDS)
        self.assertEqual(self.path.read_bytes(), before)
        self.assertEqual(list(self.folder.iterdir()), [self.path])

    def test_saving_keeps_the_files_rights(self):
        save(Flow(), self.path, KINDS)
        self.path.chmod(0o640)
        save(some_flow(self.folder), self.path, KINDS)
        self.assertEqual(stat.S_IMODE(self.path.stat().st_mode), 0o640)


if __name__ == "__main__":
    unittest.main()
